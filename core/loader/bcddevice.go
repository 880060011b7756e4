package loader

import (
	"encoding/binary"
	"fmt"

	"latchkey/core/disk"
)

// DeviceKind is what a device element points to.
type DeviceKind uint32

// The kinds of device, by the number that stands in the element. Seen in stores;
// no source.
const (
	DeviceRAMDisk   DeviceKind = 0
	DeviceBoot      DeviceKind = 5 // wherever the boot manager was started from
	DevicePartition DeviceKind = 6
	DeviceLocate    DeviceKind = 8 // searched for

	// What a listing of the store says instead: a letter or a volume's name, and a
	// device that is not there.
	DeviceNamed DeviceKind = 0x1000
	DeviceGone  DeviceKind = 0x1001
)

// BCDDevice is a decoded device element.
type BCDDevice struct {
	Kind      DeviceKind
	MBR       bool
	Partition disk.GUID // unique partition GUID (GPT)
	Disk      disk.GUID // disk GUID (GPT)
	Start     uint64    // first byte of the partition (MBR)
	Signature uint32    // disk signature (MBR)
	Name      string    // as a listing names it
}

func (d *BCDDevice) String() string {
	switch {
	case d.Kind == DeviceBoot:
		return "boot"
	case d.Kind == DeviceLocate:
		return "locate"
	case d.Kind == DeviceRAMDisk:
		return "RAM disk"
	case d.Kind == DeviceNamed:
		return d.Name
	case d.Kind == DeviceGone:
		return "unknown: the device is not there"
	case d.Kind != DevicePartition:
		return fmt.Sprintf("device of type %d", d.Kind)
	case d.MBR:
		return fmt.Sprintf("partition at byte %d of the disk with signature %08X", d.Start, d.Signature)
	}
	return "partition " + d.Partition.String()
}

// DecodeDevice decodes a device element. The layout has no published source: it
// was worked out from stores, and agrees with those that the systems' own tools
// print.
func DecodeDevice(raw []byte) (*BCDDevice, error) {
	le := binary.LittleEndian
	if len(raw) < 0x14 {
		return nil, fmt.Errorf("a device element has %d bytes, expected at least 20", len(raw))
	}
	d := &BCDDevice{Kind: DeviceKind(le.Uint32(raw[0x10:]))}
	if d.Kind != DevicePartition {
		return d, nil
	}
	if len(raw) < 0x48 {
		return d, fmt.Errorf("a partition device has %d bytes, expected at least 72", len(raw))
	}
	switch style := le.Uint32(raw[0x34:]); style {
	case 0:
		copy(d.Partition[:], raw[0x20:])
		copy(d.Disk[:], raw[0x38:])
	case 1:
		d.MBR, d.Start, d.Signature = true, le.Uint64(raw[0x20:]), le.Uint32(raw[0x38:])
	default:
		return d, fmt.Errorf("a partition device has partition style %d, expected 0 or 1", style)
	}
	return d, nil
}

// DeviceFields names the bytes of a partition's device element.
func DeviceFields(mbr bool) []disk.Field {
	fields := []disk.Field{{Name: "additional options", Length: 16, Form: disk.Raw},
		{Name: "device type", Offset: 0x10, Length: 4, Form: disk.Number}, {Name: "partition style", Offset: 0x34, Length: 4, Form: disk.Number}}
	if mbr {
		return append(fields, disk.Field{Name: "partition start, bytes", Offset: 0x20, Length: 8, Form: disk.Number},
			disk.Field{Name: "disk signature", Offset: 0x38, Length: 4, Form: disk.Hex})
	}
	return append(fields, disk.Field{Name: "partition GUID", Offset: 0x20, Length: 16, Form: disk.UUID},
		disk.Field{Name: "disk GUID", Offset: 0x38, Length: 16, Form: disk.UUID})
}
