package startup

import (
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// spot is a partition of a drive, by its index in the layout.
type spot struct {
	drive *Drive
	index int
}

func (s spot) partition() disk.Partition { return s.drive.Contents.Layout.Partitions[s.index] }
func (s spot) volume() *Volume           { return &s.drive.Contents.Volumes[s.index] }
func (s spot) base() int64               { return s.drive.Contents.base(s.index) }

// base returns the byte offset of a partition.
func (c *Contents) base(i int) int64 {
	return disk.Span(c.Layout.Partitions[i].Start, c.Layout.SectorSize)
}

// matching lists the partitions of a drive that a test accepts.
func (d *Drive) matching(is func(i int, p disk.Partition) bool) []int {
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

// resolve lists the partitions that a name means on a drive. The result is not
// known when the evidence lacks what the name is about.
func (d *Drive) resolve(s loader.Spec) (found []int, known bool) {
	if d.Contents == nil {
		return nil, false
	}
	l := &d.Contents.Layout
	switch s.Kind {
	case loader.ByFSUUID:
		found = d.matching(func(i int, _ disk.Partition) bool { return s.Same(d.Contents.Volumes[i].Serial) })
		return found, len(found) > 0 || d.readsVolumes()
	case loader.ByFSLabel:
		found = d.matching(func(i int, _ disk.Partition) bool { return s.Same(d.Contents.Volumes[i].Label) })
		return found, len(found) > 0 || d.readsVolumes()
	case loader.ByPartUUID:
		found = d.matching(func(_ int, p disk.Partition) bool { return s.Same(loader.PartUUID(l, p)) })
		return found, true
	case loader.ByPartLabel:
		return d.matching(func(_ int, p disk.Partition) bool { return s.Same(p.Name) }), true
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
	return d.matching(func(_ int, p disk.Partition) bool { return p.Number == number }), true
}

// resolveDevice lists the partitions that a store's device means on a drive.
func (d *Drive) resolveDevice(dev *loader.BCDDevice) []int {
	return d.matching(func(i int, p disk.Partition) bool {
		if dev.MBR {
			mbr := d.Contents.Layout.MBR
			return mbr != nil && mbr.DiskSignature == dev.Signature && uint64(d.Contents.base(i)) == dev.Start
		}
		return !p.GUID.IsZero() && p.GUID == dev.Partition
	})
}

// resolveLetter lists the partitions with a drive letter.
func (d *Drive) resolveLetter(letter string) []int {
	return d.matching(func(i int, _ disk.Partition) bool { return letter != "" && d.Contents.Volumes[i].Letter == letter })
}

// resolveNode lists the partitions whose signature a boot entry names.
func (d *Drive) resolveNode(node *firmware.PartitionNode) []int {
	return d.matching(func(_ int, p disk.Partition) bool {
		if node.MBR {
			mbr := d.Contents.Layout.MBR
			return mbr != nil && d.Contents.Layout.Style == disk.StyleMBR && mbr.DiskSignature == node.Signature && p.Number == int(node.Number)
		}
		return !p.GUID.IsZero() && p.GUID == node.GUID
	})
}
