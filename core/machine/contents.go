package machine

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/realmode"
	"latchkey/core/volume"
)

// Problem returns what is wrong with the volume by the code of the problem.
func (v *Volume) Problem(code disk.ProblemCode) (disk.Problem, bool) {
	for _, p := range v.Problems {
		if p.Code == code {
			return p, true
		}
	}
	return disk.Problem{}, false
}

// Contents is a disk as examined: its tables, volumes and loaders. It holds all that
// a start or a repair asks of the disk, which is not read any more: planning and
// simulating are functions of it alone.
type Contents struct {
	Layout  disk.Layout
	Volumes []Volume // one for each of Layout.Partitions
	Code    loader.BootCode
	// Run is what the code of sector 0 does, run in a model; nil when there is
	// none.
	Run  *realmode.Run
	Core GRUBCore // set when Code is GRUB
	// Found are the volumes that lie on a disk without a table that tells of them.
	Found []Found
	// FoundUpTo is the sector up to which was looked for them, and FoundLacks whether the
	// evidence lacks some of that.
	FoundUpTo  uint64
	FoundLacks bool
	// Capacity is where the size was read; Rounded is set for one that was read off
	// a screen.
	Capacity fact.Source
	Rounded  bool
}

// Volume is a partition's volume with what decides a start on it.
type Volume struct {
	volume.Volume
	Loaders   []loader.Found
	LoaderErr error // a directory that could not be read
	// Programs are the paths of all EFI programs that the directories show, when they
	// could all be read; ProgramsOpen is set when not.
	Programs     []string
	ProgramsOpen bool
	// SystemCode is set when the boot sector is one that loads Windows by its
	// own BIOS parameter block.
	SystemCode bool
	// LegacyManager is Windows' legacy boot manager in the root, "" when there is
	// none.
	LegacyManager string
	// Syslinux is its second stage on the volume; nil for none.
	Syslinux *SyslinuxStage
	// Configs are the files that tell a loader what to start.
	Configs []Config
	// Kernels are the names of Linux kernels in the root and in /boot.
	Kernels []string
	// System is what the registry of a Windows on the volume says; nil where it could not be read.
	System    *loader.SystemHive
	SystemErr error // why a registry that is there could not be read
	// Hibernated: a sleeping Windows has its memory on the volume.
	Hibernated fact.Of[bool]
	// Told: nobody read its bytes; a listing or a person tells of it.
	Told bool
	// Letter is the drive letter that a running Windows gives it, "" when none is
	// known.
	Letter string
	// looked tells of the files that were looked for: nil for one that is there.
	looked map[string]error
	// kernels are those that menus name, as programs of the firmware's, by their paths in small
	// letters.
	kernels map[string]kernelProgram
	// payloads are the kernels and initial RAM disks that are loaded, likewise; drivers those of kernels, by a
	// system's folder and the kernel's release.
	payloads map[string]payload
	drivers  map[string]map[string]loader.Drivers
	// modules are the folders of GRUB's modules, by their paths in small letters.
	modules map[string]grubModules
	// Alone is what the boot sector does when the standard boot code passes control to it,
	// run in a model; nil where that was not looked at: under a GPT, of a logical
	// partition, of code that is known to load Windows.
	Alone *realmode.Run
	// AloneCorrected is the same with the boot sector knowing where the partition begins;
	// nil where it does know, or is not run.
	AloneCorrected *realmode.Run
	// Spares are the copies of a boot sector that was overwritten in its own place.
	Spares []Spare
	// WithSecondFAT is the volume as it is with the second file allocation table in place of
	// the first, which differs; nil for none.
	WithSecondFAT *Volume
	// Tools are what a repair would call of each Linux on it.
	Tools []Tools
	// Subvolumes are those of a Btrfs; nil for any other volume.
	Subvolumes *Subvolumes
	// Inner are the volumes that lie in it, those that lie in them, and so on.
	Inner []Inner
}

// Spare is a copy of a volume's boot sector.
type Spare struct {
	Sector uint64 // where it stands on the disk
	Then   Volume // the volume as it is with the copy in its place
}

// GRUBCore is where GRUB's boot code expects its core image.
type GRUBCore struct {
	Sector  uint64
	Present bool             // something stands there
	Known   bool             // the sector is in the evidence
	Image   *loader.GRUBCore // nil when it could not be read
	Err     error            // why not
}

// Bounds of an examination, which no sound disk comes near: reads, bytes that are
// read, and bytes of configuration that are kept.
const (
	maxReads = 100_000
	maxRead  = 256 << 20
	maxKept  = 8 << 20
)

