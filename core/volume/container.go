package volume

import (
	"bytes"
	"encoding/binary"
	"io"
	"strings"

	"latchkey/core/disk"
)

// Container is what a volume that holds other volumes says of the set that it belongs
// to: a physical volume of LVM, a member of a RAID, an encrypted volume, one device of a
// Btrfs of several.
type Container struct {
	Set     string // UUID of the volume group, the array or the file system
	Name    string // of the volume group or the array; "" where it has none
	Level   string // of a RAID, as the md driver names it: "raid1"; "" for others
	Members int    // devices of the set; 0 is unknown
	Own     string // UUID of this device in the set
	Parts   []Part
	// Open: not all that lies in it is known.
	Open bool
}

// Part is a volume that lies in a container.
type Part struct {
	Name   string // of a logical volume; "" for the data of a RAID
	UUID   string
	Offset int64 // bytes from the start of the partition; -1 where it does not lie here in one piece
	Length int64 // bytes
	Here   bool  // some of it lies here
	// Pieces are those of a volume that lies here in several, in its own order; nil for any
	// other.
	Pieces []Piece
}

// Piece is a piece of a volume in a container, in bytes.
type Piece struct {
	At, Length int64 // in the volume
	Offset     int64 // from the start of the partition
}

// Opaque reports whether the volume may hold others of which nothing is known.
func (v Volume) Opaque() bool {
	switch v.Kind {
	case KindLUKS, KindBcache, KindZFS:
		return true
	case KindLVM, KindRAID:
		return v.Container == nil || v.Container.Open
	}
	return false
}

// mdMagic is the magic of an md superblock, little-endian. The kernel's
// include/uapi/linux/raid/md_p.h.
const mdMagic = 0xa92b4efc

// mdLevels are the names of RAID levels that are numbers below 0 or not RAID.
var mdLevels = map[int32]string{-1: "linear", -4: "multipath", 0: "raid0", 1: "raid1", 4: "raid4", 5: "raid5",
	6: "raid6", 10: "raid10"}

// mdSuperblock decodes a superblock of version 1 (struct mdp_superblock_1 of md_p.h);
// nil where there is none.
func mdSuperblock(b []byte, length int64) *Container {
	le := binary.LittleEndian
	if len(b) < 256 || le.Uint32(b) != mdMagic || le.Uint32(b[4:]) != 1 {
		return nil
	}
	c := &Container{Set: plainUUID(b[16:]), Name: cString(b[32:64]), Own: plainUUID(b[168:]),
		Level: mdLevels[int32(le.Uint32(b[72:]))], Members: int(le.Uint32(b[92:])), Open: true}
	data, size := le.Uint64(b[128:]), le.Uint64(b[80:])
	if limit := uint64(length) / 512; data < limit && size <= limit-data && size > 0 {
		c.addData(int64(data)*512, int64(size)*512)
	}
	return c
}

// mdSuperblock090 decodes a superblock of version 0.90 (struct mdp_superblock_s).
func mdSuperblock090(b []byte) *Container {
	le := binary.LittleEndian
	if len(b) < 256 || le.Uint32(b) != mdMagic || le.Uint32(b[4:]) != 0 || le.Uint32(b[8:]) != 90 {
		return nil
	}
	var uuid []byte
	for _, at := range []int{20, 52, 56, 60} { // the words set_uuid0 to set_uuid3
		uuid = binary.BigEndian.AppendUint32(uuid, le.Uint32(b[at:]))
	}
	c := &Container{Set: plainUUID(uuid), Level: mdLevels[int32(le.Uint32(b[28:]))], Members: int(le.Uint32(b[40:])),
		Open: true}
	c.addData(0, int64(le.Uint32(b[32:]))*1024)
	return c
}

// addData adds the array's data where each member holds all of them.
func (c *Container) addData(offset, length int64) {
	if c.Level == "raid1" || c.Level == "linear" && c.Members == 1 || c.Level == "raid0" && c.Members == 1 {
		c.Parts, c.Open = []Part{{Offset: offset, Length: length, Here: true}}, false
	}
}

// mdAtEnd looks for a superblock near the end of a partition, where versions 0.90 and 1.0
// keep it: what lies in front of it looks like a volume of its own. md(4), "MD SUPER BLOCK".
func mdAtEnd(r *io.SectionReader) *Container {
	size := r.Size()
	b := make([]byte, 256)
	if at := ((size/512 - 16) &^ 7) * 512; at > 0 {
		if _, err := r.ReadAt(b, at); err == nil {
			if c := mdSuperblock(b, size); c != nil {
				return c
			}
		}
	}
	if at := size&^(64<<10-1) - 64<<10; at > 0 {
		if _, err := r.ReadAt(b, at); err == nil {
			return mdSuperblock090(b)
		}
	}
	return nil
}

// contain reads what a recognised volume says of the set that it belongs to.
func (v *Volume) contain(r *io.SectionReader) {
	switch v.Kind {
	case KindLVM:
		v.Container = readLVM(r)
	case KindRAID:
		for _, at := range []int64{4096, 0} {
			b := make([]byte, 256)
			if _, err := r.ReadAt(b, at); err == nil && v.Container == nil {
				v.Container = mdSuperblock(b, r.Size())
			}
		}
		if v.Container == nil {
			v.Container = mdAtEnd(r)
		}
	case KindLUKS:
		v.Container = &Container{Set: v.Serial, Open: true}
	case KindBtrfs:
		v.Container = btrfsSet(r)
	case KindExt, KindFAT12, KindFAT16, KindFAT32, KindXFS, KindSwap:
		v.Container = mdAtEnd(r)
	}
}

// btrfsSet tells of a Btrfs that lies on several devices. Btrfs on-disk format,
// "Superblock": num_devices, dev_item.
func btrfsSet(r *io.SectionReader) *Container {
	b := make([]byte, 1024)
	if _, err := r.ReadAt(b, 64<<10); err != nil || !bytes.Equal(b[64:72], []byte("_BHRfS_M")) {
		return nil
	}
	return &Container{Set: plainUUID(b[32:]), Name: cString(b[299:555]), Own: plainUUID(b[267:]),
		Members: int(min(binary.LittleEndian.Uint64(b[136:]), 1<<16))}
}

// MappedName is the name that the device mapper gives to a logical volume: hyphens within
// the names are doubled. lvm(8), "VALID NAMES"; dmsetup(8), "mangle".
func MappedName(group, name string) string {
	return strings.ReplaceAll(group, "-", "--") + "-" + strings.ReplaceAll(name, "-", "--")
}

// mdFields are the fields of an md superblock.
func mdFields() []disk.Field {
	return []disk.Field{{Name: "magic", Offset: 0, Length: 4, Form: disk.Hex},
		{Name: "set_uuid", Offset: 16, Length: 16, Form: disk.Raw}, {Name: "set_name", Offset: 32, Length: 32,
			Form: disk.Text},
		{Name: "level", Offset: 72, Length: 4, Form: disk.Number}, {Name: "raid_disks", Offset: 92, Length: 4,
			Form: disk.Number},
		{Name: "data_offset", Offset: 128, Length: 8, Form: disk.Number}}
}
