package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strconv"
	"strings"

	"latchkey/core/disk"
)

// Bounds of LVM's metadata: its text is a few KiB for a group of a handful of volumes.
const (
	maxLVMText  = 1 << 20
	maxLVMDepth = 8
	maxLVMAreas = 8
	maxLVMParts = 256
)

// readLVM reads the volume group that a physical volume belongs to, from the text in its
// metadata area. lvm2's lib/format_text/layout.h: pv_header, mda_header, raw_locn.
func readLVM(r *io.SectionReader) *Container {
	c := &Container{Open: true}
	label := make([]byte, 512)
	if _, err := r.ReadAt(label, 512); err != nil {
		return c
	}
	at := int64(binary.LittleEndian.Uint32(label[20:]))
	if at < 32 || at+40 > 512 {
		return c
	}
	header := label[at:]
	c.Own = lvmUUID(label)
	areas := header[40:]
	// The data areas come first, then the metadata areas; an offset of 0 ends each list.
	for list := range 2 {
		for n := 0; len(areas) >= 16 && n < maxLVMAreas; n++ {
			offset := binary.LittleEndian.Uint64(areas)
			areas = areas[16:]
			if offset == 0 {
				break
			}
			if list == 0 || offset >= uint64(r.Size()) {
				continue
			}
			if text, err := lvmText(r, int64(offset)); err == nil {
				if c.group(text, r.Size()) == nil {
					return c
				}
			}
		}
	}
	return c
}

// lvmText returns the newest text of a metadata area, a ring: what runs over its end goes
// on behind its header.
func lvmText(r io.ReaderAt, at int64) (string, error) {
	h := make([]byte, 512)
	if _, err := r.ReadAt(h, at); err != nil {
		return "", err
	}
	le := binary.LittleEndian
	if string(h[4:20]) != " LVM2 x[5A%r0N*>" {
		return "", errors.New("no metadata area")
	}
	ring, offset, size := le.Uint64(h[32:]), le.Uint64(h[40:]), le.Uint64(h[48:])
	if size == 0 || size > maxLVMText || ring <= 512 || ring > 1<<40 || offset < 512 || offset >= ring ||
		size > ring-512 {
		return "", fmt.Errorf("metadata of %d bytes at %d of a ring of %d", size, offset, ring)
	}
	text := make([]byte, size)
	first := min(size, ring-offset)
	if _, err := r.ReadAt(text[:first], at+int64(offset)); err != nil {
		return "", err
	}
	if first < size {
		if _, err := r.ReadAt(text[first:], at+512); err != nil {
			return "", err
		}
	}
	if sum := lvmSum(text); sum != le.Uint32(h[56:]) {
		return "", fmt.Errorf("the checksum of the metadata is %08X, expected %08X", sum, le.Uint32(h[56:]))
	}
	return string(text), nil
}

// lvmSum is the checksum that LVM uses: CRC-32 with a start value of its own, not inverted.
// lvm2's lib/misc/crc.c, INITIAL_CRC.
func lvmSum(b []byte) uint32 {
	const initial = 0xf597a6cf
	return ^crc32.Update(^uint32(initial), crc32.IEEETable, b)
}

// group takes the volume group in.
func (c *Container) group(text string, size int64) error {
	root, err := parseLVM(text)
	if err != nil {
		return err
	}
	var name string
	var vg *lvmNode
	for key, n := range root.sections {
		if n.values["id"] != "" {
			name, vg = key, n
		}
	}
	if vg == nil {
		return errors.New("the metadata describe no volume group")
	}
	extent, err := strconv.ParseInt(vg.values["extent_size"], 10, 40)
	if err != nil || extent <= 0 {
		return fmt.Errorf("extents of %q sectors", vg.values["extent_size"])
	}
	c.Set, c.Name = vg.values["id"], name
	here, start := "", int64(-1)
	if pvs := vg.sections["physical_volumes"]; pvs != nil {
		c.Members = len(pvs.sections)
		for key, pv := range pvs.sections {
			if pv.values["id"] == c.Own {
				here = key
				if start, err = strconv.ParseInt(pv.values["pe_start"], 10, 50); err != nil {
					start = -1
				}
			}
		}
	}
	c.Open = false
	lvs := vg.sections["logical_volumes"]
	if lvs == nil {
		return nil
	}
	for _, key := range lvs.order {
		if len(c.Parts) == maxLVMParts {
			c.Open = true
			break
		}
		p := lvs.sections[key].part(key, here, start, extent, size)
		// What is not read through may be any volume.
		c.Open = c.Open || p.Offset < 0 && p.Pieces == nil
		c.Parts = append(c.Parts, p)
	}
	return nil
}

// part places a logical volume: in one piece on this physical volume, in several, or not.
func (n *lvmNode) part(name, here string, start, extent, size int64) Part {
	p := Part{Name: name, UUID: n.values["id"], Offset: -1}
	for _, s := range n.sections {
		p.Here = p.Here || here != "" && strings.Contains(s.values["stripes"], strconv.Quote(here))
	}
	pieces, length := n.pieces(here, start, extent, size)
	switch len(pieces) {
	case 0:
	case 1:
		p.Offset, p.Length = pieces[0].Offset, length
	default:
		p.Pieces, p.Length = pieces, length
	}
	return p
}

