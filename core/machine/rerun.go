package machine

import (
	"encoding/binary"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/realmode"
)

// rerun drops what the boot code did before a change, and runs it with the table as it is
// now. Code that goes on to the active partition is judged by what begins there; one that
// needs more of the disk than its table stays unknown, and is no start.
func (c *Contents) rerun() {
	c.Run = nil
	mbr := c.Layout.MBR
	if c.Code != loader.CodeClassic && c.Code != loader.CodeOther {
		return
	}
	if mbr == nil || len(mbr.BootCode) == 0 || c.Layout.SectorSize != 512 {
		if c.Code == loader.CodeOther {
			c.Code = loader.CodeUnknown
		}
		return
	}
	run := realmode.Execute(sector0Of(mbr), &beginnings{c}, disk.IsNotCaptured)
	switch {
	case run.End == realmode.PassesOn && c.onlyActiveAt(run.Sector):
		c.Code = loader.CodeClassic
	case run.End == realmode.PassesOn || !run.Settled():
		c.Code = loader.CodeUnknown
	default:
		c.Run = &run
	}
}

// sector0Of is the sector that an MBR's code and records make.
func sector0Of(mbr *disk.MBR) []byte {
	b := make([]byte, 512)
	copy(b, mbr.BootCode)
	binary.LittleEndian.PutUint32(b[440:], mbr.DiskSignature)
	for i, e := range mbr.Entries {
		if e.Type != 0 {
			copy(b[446+16*i:], e.Record())
		}
	}
	b[510], b[511] = 0x55, 0xAA
	return b
}

// onlyActiveAt reports whether the one active partition begins at a sector.
func (c *Contents) onlyActiveAt(sector uint64) bool {
	count, at := 0, uint64(0)
	for _, p := range c.Layout.Partitions {
		if p.Active && !p.Logical {
			count, at = count+1, p.Start
		}
	}
	return count == 1 && at == sector
}

// beginnings is a disk of which no more is known than where its partitions begin: what
// stands there goes round.
type beginnings struct{ c *Contents }

func (b *beginnings) Sectors() uint64 { return b.c.Layout.Sectors }
func (b *beginnings) SectorSize() int { return 512 }

// ReadAt implements io.ReaderAt.
func (b *beginnings) ReadAt(to []byte, off int64) (int, error) {
	clear(to)
	for at := 0; at+512 <= len(to); at += 512 {
		sector := uint64(off+int64(at)) / 512
		if !b.begins(sector) {
			return 0, &disk.NotCaptured{}
		}
		to[at], to[at+1], to[at+510], to[at+511] = 0xEB, 0xFE, 0x55, 0xAA
	}
	return len(to), nil
}

func (b *beginnings) begins(sector uint64) bool {
	for _, p := range b.c.Layout.Partitions {
		if p.Start == sector {
			return true
		}
	}
	return false
}
