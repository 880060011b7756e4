package machine

import (
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// InsideBrackets returns the device that a GRUB path names in front, "hd0,gpt2" of
// "(hd0,gpt2)/boot"; nothing where it is a variable or missing.
func InsideBrackets(s string) string {
	if inner, ok := strings.CutPrefix(s, "("); ok {
		inner, _, _ = strings.Cut(inner, ")")
		if !strings.HasPrefix(inner, "$") {
			return inner
		}
	}
	return ""
}

// AfterBrackets returns a GRUB path without the device in front.
func AfterBrackets(s string) string {
	if _, rest, ok := strings.Cut(s, ")"); ok {
		return rest
	}
	return s
}

// At returns a partition by its number.
func (d *Drive) At(number int) (Spot, bool) {
	if d.Contents != nil {
		for i, p := range d.Contents.Layout.Partitions {
			if p.Number == number {
				return Spot{d, i}, true
			}
		}
	}
	return Spot{}, false
}

// Spot is a partition of a drive, by its index in the layout.
type Spot struct {
	Drive *Drive
	Index int
}

// Partition returns the partition as the table holds it.
func (s Spot) Partition() disk.Partition { return s.Drive.Contents.Layout.Partitions[s.Index] }

// Volume returns what lies in the partition.
func (s Spot) Volume() *Volume { return &s.Drive.Contents.Volumes[s.Index] }

// Base returns the byte offset of the partition on its drive.
func (s Spot) Base() int64 { return s.Drive.Contents.Base(s.Index) }

// Base returns the byte offset of a partition.
func (c *Contents) Base(i int) int64 {
	return disk.Span(c.Layout.Partitions[i].Start, c.Layout.SectorSize)
}

// Matching lists the partitions of a drive that a test accepts.
func (d *Drive) Matching(is func(i int, p disk.Partition) bool) []int {
	var found []int
	if d.Contents == nil {
		return nil
	}
	for i, p := range d.Contents.Layout.Partitions {
		if is(i, p) {
			found = append(found, i)
		}
	}
	return found
}

// Resolve lists the partitions that a name means on a drive. The result is not
// known when the evidence lacks what the name is about.
func (d *Drive) Resolve(s loader.Spec) (found []int, known bool) {
	if d.Contents == nil {
		return nil, false
	}
	l := &d.Contents.Layout
	told := func(of func(v *Volume, p disk.Partition) string) ([]int, bool) {
		found = d.Matching(func(i int, p disk.Partition) bool { return s.Same(of(&d.Contents.Volumes[i], p)) })
		return found, len(found) > 0 || d.tells(of)
	}
	switch s.Kind {
	case loader.ByFSUUID:
		return told(func(v *Volume, _ disk.Partition) string { return v.Serial })
	case loader.ByFSLabel:
		return told(func(v *Volume, _ disk.Partition) string { return v.Label })
	case loader.ByPartUUID:
		return told(func(_ *Volume, p disk.Partition) string { return loader.PartUUID(l, p) })
	case loader.ByPartLabel:
		return told(func(_ *Volume, p disk.Partition) string { return p.Name })
	case loader.ByDevice:
		return d.byName(s.Value)
	}
	return nil, false
}

// tells reports whether the evidence tells a name of every partition: what no partition
// is known to carry is then known to be on none.
func (d *Drive) tells(name func(v *Volume, p disk.Partition) string) bool {
	c := d.Contents
	if !c.TableKnown() || c.Layout.Open {
		return false
	}
	for i, p := range c.Layout.Partitions {
		v := &c.Volumes[i]
		if name(v, p) == "" && (v.Told || v.Kind == volume.NotCaptured) {
			return false
		}
	}
	return true
}

// deviceNames are the kernel's names for the disks of a bus. Linux kernel
// documentation, admin-guide/devices.
var deviceNames = map[string]string{"sata": "sd", "usb": "sd", "scsi": "sd", "ide": "sd", "nvme": "nvme", "virtio": "vd", "sd": "mmcblk"}

// byName resolves a device name as far as its bus tells: which of several drives
// of one bus it means is the kernel's order of discovery.
func (d *Drive) byName(name string) (found []int, known bool) {
	bus, ok := d.Bus.Get()
	if !ok {
		return nil, false
	}
	name = strings.TrimPrefix(name, "/dev/")
	if !strings.HasPrefix(name, deviceNames[bus]) {
		return nil, true
	}
	number, err := strconv.Atoi(name[len(strings.TrimRight(name, "0123456789")):])
	if err != nil {
		return nil, false
	}
	return d.Numbered(number)
}

// Numbered lists the partition with a number. The result is not known where the evidence
// does not tell of every partition.
func (d *Drive) Numbered(number int) (found []int, known bool) {
	found = d.Matching(func(_ int, p disk.Partition) bool { return p.Number == number })
	return found, d.Contents != nil && (len(found) > 0 || d.Contents.TableKnown() && !d.Contents.Layout.Open)
}

// ResolveDevice lists the partitions that a store's device means on a drive. The result
// is not known where the evidence does not tell.
func (d *Drive) ResolveDevice(dev *loader.BCDDevice) (found []int, known bool) {
	found = d.Matching(func(i int, p disk.Partition) bool {
		if dev.MBR {
			mbr := d.Contents.Layout.MBR
			return mbr != nil && mbr.DiskSignature == dev.Signature && uint64(d.Contents.Base(i)) == dev.Start
		}
		return !p.GUID.IsZero() && p.GUID == dev.Partition
	})
	return found, len(found) > 0 || !d.mayCarry(dev.MBR)
}

// MayCarry reports whether the drive may have the partition that a boot entry names, as
// far as the evidence does not tell of all its partitions.
func (d *Drive) MayCarry(node *firmware.PartitionNode) bool { return d.mayCarry(node.MBR) }

func (d *Drive) mayCarry(mbr bool) bool {
	if d.Contents == nil {
		return true
	}
	c := d.Contents
	l := &c.Layout
	switch {
	case l.Style == disk.StyleUnknown:
		return true
	case mbr != (l.Style == disk.StyleMBR) || l.Style == disk.StyleNone:
		return false
	case !c.TableKnown() || l.Open:
		return true
	}
	_, told := l.DiskID().Get()
	for i, p := range l.Partitions {
		switch {
		case mbr && (!told || p.Source.Origin == fact.Typed || c.Volumes[i].Told && (p.Unplaced || p.Rough)):
			return true // its numbers, places or identifier are not told
		case !mbr && p.GUID.IsZero():
			return true
		}
	}
	return false
}

// ResolveLetter lists the partitions with a drive letter.
func (d *Drive) ResolveLetter(letter string) []int {
	return d.Matching(func(i int, _ disk.Partition) bool {
		return letter != "" &&
			d.Contents.Volumes[i].Letter == letter
	})
}

// ResolveNode lists the partitions whose signature a boot entry names.
func (d *Drive) ResolveNode(node *firmware.PartitionNode) []int {
	return d.Matching(func(_ int, p disk.Partition) bool {
		if node.MBR {
			mbr := d.Contents.Layout.MBR
			return mbr != nil && d.Contents.Layout.Style == disk.StyleMBR && mbr.DiskSignature == node.Signature &&
				p.Number == int(node.Number)
		}
		return !p.GUID.IsZero() && p.GUID == node.GUID
	})
}
