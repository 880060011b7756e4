package capture

import (
	"bytes"
	"encoding/binary"
	"strings"
)

// storageDescriptor reads the system's STORAGE_DEVICE_DESCRIPTOR (winioctl.h): offsets
// from its beginning to texts that end in a zero, 0 for none, and the kind of bus.
// What it does not tell stays empty.
func storageDescriptor(raw []byte) (bus, model, serial string) {
	if len(raw) < 32 {
		return "", "", ""
	}
	le := binary.LittleEndian
	text := func(at int) string {
		offset := le.Uint32(raw[at:])
		if offset == 0 || uint64(offset) >= uint64(len(raw)) {
			return ""
		}
		value, _, _ := bytes.Cut(raw[offset:], []byte{0})
		return printable(value)
	}
	// STORAGE_BUS_TYPE
	bus = map[uint32]string{1: "scsi", 7: "usb", 10: "scsi", 11: "sata", 12: "sd", 13: "sd", 17: "nvme"}[le.Uint32(raw[28:])]
	return bus, strings.TrimSpace(text(12) + " " + text(16)), text(24)
}

// unitSerial reads the page of a unit's serial number: SPC-4, 7.8.15, whose text
// begins at byte 4 and is as long as bytes 2 and 3 tell.
func unitSerial(raw []byte) string {
	if len(raw) < 4 || raw[1] != 0x80 {
		return ""
	}
	return printable(raw[4:min(len(raw), 4+int(raw[2])<<8+int(raw[3]))])
}

// printable is text of a drive without what is no sign, and no longer than is kept.
func printable(raw []byte) string {
	text := strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7E {
			return -1
		}
		return r
	}, string(raw))
	return strings.TrimSpace(text[:min(len(text), maxIdentifier)])
}