// Examine reads everything that a start or a repair needs from a disk; when it
// returns, all has been read. Paths are programs to look for on FAT volumes besides
// the known ones, as boot entries name them. Structures that lead in circles end it
// at a bound, which is a problem of the layout; what lies behind it is not known.
func Examine(whole *disk.Disk, paths ...string) *Contents {
	d := whole.Bounded(maxReads, maxRead)
	c := &Contents{Layout: disk.ReadLayout(d), Capacity: fact.Source{Origin: fact.Bytes, Structure: "the evidence's length"}}
	left := budget{maxKept, maxUnpacked}
	var opened []volume.Files
	for _, p := range c.Layout.Partitions {
		v, files := openedVolume(d, p, paths, &left)
		opened = append(opened, files)
		v.examineSpares(d, p, &left)
		c.Volumes = append(c.Volumes, v)
	}
	if c.lacksTable() {
		c.search(d, &left)
	}
	c.lookForSearched(d, opened, &left)
	c.lookForModules(d, opened, &left)
	c.runBootSectors(d)
	if !c.lacksTable() {
		c.searchDoubted(d, &left)
	}
	whole.SetCounts(d.Counts())
	if mbr := c.Layout.MBR; mbr != nil {
		code := loader.Classify(mbr.BootCode)
		if mbr.Signature {
			c.Code = code
		}
		if code == loader.CodeGRUB { // without a signature, for the disk as a repair leaves it
			c.Core = findGRUBCore(d, mbr.BootCode)
		}
	}
	if c.Code == loader.CodeClassic || c.Code == loader.CodeOther {
		if sector, err := d.Read(0, 512); err == nil {
			run := realmode.Execute(sector, d, disk.IsNotCaptured)
			c.Run = &run
		}
	}
	if failed := d.Failures(); len(failed) > 0 {
		c.Layout.Problems = append(c.Layout.Problems, disk.FailuresProblem(failed))
	}
	if d.Spent() {
		c.Layout.Problems = append(c.Layout.Problems, disk.Problem{Code: disk.CodeNotReadToItsEnd, Text: "The disk was not read to its end: its structures lead to more than a sound disk needs. What was not read is not known.",
			Want: fmt.Sprintf("at most %d reads of %s in all", maxReads, disk.Binary(maxRead)), Got: "more", Source: fact.Source{Origin: fact.Computed,
				Structure: "the reading of the disk"}})
	}
	return c
}

func examineVolume(d *disk.Disk, p disk.Partition, paths []string, left *budget) Volume {
	v, _ := openedVolume(d, p, paths, left)
	return v
}

// openedVolume is examineVolume, with the volume's files; nil where they cannot be read.
func openedVolume(d *disk.Disk, p disk.Partition, paths []string, left *budget) (Volume, volume.Files) {
	opened := volume.Examine(d, p)
	v := Volume{Volume: opened.Volume}
	if fat := opened.FAT; fat != nil {
		v.Loaders, v.LoaderErr = loader.Inventory(fat)
		programs, whole := loader.Programs(fat)
		v.Programs, v.ProgramsOpen = programs, !whole
		for _, path := range paths {
			if f, err := loader.Look(fat, path); err == nil {
				v.Loaders = append(v.Loaders, f)
			} else if !errors.Is(err, volume.ErrNotFound) && v.LoaderErr == nil {
				v.LoaderErr = err
			}
		}
	}
	if opened.Btrfs != nil {
		v.Subvolumes = subvolumesOf(opened.Btrfs)
	}
	if v.Readable {
		g := gathering{&v, opened.Files, left, d, disk.Span(p.Start, d.SectorSize())}
		g.gather()
		g.programs(opened.FAT)
	}
	v.examineInner(d, p, &opened.Volume, 0, 0, left)
	if boot, err := d.Read(disk.Span(p.Start, d.SectorSize()), 512); err == nil {
		v.SystemCode = loader.LoadsWindows(boot)
	}
	return v, opened.Files
}

// patched is a disk with some bytes replaced.
type patched struct {
	*disk.Disk
	at    int64
	bytes []byte
}

// ReadAt implements io.ReaderAt.
func (p patched) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.Disk.ReadAt(b, off)
	for i := range p.bytes {
		if at := p.at + int64(i) - off; at >= 0 && at < int64(n) {
			b[at] = p.bytes[i]
		}
	}
	return n, err
}

// examineSpares reads the volume as it would be with each copy of its boot sector in
// place of the overwritten one, and with its second file allocation table in place of the
// first.
func (v *Volume) examineSpares(d *disk.Disk, p disk.Partition, left *budget) {
	size := d.SectorSize()
	for _, at := range v.Volume.Spares {
		from := uint64(at) / uint64(size)
		sector, err := d.Read(disk.Span(from, size), size)
		if err != nil {
			continue // a copy that cannot be read is none
		}
		if on, err := disk.New(patched{d, disk.Span(p.Start, size), sector}, d.Size(), size); err == nil {
			v.Spares = append(v.Spares, Spare{from, examineVolume(on, p, nil, left)})
		}
	}
	second := v.Volume.SecondFAT
	if second == nil {
		return
	}
	table, err := d.Read(second.Second, int(second.Length))
	if err != nil {
		return
	}
	if on, err := disk.New(patched{d, second.First, table}, d.Size(), size); err == nil {
		then := examineVolume(on, p, nil, left)
		v.WithSecondFAT = &then
	}
}

