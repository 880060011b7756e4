package diskmaker

import (
	"encoding/binary"
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/loader"
)

// writeMBR writes sector 0 and, for logical partitions, the chain of records. UEFI
// Specification 2.10, section 5.2.1; the chain is common practice, as the Linux kernel reads
// it (block/partitions).
func (m *Image) writeMBR(d Disk, parts []placed) error {
	mbr := make([]byte, 512)
	switch d.BootCode {
	case "classic":
		copy(mbr, loader.StandardCode)
	case "grub":
		copy(mbr, grubSector())
		core, err := grubCore(d.GRUBPrefix)
		if err != nil {
			return err
		}
		if _, err := m.WriteAt(core, coreSector*512); err != nil {
			return err
		}
	}
	primary, logical := splitAtLogical(parts)
	records := primary
	sectors := map[uint64][]byte{0: mbr}
	if len(logical) > 0 {
		extended := m.chain(d, logical, sectors)
		records = append(append([]placed{}, primary...), extended)
	}
	if len(records) > 4 {
		return fmt.Errorf("%d partitions: an MBR has room for 4 records", len(records))
	}
	binary.LittleEndian.PutUint32(mbr[440:], d.Signature)
	for i, p := range records {
		copy(mbr[446+16*i:], p.record().Record())
	}
	mbr[510], mbr[511] = 0x55, 0xAA
	return m.writeSectors(sectors)
}

func splitAtLogical(parts []placed) (primary, logical []placed) {
	for i, p := range parts {
		if p.Logical {
			return parts[:i], parts[i:]
		}
	}
	return parts, nil
}

// chain adds the records of logical partitions to the sectors that are written, and returns
// the partition that they lie in.
func (m *Image) chain(d Disk, logical []placed, sectors map[uint64][]byte) placed {
	perMiB := uint64(mib / m.SectorSize)
	start := logical[0].first - perMiB
	for i, p := range logical {
		var next *disk.MBREntry
		if i+1 < len(logical) {
			q := logical[i+1]
			next = &disk.MBREntry{Type: 0x05, Start: q.first - perMiB - start, Length: q.count + perMiB}
		}
		sector := make([]byte, 512)
		copy(sector[446:], p.record().Chain(p.first-perMiB, next))
		sectors[p.first-perMiB] = sector
	}
	last := logical[len(logical)-1]
	x := placed{Partition{MBRType: d.Extended.Type, Active: d.Extended.Active}, start, last.first + last.count - start}
	if x.MBRType == 0 {
		x.MBRType = 0x0F
	}
	return x
}

func (p placed) record() disk.MBREntry {
	e := disk.MBREntry{Type: p.MBRType, Start: p.first, Length: p.count}
	if p.Active {
		e.Status = 0x80
	}
	return e
}
