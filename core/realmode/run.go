// Package realmode runs boot code in a small model of a PC in real mode, to see
// what it does: which sectors it reads, which of them it passes control to, and
// what it says on the screen. The model is bounded: it holds one mebibyte of
// memory, one disk and the few firmware services that boot code calls.
package realmode

import (
	"errors"
	"io"
)

// End is how a run ended.
type End string

// The ends.
const (
	PassesOn  End = "passes on"    // control went to sectors that the code loaded
	HandsBack End = "hands back"   // INT 18h: the firmware has its turn again
	Halts     End = "halts"        // it stops for good
	Waits     End = "waits"        // it waits for a key
	Round     End = "goes round"   // nothing changes any more: it never ends
	Goes      End = "goes on"      // it was still running at the bound
	Lacks     End = "lacks"        // it reads sectors that are not in evidence
	Unknown   End = "not modelled" // an instruction or service that the model lacks
)

// Run is what boot code did.
type Run struct {
	End    End
	Output string // what it wrote on the screen and the serial port
	Reads  []Read // where it lacks evidence, the last is the one that lacks it
	// Sector and Offset say which loaded sector control went to, and where in it.
	Sector uint64
	Offset int
	Why    string // what ended the run, for an End that is not modelled or lacks evidence
	Steps  int    // instructions
	// Empty is set when control went to a sector that holds no code.
	Empty bool
	// Then is what the code did that control went to; nil when it went nowhere.
	Then *Run
	// ByGeometry is set when it comes to something else where the firmware presents the disk
	// with other heads and sectors: it reads by them.
	ByGeometry bool
}

// Settled reports whether the run tells what the code does.
func (r *Run) Settled() bool { return r.End != Lacks && r.End != Unknown }

// Read is a read of the disk.
type Read struct {
	Sector  uint64
	Count   int
	Address int // linear address in memory
	Failed  bool
}

// Disk is what boot code reads.
type Disk interface {
	io.ReaderAt
	Sectors() uint64
	SectorSize() int
}

// Bounds of a run.
const (
	maxSteps  = 1_000_000 // of sector 0: code for GPT disks goes through all entries, some 600,000
	maxAlone  = 400_000   // of a partition's boot sector by itself
	maxWork   = 1 << 20   // of string instructions
	maxReads  = 256
	maxOutput = 4096
)

// bootAt is where the firmware loads sector 0. Common practice.
const bootAt = 0x7C00

// Execute runs the code of a boot sector as legacy firmware does: at 0:7C00 with
// the drive's number in DL. It follows the code to the first sector that it
// passes control to, and runs that too. lacks tells a read of what the evidence
// does not hold from one that fails on the disk.
func Execute(sector []byte, d Disk, lacks func(error) bool) Run {
	return bothWays(d, lacks, func(c *cpu) Run {
		for i, b := range sector {
			c.put(bootAt+i, b, 0)
		}
		first := c.follow(maxSteps)
		if first.End == PassesOn {
			first.Empty = c.empty(first.Offset)
			c.own(first.Offset)
			c.run = Run{}
			then := c.follow(maxAlone)
			first.Then = &then
		}
		return first
	})
}

// bothWays runs code as the firmware usually presents the disk, and where it reads by
// cylinder, head and sector in another way too.
func bothWays(d Disk, lacks func(error) bool, run func(*cpu) Run) Run {
	as := func(g geometry) (Run, bool) {
		c := newCPU(d, lacks)
		defer c.release()
		c.geo = g
		r := run(c)
		return r, c.byPlace
	}
	first, byPlace := as(usual)
	if byPlace {
		other, _ := as(small)
		first.ByGeometry = !first.same(&other)
	}
	return first
}

// same reports whether two runs come to the same.
func (r *Run) same(o *Run) bool {
	if r == nil || o == nil {
		return r == o
	}
	return r.End == o.End && r.Sector == o.Sector && r.Offset == o.Offset && r.Output == o.Output && r.Then.same(o.Then)
}

// recordAt is where boot code that runs the active partition keeps the partition's record
// for the code that it passes control to: in its own copy at 0:0600, with DS:SI at it.
// Common practice.
const recordAt = 0x7BE

// ExecutePartition runs a partition's boot sector as the standard boot code does, which
// passes it the partition's record of 16 bytes.
func ExecutePartition(sector, record []byte, d Disk, lacks func(error) bool) Run {
	return bothWays(d, lacks, func(c *cpu) Run {
		for i, b := range sector {
			c.put(bootAt+i, b, 0)
		}
		for i, b := range record {
			c.put(recordAt+i, b, 0)
		}
		c.reg[5], c.reg[6] = recordAt, recordAt // BP and SI
		return c.follow(maxAlone)
	})
}

// follow runs code until it passes control on or ends.
func (c *cpu) follow(most int) Run {
	c.run.End = Goes
	seen, next := c.state, 1
	for c.run.Steps = 0; c.run.Steps < most; c.run.Steps++ {
		if from := c.shadow[c.linear(segCS, uint32(c.ip))]; from != 0 {
			c.run.End = PassesOn
			c.run.Sector, c.run.Offset = (from-1)/512, int((from-1)%512)
			break
		}
		if err := c.step(); err != nil {
			var over *stop
			if errors.As(err, &over) {
				c.run.End, c.run.Why = over.end, over.why
			}
			break
		}
		if c.state == seen && !c.acted {
			c.run.End = Round
			break
		}
		if c.run.Steps == next {
			seen, next, c.acted = c.state, 2*next, false
		}
	}
	if c.run.End == Goes && circles(c.run.Reads) {
		c.run.End = Round
	}
	return c.run
}

// Bounds of what is taken for a circle of reads: how many are looked at, and how long it may
// be.
const (
	circleReads = 48
	circleMost  = 12
)

// circles reports whether the last reads are the same few over and over, as of a table whose
// records lead to each other: each of them gives what it gave before. What fails alone may be
// tried anew so many times.
func circles(reads []Read) bool {
	if len(reads) < circleReads+circleMost {
		return false
	}
	for length := 1; length <= circleMost; length++ {
		same, gives := true, false
		for i := len(reads) - circleReads; same && i < len(reads); i++ {
			same, gives = reads[i] == reads[i-length], gives || !reads[i].Failed
		}
		if same && gives {
			return true
		}
	}
	return false
}

// empty reports whether the loaded sector that control is in has no code: nothing
// stands before the place of a partition table.
func (c *cpu) empty(offset int) bool {
	at := c.linear(segCS, uint32(c.ip)) - offset
	for i := at; i < min(at+440, memory); i++ {
		if c.mem[i] != 0 {
			return false
		}
	}
	return true
}

// own takes the loaded sector that control is in, at an offset within it, for the
// code that runs: only what it loads itself is passed on to.
func (c *cpu) own(offset int) {
	at := c.linear(segCS, uint32(c.ip)) - offset
	for i := max(at, 0); i < min(at+512, memory); i++ {
		c.shadow[i] = 0
	}
}

// stop ends a run.
type stop struct {
	end End
	why string
}

func (s *stop) Error() string { return string(s.end) + ": " + s.why }