func findGRUBCore(d *disk.Disk, code []byte) GRUBCore {
	core := GRUBCore{Sector: loader.GRUBCoreSector(code)}
	if core.Sector == 0 || core.Sector >= d.Sectors() {
		core.Known = true
		return core
	}
	raw, err := d.Read(disk.Span(core.Sector, d.SectorSize()), 512)
	core.Known = !disk.IsNotCaptured(err)
	core.Present = err == nil && strings.Trim(string(raw), "\x00") != ""
	if core.Present {
		core.Image, core.Err = loader.ReadGRUBCore(d, core.Sector)
	}
	return core
}

// Loader returns a loader by path.
func (v *Volume) Loader(path string) (loader.Found, bool) {
	for _, f := range v.Loaders {
		if strings.EqualFold(f.Path, path) {
			return f, true
		}
	}
	return loader.Found{}, false
}

// Systems says which systems a disk holds; a nil one holds none.
func (c *Contents) Systems() (windows, linux, mac bool) {
	if c == nil {
		return false, false, false
	}
	for i := range c.Volumes {
		v := &c.Volumes[i]
		windows = windows || v.HasWindows() || v.LegacyManager != "" || v.Kind == volume.KindBitLocker
		linux = linux || v.HasLinux()
		mac = mac || v.Kind == volume.KindAPFS || v.Kind == volume.KindHFS
	}
	return windows, linux, mac
}

// Lost reports whether a partition's end is known to lie beyond the disk. A size that was
// rounded on a screen tells only what is far beyond.
func (c *Contents) Lost(p disk.Partition) bool {
	end := c.Layout.Sectors
	if (c.Rounded || p.Rough) && end < disk.SectorsUnknown {
		end += end / 64
	}
	return !p.Unplaced && p.End() > end
}

// TableKnown reports whether the evidence tells which partitions the disk has. A
// listing that shows none may have been cut off.
func (c *Contents) TableKnown() bool {
	l := &c.Layout
	switch {
	case l.Style == disk.StyleUnknown:
		return false
	case len(l.Partitions) > 0, l.Style == disk.StyleNone, l.WrittenFor != 0:
		return true
	case l.Style == disk.StyleGPT:
		return l.GPT.Valid() != nil || l.GPT.Primary.Lost() && l.GPT.Backup.Lost()
	}
	return l.MBR != nil && l.MBR.BootCode != nil
}

// TableSeen reports whether all that the disk's table is read from was looked at, or could not
// be read: what nobody looked at is not written over.
func (c *Contents) TableSeen() bool {
	l := &c.Layout
	if _, unreadable := l.Find(disk.CodeMBRUnreadable); l.MBR == nil && !unreadable {
		return false
	}
	if l.GPT == nil || l.Style == disk.StyleMBR {
		return !l.Open
	}
	return l.GPT.Primary.State != disk.CopyNotCaptured && l.GPT.Backup.State != disk.CopyNotCaptured
}

// Unseen reports whether the evidence lacks something of a volume that a start goes by.
func (v *Volume) Unseen() bool {
	return v.KindUnseen() || v.Told || v.CopiesOpen || disk.IsNotCaptured(v.LoaderErr) || Missing(v) ||
		slices.ContainsFunc(v.Loaders, func(f loader.Found) bool { return disk.IsNotCaptured(f.Err) })
}

// Size returns the disk's capacity in bytes, when it is known.
func (c *Contents) Size() (int64, bool) {
	return c.Layout.Bytes(), c.Layout.Sectors != disk.SectorsUnknown
}

// CutSystem returns the system partition that the end of the disk cuts off,
// when no whole one stands beside it.
func (d *Drive) CutSystem() (disk.Partition, bool) {
	var cut disk.Partition
	if d.Contents == nil || d.Contents.Layout.Open || d.Contents.Layout.Style == disk.StyleUnknown {
		return cut, false // another may stand beside it
	}
	for _, p := range d.Contents.Layout.Partitions {
		switch {
		case p.Type.Role != disk.RoleSystem:
		case d.Contents.Lost(p):
			cut = p
		default:
			return disk.Partition{}, false
		}
	}
	return cut, cut.Length > 0
}

// Regions lists every decoded structure at its place on the disk.
func (c *Contents) Regions() []disk.Region {
	regions := c.Layout.Regions()
	if c.Core.Image != nil {
		regions = append(regions, loader.GRUBCoreRegions(c.Core.Sector)...)
	}
	for i, p := range c.Layout.Partitions {
		base := disk.Span(p.Start, c.Layout.SectorSize)
		v := &c.Volumes[i]
		regions = append(regions, v.Regions(base)...)
		for _, f := range v.Loaders {
			regions = append(regions, f.File.Region(base))
			if r, ok := f.Region(base); ok {
				regions = append(regions, r)
			}
		}
		if s := v.Hibernated.Source(); s.Length == 4 {
			regions = append(regions, disk.Region{Structure: s.Structure, Offset: s.Offset, Length: 4,
				Fields: []disk.Field{{Name: s.Field, Length: 4, Form: disk.Text}}})
		}
		for _, f := range v.Configs {
			regions = append(regions, f.regions(base)...)
		}
	}
	return regions
}
