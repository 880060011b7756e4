package machine

import (
	"fmt"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/volume"
)

// Bounds of the volumes that lie in others: how deep, and how many in a partition.
const (
	maxNested = 3
	maxInner  = 64
)

// Inner is a volume that lies in another one: a logical volume, or the data of a RAID.
type Inner struct {
	Of     string // the volume group or the array; "" where it has no name
	Name   string // of a logical volume; "" for the data of a RAID
	UUID   string // of the logical volume, or of the array
	Offset int64  // bytes from the start of the partition
	Length int64  // bytes
	// Pieces are those in which it lies; Offset is then beyond the end of the disk, where it is
	// read as if it lay in one.
	Pieces []volume.Piece
	// Unread: not all of it lies here, so that nothing of it could be read.
	Unread bool
	Volume Volume
}

// Called names the volume in a sentence.
func (n *Inner) Called() string {
	switch {
	case n.Name != "":
		return fmt.Sprintf("the logical volume %s/%s", n.Of, n.Name)
	case n.Of != "":
		return fmt.Sprintf("the RAID %s", n.Of)
	}
	return fmt.Sprintf("the RAID %s", n.UUID)
}

// Mapped is the name that the device mapper gives it, "" for a RAID.
func (n *Inner) Mapped() string {
	if n.Name == "" {
		return ""
	}
	return volume.MappedName(n.Of, n.Name)
}

// examineInner reads what lies in a container, given as the partition that it fills, and
// adds it to the volume of the disk's partition.
func (v *Volume) examineInner(d *disk.Disk, p disk.Partition, in *volume.Volume, offset int64, depth int,
	left *budget) {
	// A member whose superblock stands at its end is read as what lies in front of it.
	if in.Container == nil || depth == maxNested || in.Kind != volume.KindLVM && in.Kind != volume.KindRAID {
		return
	}
	size := int64(d.SectorSize())
	for _, part := range in.Container.Parts {
		if !part.Here || len(v.Inner) == maxInner {
			continue
		}
		n := Inner{Of: in.Container.Name, Name: part.Name, UUID: part.UUID, Length: part.Length}
		n.Offset, n.Unread = -1, true
		if in.Kind == volume.KindRAID {
			n.UUID = in.Container.Set
		}
		if part.Pieces != nil && depth == 0 {
			v.examinePieced(d, p, n, part, left)
			continue
		}
		if part.Offset < 0 || part.Offset%size != 0 || part.Length < size {
			n.Volume.Kind = volume.NotCaptured
			v.Inner = append(v.Inner, n)
			continue
		}
		q := p
		q.Start, q.Length = p.Start+uint64(part.Offset/size), uint64(part.Length/size)
		n.Offset, n.Unread, n.Volume = offset+part.Offset, false, examineVolume(d, q, nil, left)
		n.Volume.Inner = nil
		n.Volume.dropPlace()
		v.Inner = append(v.Inner, n)
		v.examineInner(d, q, &n.Volume.Volume, n.Offset, depth+1, left)
	}
}

// dropPlace takes back what a volume in a container does not need to know: where on the
// disk it lies.
func (v *Volume) dropPlace() {
	var kept []disk.Problem
	for _, q := range v.Problems {
		if q.Code != volume.CodeHiddenSectors {
			kept = append(kept, q)
		}
	}
	v.Problems = kept
}

// Opaque reports whether the volume, or one that lies in it, may hold others of which the
// evidence tells nothing.
func (v *Volume) Opaque() bool {
	if v.Volume.Opaque() || v.Told && (v.Kind == volume.KindLVM || v.Kind == volume.KindRAID) {
		return true
	}
	for i := range v.Inner {
		if n := &v.Inner[i]; n.Unread || n.Volume.Opaque() {
			return true
		}
	}
	return false
}

// Opaque reports whether some volume of the disk may hold others of which the evidence
// tells nothing.
func (c *Contents) Opaque() bool {
	for i := range c.Volumes {
		if c.Volumes[i].Opaque() {
			return true
		}
	}
	return false
}

// Unopened is the drive as one sees it who opens nothing that is encrypted.
func (d *Drive) Unopened() *Drive {
	if d.Contents == nil {
		return d
	}
	shut := func(v *volume.Volume) {
		if v.Kind == volume.KindLUKS {
			v.Kind, v.Serial, v.Label = volume.Empty, "", ""
		}
	}
	c := d.Contents.clone()
	for i := range c.Volumes {
		v := &c.Volumes[i]
		shut(&v.Volume)
		v.Inner = slices.Clone(v.Inner)
		for j := range v.Inner {
			shut(&v.Inner[j].Volume.Volume)
		}
	}
	seen := *d
	seen.Contents = c
	return &seen
}

// Spots lists every volume of the drive: each partition's, then those that lie in it.
func (d *Drive) Spots() []Spot {
	if d.Contents == nil {
		return nil
	}
	spots := make([]Spot, 0, len(d.Contents.Volumes))
	for i := range d.Contents.Volumes {
		spots = append(spots, Spot{Drive: d, Index: i})
		for j := range d.Contents.Volumes[i].Inner {
			spots = append(spots, Spot{Drive: d, Index: i, Inside: j + 1})
		}
	}
	return spots
}

// MirrorOf reports whether two places are the data of one RAID, seen through two of its
// members.
func (s Spot) MirrorOf(o Spot) bool {
	if s.Drive.Contents == nil || o.Drive.Contents == nil {
		return false
	}
	a, b := s.Drive.Contents.Volumes[s.Index].Container, o.Drive.Contents.Volumes[o.Index].Container
	return a != nil && b != nil && a.Level != "" && a.Set == b.Set && a.Own != b.Own
}
