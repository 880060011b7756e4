package disk

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"regexp"
	"strings"
)

// GUID is an EFI_GUID as stored on disk: the first three fields little-endian,
// the rest as bytes. UEFI Specification 2.10, appendix A.
type GUID [16]byte

// String returns the registry form in upper case, as the UEFI Specification
// prints it.
func (g GUID) String() string {
	return fmt.Sprintf("%08X-%04X-%04X-%X-%X",
		binary.LittleEndian.Uint32(g[0:]), binary.LittleEndian.Uint16(g[4:]),
		binary.LittleEndian.Uint16(g[6:]), g[8:10], g[10:16])
}

// IsZero reports whether every byte is zero, which marks an unused entry.
func (g GUID) IsZero() bool { return g == GUID{} }

var guidForm = regexp.MustCompile(`^[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}$`)

// ParseGUID reads the registry form, with or without braces, in either case.
func ParseGUID(s string) (GUID, error) {
	var g GUID
	plain := strings.Trim(s, "{}")
	if !guidForm.MatchString(plain) {
		return g, fmt.Errorf("GUID %q: expected the form 8-4-4-4-12 hexadecimal digits", s)
	}
	raw, err := hex.DecodeString(strings.ReplaceAll(plain, "-", ""))
	if err != nil {
		return g, fmt.Errorf("GUID %q: expected the form 8-4-4-4-12 hexadecimal digits", s)
	}
	binary.LittleEndian.PutUint32(g[0:], binary.BigEndian.Uint32(raw[0:]))
	binary.LittleEndian.PutUint16(g[4:], binary.BigEndian.Uint16(raw[4:]))
	binary.LittleEndian.PutUint16(g[6:], binary.BigEndian.Uint16(raw[6:]))
	copy(g[8:], raw[8:])
	return g, nil
}

// MustGUID is ParseGUID for constants; it panics on a malformed one.
func MustGUID(s string) GUID {
	g, err := ParseGUID(s)
	if err != nil {
		panic(err)
	}
	return g
}

// IsID reports whether a text is a disk's identifier: a GUID in its registry form, or
// a disk signature in eight hexadecimal digits.
func IsID(s string) bool {
	if _, err := ParseGUID(s); err == nil {
		return true
	}
	raw, err := hex.DecodeString(s)
	return err == nil && len(raw) == 4
}
