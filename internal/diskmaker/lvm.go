package diskmaker

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
)

// Logical is a logical volume that lies in one piece.
type Logical struct {
	Name   string
	MiB    uint64
	Volume Volume
}

// Where LVM's parts lie on the physical volumes that are made: the metadata area behind
// the label, the extents behind that.
const (
	lvmArea   = 4096
	lvmRing   = 1<<20 - lvmArea
	lvmExtent = 4 << 20
	lvmFirst  = 1 << 20
	// lvmSumStart is where LVM's checksum begins. lvm2's lib/misc/crc.c, INITIAL_CRC.
	lvmSumStart = 0xf597a6cf
)

// lvmID is an identifier as LVM prints it.
func lvmID(kind byte, n int) string {
	id := fmt.Sprintf("%c%031d", kind, n)
	return strings.Join([]string{id[:6], id[6:10], id[10:14], id[14:18], id[18:22], id[22:26], id[26:]}, "-")
}

// PhysicalVolume returns the first bytes of a physical volume whose metadata area holds a
// text. lvm2's lib/format_text/layout.h.
func PhysicalVolume(id, text string, size int64) []byte {
	le := binary.LittleEndian
	b := make([]byte, lvmArea+1024+len(text))
	label := b[512:]
	copy(label, "LABELONE")
	le.PutUint64(label[8:], 1)
	le.PutUint32(label[20:], 32)
	copy(label[24:], "LVM2 001")
	copy(label[32:], strings.ReplaceAll(id, "-", ""))
	le.PutUint64(label[64:], uint64(size))
	le.PutUint64(label[72:], lvmFirst) // the data area
	le.PutUint64(label[104:], lvmArea) // the metadata area
	le.PutUint64(label[112:], lvmRing)
	le.PutUint32(label[16:], lvmSum(label[20:512]))
	area := b[lvmArea:]
	copy(area[4:], " LVM2 x[5A%r0N*>")
	le.PutUint32(area[20:], 1)
	le.PutUint64(area[24:], lvmArea)
	le.PutUint64(area[32:], lvmRing)
	le.PutUint64(area[40:], 512)
	le.PutUint64(area[48:], uint64(len(text)))
	le.PutUint32(area[56:], lvmSum([]byte(text)))
	le.PutUint32(area, lvmSum(area[4:512]))
	copy(area[512:], text)
	return b
}

func lvmSum(b []byte) uint32 { return ^crc32.Update(^uint32(lvmSumStart), crc32.IEEETable, b) }

// writeLVM writes a physical volume that is a group by itself, and what lies on it.
func (m *Image) writeLVM(p placed) error {
	size := int64(p.count) * int64(m.SectorSize)
	own, text := lvmID('p', int(p.Volume.Serial)), &strings.Builder{}
	fmt.Fprintf(text, "%s {\nid = %q\nseqno = 1\nformat = \"lvm2\"\nstatus = [\"RESIZEABLE\", \"READ\", \"WRITE\"]\nflags = []\nextent_size = %d\nmax_lv = 0\nmax_pv = 0\nmetadata_copies = 0\n",
		p.Volume.Group, lvmID('g', int(p.Volume.Serial)), lvmExtent/512)
	fmt.Fprintf(text, "physical_volumes {\npv0 {\nid = %q\ndevice = \"/dev/sda2\"\nstatus = [\"ALLOCATABLE\"]\nflags = []\ndev_size = %d\npe_start = %d\npe_count = %d\n}\n}\nlogical_volumes {\n",
		own, size/512, lvmFirst/512, (size-lvmFirst)/lvmExtent)
	first := uint64(0)
	for i, l := range p.Volume.Logical {
		count := l.MiB << 20 / lvmExtent
		fmt.Fprintf(text, "%s {\nid = %q\nstatus = [\"READ\", \"WRITE\", \"VISIBLE\"]\nflags = []\nsegment_count = 1\nsegment1 {\nstart_extent = 0\nextent_count = %d\ntype = \"striped\"\nstripe_count = 1\nstripes = [\n\"pv0\", %d\n]\n}\n}\n",
			l.Name, lvmID('l', i), count, first)
		per := uint64(m.SectorSize)
		inner := placed{Partition{Volume: l.Volume}, p.first + (lvmFirst+first*lvmExtent)/per, count * lvmExtent / per}
		if err := m.writeVolume(inner); err != nil {
			return err
		}
		first += count
	}
	text.WriteString("}\n}\ncontents = \"Text Format Volume Group\"\nversion = 1\n\x00")
	_, err := m.WriteAt(PhysicalVolume(own, text.String(), size), int64(p.first)*int64(m.SectorSize))
	return err
}