// maxLVMPieces bounds the segments of a volume that is read.
const maxLVMPieces = 64

// pieces are a volume's segments in their order, where all of them lie one after the other on
// this physical volume. lvm2's lib/format_text/import_vsn1.c.
func (n *lvmNode) pieces(here string, start, extent, size int64) (list []Piece, length int64) {
	count, err := strconv.Atoi(n.values["segment_count"])
	if err != nil || count < 1 || count > maxLVMPieces || start < 0 {
		return nil, 0
	}
	limit := size / 512
	for i := range count {
		s := n.sections["segment"+strconv.Itoa(i+1)]
		if s == nil || s.values["type"] != "striped" || s.values["stripe_count"] != "1" {
			return nil, 0
		}
		device, from, ok := strings.Cut(s.values["stripes"], ",")
		first, err := strconv.ParseInt(strings.TrimSpace(from), 10, 40)
		extents, err2 := strconv.ParseInt(s.values["extent_count"], 10, 40)
		at, err3 := int64(0), error(nil)
		if count > 1 {
			at, err3 = strconv.ParseInt(s.values["start_extent"], 10, 40)
		}
		if !ok || err != nil || err2 != nil || err3 != nil || first < 0 || extents <= 0 ||
			device != strconv.Quote(here) {
			return nil, 0
		}
		if extent > limit || first > limit/extent || extents > limit/extent || start > limit ||
			start+(first+extents)*extent > limit || at > limit/extent || at*extent*512 != length {
			return nil, 0
		}
		list = append(list, Piece{At: length, Length: extents * extent * 512, Offset: (start + first*extent) * 512})
		length += extents * extent * 512
	}
	return list, length
}

// lvmNode is a section of LVM's text: values and sections by name.
type lvmNode struct {
	values   map[string]string // lists without their brackets
	sections map[string]*lvmNode
	order    []string // of the sections
}

// parseLVM reads the text of a volume group. lvm.conf(5), "SYNTAX": sections in braces,
// values, lists in brackets, comments behind a hash.
func parseLVM(text string) (*lvmNode, error) {
	p := &lvmParser{words: lvmWords(text)}
	root, err := p.section(0)
	if err == nil && len(p.words) > 0 {
		err = fmt.Errorf("%q stands behind the end", p.words[0])
	}
	return root, err
}

type lvmParser struct{ words []string }

func (p *lvmParser) next() string {
	if len(p.words) == 0 {
		return ""
	}
	w := p.words[0]
	p.words = p.words[1:]
	return w
}

func (p *lvmParser) section(depth int) (*lvmNode, error) {
	n := &lvmNode{values: map[string]string{}, sections: map[string]*lvmNode{}}
	for {
		name := p.next()
		if name == "" && depth == 0 || name == "}" && depth > 0 {
			return n, nil
		}
		switch p.next() {
		case "=":
			value, err := p.value()
			if err != nil {
				return nil, err
			}
			n.values[name] = value
		case "{":
			if depth == maxLVMDepth {
				return nil, errors.New("sections lie too deep")
			}
			inner, err := p.section(depth + 1)
			if err != nil {
				return nil, err
			}
			if n.sections[name] == nil {
				n.order = append(n.order, name)
			}
			n.sections[name] = inner
		default:
			return nil, fmt.Errorf("%q is followed by neither a value nor a section", name)
		}
	}
}

// value returns a value without the quotes around it, a list as its words with commas.
func (p *lvmParser) value() (string, error) {
	w := p.next()
	if w != "[" {
		return strings.Trim(w, `"`), nil
	}
	var list []string
	for {
		switch w := p.next(); w {
		case "]":
			return strings.Join(list, ","), nil
		case "":
			return "", errors.New("a list has no end")
		case ",":
		default:
			list = append(list, w)
		}
	}
}

// lvmWords splits the text: a text in quotes is one word, with its quotes.
func lvmWords(text string) (words []string) {
	for i := 0; i < len(text); {
		switch ch := text[i]; {
		case ch <= ' ':
			i++
		case ch == '#':
			end := strings.IndexByte(text[i:], '\n')
			if end < 0 {
				return words
			}
			i += end
		case strings.IndexByte("={}[],", ch) >= 0:
			words = append(words, text[i:i+1])
			i++
		case ch == '"':
			end := i + 1
			for end < len(text) && text[end] != '"' {
				if text[end] == '\\' {
					end++
				}
				end++
			}
			end = min(len(text), end+1)
			words = append(words, text[i:end])
			i = end
		default:
			end := strings.IndexAny(text[i:], "={}[],\"# \t\r\n\x00")
			if end <= 0 {
				end = len(text) - i
			}
			words = append(words, text[i:i+end])
			i += end
		}
	}
	return words
}

// lvmFields are the fields of a physical volume's label.
func lvmFields() []disk.Field {
	return []disk.Field{{Name: "id", Offset: 0, Length: 8, Form: disk.Text},
		{Name: "type", Offset: 24, Length: 8, Form: disk.Text}, {Name: "pv_uuid", Offset: 32, Length: 32, Form: disk.Text}}
}
