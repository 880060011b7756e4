package disk

import (
	"encoding/binary"
	"fmt"
	"strings"
	"unicode/utf16"
)

// Form is how a field's bytes are read.
type Form string

// The forms of fields.
const (
	Number Form = "number" // little-endian
	Text   Form = "text"   // 8-bit characters
	Wide   Form = "wide"   // UTF-16, little-endian
	UUID   Form = "guid"   // mixed-endian GUID
	Hex    Form = "hex"    // little-endian, in hexadecimal digits
	Raw    Form = "raw"
)

// Field is a named run of bytes within a structure.
type Field struct {
	Name   string
	Offset int64 // bytes from the structure's start
	Length int64 // bytes
	Form   Form
}

// Uint reads the field, of at most 8 bytes, from the structure that it lies in: a
// little-endian number.
func (f Field) Uint(structure []byte) uint64 {
	var v [8]byte
	copy(v[:], structure[f.Offset:f.Offset+f.Length])
	return binary.LittleEndian.Uint64(v[:])
}

// GUID reads the field as a GUID from the structure that it lies in.
func (f Field) GUID(structure []byte) (g GUID) {
	copy(g[:], structure[f.Offset:])
	return g
}

// Region is a structure at its place on a disk.
type Region struct {
	Structure string
	Offset    int64 // bytes from the start of the disk
	Length    int64 // bytes
	Fields    []Field
}

// MBRFields names the bytes of sector 0. UEFI Specification 2.10, tables 5.1 and
// 5.2.
func MBRFields() []Field {
	fields := []Field{{"BootCode", 0, 440, Raw}, {"UniqueMBRDiskSignature", 440, 4, Hex}, {"Unknown", 444, 2, Raw}}
	for i := int64(0); i < 4; i++ {
		at, n := mbrEntriesOff+i*mbrEntryLen, fmt.Sprintf("record %d ", i+1)
		fields = append(fields, Field{n + "BootIndicator", at, 1, Hex}, Field{n + "StartingCHS", at + 1, 3, Raw},
			Field{n + "OSType", at + 4, 1, Hex}, Field{n + "EndingCHS", at + 5, 3, Raw},
			Field{n + "StartingLBA", at + 8, 4, Number}, Field{n + "SizeInLBA", at + 12, 4, Number})
	}
	return append(fields, Field{"Signature", mbrSignatureOff, 2, Raw})
}

// Regions lists the table structures that were found, at their places.
func (l *Layout) Regions() []Region {
	var regions []Region
	if l.MBR != nil {
		regions = append(regions, Region{"MBR", 0, 512, MBRFields()})
		for _, e := range l.MBR.Logical {
			regions = append(regions, Region{"Extended boot record", e.Offset - mbrEntriesOff, 512, MBRFields()})
		}
	}
	if l.GPT != nil {
		for _, c := range []*GPTCopy{&l.GPT.Primary, &l.GPT.Backup} {
			if c.State == CopyGood || c.State == CopyDamaged {
				regions = append(regions, Region{c.structure(), Span(c.Header.LBA, l.SectorSize), gptHeaderLen,
					gptHeaderFields})
			}
			for _, e := range c.Entries {
				regions = append(regions, Region{fmt.Sprintf("GPT entry %d (%s)", e.Number, c.Which), e.Offset, gptEntryLen,
					gptEntryFields})
			}
		}
	}
	return regions
}

// Decode reads a field's bytes as its form says.
func (f Field) Decode(b []byte) string {
	var v [8]byte
	copy(v[:], b)
	switch f.Form {
	case Number:
		return fmt.Sprint(binary.LittleEndian.Uint64(v[:]))
	case Hex:
		return fmt.Sprintf("%0*X", 2*f.Length, binary.LittleEndian.Uint64(v[:]))
	case Text:
		return strings.TrimRight(string(b), " \x00")
	case Wide:
		var units []uint16
		for i := 0; i+1 < len(b) && (b[i] != 0 || b[i+1] != 0); i += 2 {
			units = append(units, binary.LittleEndian.Uint16(b[i:]))
		}
		return string(utf16.Decode(units))
	case UUID:
		var g GUID
		copy(g[:], b)
		return g.String()
	}
	if len(b) > 8 {
		return fmt.Sprintf("%X… (%d bytes)", b[:8], len(b))
	}
	return fmt.Sprintf("% X", b)
}
