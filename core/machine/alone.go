package machine

import (
	"encoding/binary"

	"latchkey/core/disk"
	"latchkey/core/realmode"
	"latchkey/core/volume"
)

// maxAlone bounds the boot sectors of a disk that are run by themselves: an MBR has four
// records.
const maxAlone = 4

// runBootSectors runs what a partition would start if it were the active one: a file
// system's own dummy says that it is none.
func (c *Contents) runBootSectors(d *disk.Disk) {
	if c.Layout.Style != disk.StyleMBR {
		return
	}
	runs := 0
	for i, p := range c.Layout.Partitions {
		if p.Logical || runs == maxAlone {
			continue
		}
		v := &c.Volumes[i]
		if v.BootCode || len(v.Spares) > 0 {
			runs++
		}
		v.runAlone(d, p)
		for j := range v.Spares {
			spare := &v.Spares[j]
			if sector, err := d.Read(disk.Span(spare.Sector, d.SectorSize()), d.SectorSize()); err == nil {
				if on, err := disk.New(patched{d, disk.Span(p.Start, d.SectorSize()), sector}, d.Size(),
					d.SectorSize()); err == nil {
					spare.Then.runAlone(on, p)
				}
			}
		}
	}
}

// runAlone runs the volume's boot sector with the partition's record.
func (v *Volume) runAlone(d *disk.Disk, p disk.Partition) {
	if !v.BootCode || v.SystemCode {
		return
	}
	sector, err := d.Read(disk.Span(p.Start, d.SectorSize()), 512)
	if err != nil {
		return
	}
	record := make([]byte, 16)
	record[0], record[4] = 0x80, p.MBRType
	binary.LittleEndian.PutUint32(record[8:], uint32(p.Start))
	binary.LittleEndian.PutUint32(record[12:], uint32(min(p.Length, 1<<32-1)))
	run := func() *realmode.Run {
		r := realmode.ExecutePartition(sector, record, d, disk.IsNotCaptured)
		return &r
	}
	v.Alone = run()
	if _, elsewhere := v.Problem(volume.CodeHiddenSectors); elsewhere {
		binary.LittleEndian.PutUint32(sector[hiddenSectorsAt:], uint32(p.Start))
		v.AloneCorrected = run()
	}
}

// hiddenSectorsAt is where a BIOS parameter block has the sectors before the partition:
// FAT specification 1.03, BPB_HiddSec.
const hiddenSectorsAt = 28
