package volume

import (
	"encoding/binary"
	"strings"
	"unicode/utf16"
)

// Directory entry attributes. FAT specification 1.03, section 6.
const (
	attrVolume = 0x08
	attrDir    = 0x10
	attrLong   = 0x0F
	direntLen  = 32

	ntLowerBase = 0x08
	ntLowerExt  = 0x10
)

func (f *FAT) rootEntries() ([]File, error) {
	if f.Kind == KindFAT32 {
		return f.chainEntries(f.rootClus)
	}
	d := f.decoder()
	_, err := f.decodeRun(&d, f.rootStart, f.rootLen)
	return d.files, err
}

// chainEntries reads a directory. Firmware follows its chain to the end before it reads it, and
// takes nothing from one that has none; a link out of the volume ends it, and is met as an error
// only where entries follow behind it (seen in edk2).
func (f *FAT) chainEntries(first uint32) ([]File, error) {
	if err := f.ends(first); err != nil {
		return nil, err
	}
	d := f.decoder()
	for c, left := first, maxDirBytes; left > 0; left -= f.Cluster {
		end, err := f.decodeRun(&d, f.clusterOffset(c), int64(f.Cluster))
		if end || err != nil {
			return d.files, err
		}
		next, more, err := f.next(c)
		if !more || err != nil {
			return d.files, err
		}
		c = next
	}
	return d.files, nil
}

// decoder reads entries as a volume of this type has them: the upper half of a first cluster is
// FAT32's alone. FAT specification 1.03, section 6, DIR_FstClusHI.
func (f *FAT) decoder() dirDecoder { return dirDecoder{wide: f.Kind == KindFAT32} }

func (f *FAT) decodeRun(d *dirDecoder, off, length int64) (end bool, err error) {
	raw := make([]byte, length)
	if _, err := f.r.ReadAt(raw, off); err != nil {
		return true, err
	}
	for i := 0; i+direntLen <= len(raw); i += direntLen {
		if !d.entry(raw[i:i+direntLen], off+int64(i)) {
			return true, nil
		}
	}
	return false, nil
}

// dirDecoder gathers directory entries and the long names before them.
type dirDecoder struct {
	files []File
	long  map[byte][]uint16 // by order in the name
	sum   byte
	wide  bool // first clusters have 28 bits
}

// entry takes the next 32 bytes; false means the end of the directory.
func (d *dirDecoder) entry(e []byte, off int64) bool {
	switch {
	case e[0] == 0:
		return false
	case e[0] == 0xE5:
		d.long = nil
		return true
	case e[11]&0x3F == attrLong:
		d.longPart(e)
		return true
	case e[11]&attrVolume != 0:
		d.long = nil
		return true
	}
	file := File{
		Name: d.name(e), Short: shortName(e, false), Dir: e[11]&attrDir != 0,
		Record: direntRecord, Offset: off, Length: direntLen,
		Size: int64(binary.LittleEndian.Uint32(e[28:])),
		node: uint64(binary.LittleEndian.Uint16(e[26:])),
	}
	if d.wide {
		file.node |= uint64(binary.LittleEndian.Uint16(e[20:])) << 16 & 0x0FFFFFFF
	}
	d.long = nil
	if nameable(file.Name) {
		d.files = append(d.files, file)
	}
	return true
}

// longPart stores one piece of a long name. FAT specification 1.03, section 7.
func (d *dirDecoder) longPart(e []byte) {
	if e[0]&0x40 != 0 {
		d.long, d.sum = map[byte][]uint16{}, e[13]
	}
	if d.long == nil || e[13] != d.sum {
		d.long = nil
		return
	}
	var units []uint16
	for _, span := range [][2]int{{1, 11}, {14, 26}, {28, 32}} {
		for i := span[0]; i < span[1]; i += 2 {
			units = append(units, binary.LittleEndian.Uint16(e[i:]))
		}
	}
	d.long[e[0]&0x3F] = units
}

func (d *dirDecoder) name(e []byte) string {
	if d.long != nil && d.sum == shortChecksum(e[:11]) {
		var units []uint16
		for i := byte(1); d.long[i] != nil; i++ {
			units = append(units, d.long[i]...)
		}
		for i, u := range units {
			if u == 0 {
				units = units[:i]
				break
			}
		}
		if len(units) > 0 {
			return string(utf16.Decode(units))
		}
	}
	return shortName(e, true)
}

// shortName is the name of an entry's own field, in the letters that were meant where cased.
func shortName(e []byte, cased bool) string {
	base, ext := strings.TrimRight(string(e[:8]), " "), strings.TrimRight(string(e[8:11]), " ")
	if base != "" && base[0] == 0x05 { // stands for 0xE5
		base = "\xE5" + base[1:]
	}
	// A reserved byte holds the case of an all-lower-case name or extension;
	// common practice of the systems since Windows NT.
	if cased && e[12]&ntLowerBase != 0 {
		base = strings.ToLower(base)
	}
	if cased && e[12]&ntLowerExt != 0 {
		ext = strings.ToLower(ext)
	}
	if ext != "" {
		return base + "." + ext
	}
	return base
}

// shortChecksum ties a long name to its short entry. FAT specification 1.03,
// section 7.2.
func shortChecksum(name []byte) byte {
	var sum byte
	for _, c := range name {
		sum = sum>>1 | sum<<7
		sum += c
	}
	return sum
}
