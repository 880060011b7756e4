package capture

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"
)

// NotADisk says why a file is refused as the beginning of a disk.
type NotADisk struct {
	Reason string
	// Confirmable is set when the file may be a disk after all (a blank or a
	// badly damaged one), so that a person may insist.
	Confirmable bool
}

func (e *NotADisk) Error() string { return e.Reason }

// minHead is the least beginning of a disk that tells anything, in bytes.
const minHead = 512

// Recognise checks that head is the beginning of a disk and, when given, that
// tail is its end. The error is a *NotADisk.
func Recognise(head, tail []byte) error {
	switch {
	case len(head) == 0:
		return &NotADisk{Reason: "The file is empty. Expected the first sectors of a disk."}
	case len(head) < minHead:
		return &NotADisk{Reason: fmt.Sprintf("The file has %d bytes. Expected at least one sector of 512 bytes from the start of a disk.", len(head))}
	case looksLikeDisk(head, tail):
		return nil
	case all(head, 0):
		return &NotADisk{Reason: "The file holds nothing but zeros: there is no boot record (55 AA at byte 510) and no partition table. Is the drive really blank?", Confirmable: true}
	case all(head, 0xFF):
		return &NotADisk{Reason: "The file holds nothing but FF bytes, as an erased or unreadable drive gives them: there is no boot record and no partition table.", Confirmable: true}
	}
	if kind := http.DetectContentType(head); kind != "application/octet-stream" {
		return &NotADisk{Reason: fmt.Sprintf("The file is not a disk: its beginning reads as %s. Expected raw sectors, with 55 AA at byte 510 or EFI PART at byte 512 or 4096.", strings.Split(kind, ";")[0])}
	}
	return &NotADisk{Reason: fmt.Sprintf("The file does not begin like a disk: bytes 510 and 511 are %02X %02X (expected 55 AA), and there is no EFI PART at byte 512 or 4096.", head[510], head[511]), Confirmable: true}
}

func looksLikeDisk(head, tail []byte) bool {
	if head[510] == 0x55 && head[511] == 0xAA {
		return true
	}
	for _, at := range []int{512, 4096} {
		if len(head) >= at+8 && string(head[at:at+8]) == "EFI PART" || len(tail) >= at &&
			string(tail[len(tail)-at:][:8]) == "EFI PART" {
			return true
		}
	}
	return false
}

func all(b []byte, c byte) bool { return bytes.Count(b, []byte{c}) == len(b) }
