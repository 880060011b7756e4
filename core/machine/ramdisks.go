package machine

import (
	"io"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// budget is what may still be kept and unpacked of a disk, in bytes.
type budget struct {
	kept     int64 // of configuration
	unpacked int64 // of initial RAM disks
}

// ramDiskCount is the name under which the drivers in an initial RAM disk are kept, at the place of its first
// byte. maxRAMDisks bounds those of a disk that are looked into, maxUnpacked what is unpacked of them, in bytes.
const (
	ramDiskCount = "initial RAM disk"
	maxRAMDisks  = 8
	maxUnpacked  = 2 << 30
)

// ramDisk looks for the drivers of drives in an initial RAM disk. It is large and tells nothing else, so that a
// capture keeps what was found and not the bytes.
func (g *gathering) ramDisk(s *volume.Stream) loader.Drivers {
	return g.ramDiskIn(s, 0, s.Size())
}

// programs examines the firmware's programs on a FAT volume; nil is another one.
func (g *gathering) programs(fat *volume.FAT) {
	if fat != nil {
		g.volume.lookAtPrograms(fat)
		g.unifiedKernels()
	}
}

// unifiedKernels looks into the initial RAM disks in kernels that are programs of the firmware.
func (g *gathering) unifiedKernels() {
	for i := range g.volume.Loaders {
		f := &g.volume.Loaders[i]
		if u := f.Program.Unified; u != nil && u.RAMDisk && f.Err == nil {
			if s, err := g.files.Open(f.File); err == nil {
				u.Drivers = g.ramDiskIn(s, u.RAMDiskAt, u.RAMDiskLength)
			}
		}
	}
}

// ramDiskIn looks into the part of a file that is one.
func (g *gathering) ramDiskIn(s *volume.Stream, from, length int64) loader.Drivers {
	at := s.Place(from)
	if at < 0 || g.disk == nil {
		return 0
	}
	at += g.base
	if held, ok := g.disk.Counted(ramDiskCount, at); ok {
		return loader.Drivers(held)
	}
	r, ok := s.Over(g.disk.Aside(), g.base)
	if !ok || g.left.unpacked <= 0 || countedRAMDisks(g.disk) >= maxRAMDisks {
		return 0
	}
	held, unpacked, err := loader.ReadDrivers(io.NewSectionReader(r, from, length), g.left.unpacked)
	if g.left.unpacked -= unpacked; err != nil {
		return 0
	}
	g.disk.SetCount(disk.Count{Name: ramDiskCount, Offset: at, Value: uint64(held)})
	return held
}

func countedRAMDisks(d *disk.Disk) (n int) {
	for _, c := range d.Counts() {
		if c.Name == ramDiskCount {
			n++
		}
	}
	return n
}
