package machine

import (
	"strconv"
	"strings"

	"latchkey/core/disk"
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
	switch s.Kind {
	case loader.ByFSUUID:
		found = d.Matching(func(i int, _ disk.Partition) bool { return s.Same(d.Contents.Volumes[i].Serial) })
		return found, len(found) > 0 || d.readsVolumes()
	case loader.ByFSLabel:
		found = d.Matching(func(i int, _ disk.Partition) bool { return s.Same(d.Contents.Volumes[i].Label) })
		return found, len(found) > 0 || d.readsVolumes()
	case loader.ByPartUUID:
		found = d.Matching(func(_ int, p disk.Partition) bool { return s.Same(loader.PartUUID(l, p)) })
		return found, true
	case loader.ByPartLabel:
		return d.Matching(func(_ int, p disk.Partition) bool { return s.Same(p.Name) }), true
	case loader.ByDevice:
		return d.byName(s.Value)
	}
	return nil, false
}

// readsVolumes reports whether every volume of the drive is in the evidence.
func (d *Drive) readsVolumes() bool {
	for i := range d.Contents.Volumes {
		if d.Contents.Volumes[i].Kind == volume.NotCaptured {
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
	return d.Matching(func(_ int, p disk.Partition) bool { return p.Number == number }), true
}

// ResolveDevice lists the partitions that a store's device means on a drive.
func (d *Drive) ResolveDevice(dev *loader.BCDDevice) []int {
	return d.Matching(func(i int, p disk.Partition) bool {
		if dev.MBR {
			mbr := d.Contents.Layout.MBR
			return mbr != nil && mbr.DiskSignature == dev.Signature && uint64(d.Contents.Base(i)) == dev.Start
		}
		return !p.GUID.IsZero() && p.GUID == dev.Partition
	})
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
