package volume

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"latchkey/core/disk"
)

// signature is how a kind of volume is recognised: a magic value at a place, and
// where its identifier and label stand.
type signature struct {
	kind      Kind
	structure string
	at        int64  // byte offset of the structure within the volume
	magicAt   int    // within the structure
	magic     string // the bytes that must stand there
	length    int64  // bytes of the structure that are read
	serial    func(b []byte) string
	label     func(b []byte) string
	fields    []disk.Field
}

// signatures lists the kinds that are recognised and not read. Sources: the
// kernel's include/uapi/linux/magic.h and mm/swapfile.c (swap), the LUKS1 and
// LUKS2 on-disk format specifications, lvm2's label.h and the md driver's
// md_p.h, the Btrfs on-disk format documentation, the XFS Algorithms and Data
// Structures book, chapter "Superblocks", Technical Note TN1150 (HFS Plus), the Apple
// File System Reference, "Container", and for the last ones util-linux' libblkid.
var signatures = []signature{
	{kind: KindLUKS, structure: "LUKS header", magic: "LUKS\xBA\xBE", length: 512,
		serial: func(b []byte) string { return cString(b[168:208]) }, label: luksLabel,
		fields: []disk.Field{{Name: "magic", Offset: 0, Length: 6, Form: disk.Raw},
			{Name: "uuid", Offset: 168, Length: 40, Form: disk.Text}}},
	{kind: KindXFS, structure: "XFS superblock", magic: "XFSB", length: 512,
		serial: uuidAt(32), label: textAt(108, 12),
		fields: []disk.Field{{Name: "sb_magicnum", Offset: 0, Length: 4, Form: disk.Text},
			{Name: "sb_uuid", Offset: 32, Length: 16, Form: disk.Raw}, {Name: "sb_fname", Offset: 108, Length: 12,
				Form: disk.Text}}},
	{kind: KindAPFS, structure: "APFS container superblock", magicAt: 32, magic: "NXSB", length: 512,
		serial: func(b []byte) string { return strings.ToUpper(plainUUID(b[72:])) }, label: nil,
		fields: []disk.Field{{Name: "nx_magic", Offset: 32, Length: 4, Form: disk.Text},
			{Name: "nx_block_size", Offset: 36, Length: 4, Form: disk.Number},
			{Name: "nx_block_count", Offset: 40, Length: 8, Form: disk.Number}, {Name: "nx_uuid", Offset: 72, Length: 16,
				Form: disk.Raw}}},
	{kind: KindLVM, structure: "LVM label", at: 512, magic: "LABELONE", length: 512, serial: lvmUUID,
		fields: lvmFields()},
	{kind: KindHFS, structure: "HFS+ volume header", at: 1024, magic: "H+", length: 512, serial: hfsID,
		fields: []disk.Field{{Name: "signature", Offset: 0, Length: 2, Form: disk.Text},
			{Name: "finderInfo[6,7]", Offset: 104, Length: 8, Form: disk.Raw}}},
	{kind: KindHFS, structure: "HFS+ volume header", at: 1024, magic: "HX", length: 512, serial: hfsID,
		fields: []disk.Field{{Name: "signature", Offset: 0, Length: 2, Form: disk.Text},
			{Name: "finderInfo[6,7]", Offset: 104, Length: 8, Form: disk.Raw}}},
	{kind: KindSwap, structure: "swap header", magicAt: 4086, magic: "SWAPSPACE2", length: 4096,
		serial: uuidAt(1036), label: textAt(1052, 16),
		fields: []disk.Field{{Name: "uuid", Offset: 1036, Length: 16, Form: disk.Raw},
			{Name: "volume_name", Offset: 1052, Length: 16, Form: disk.Text},
			{Name: "magic", Offset: 4086, Length: 10, Form: disk.Text}}},
	{kind: KindRAID, structure: "md superblock", at: 4096, magic: "\xFC\x4E\x2B\xA9", length: 256,
		serial: uuidAt(16), label: textAt(32, 32), fields: mdFields()},
	{kind: KindRAID, structure: "md superblock", magic: "\xFC\x4E\x2B\xA9", length: 256,
		serial: uuidAt(16), label: textAt(32, 32), fields: mdFields()},
	{kind: KindBtrfs, structure: "Btrfs superblock", at: 64 << 10, magicAt: 64, magic: "_BHRfS_M", length: 1024,
		serial: uuidAt(32), label: textAt(299, 256),
		fields: []disk.Field{{Name: "fsid", Offset: 32, Length: 16, Form: disk.Raw},
			{Name: "magic", Offset: 64, Length: 8, Form: disk.Text}, {Name: "label", Offset: 299, Length: 256,
				Form: disk.Text}}},
	{kind: KindF2FS, structure: "F2FS superblock", at: 1024, magic: "\x10\x20\xF5\xF2", length: 512,
		serial: uuidAt(108), label: nil, fields: []disk.Field{{Name: "magic", Offset: 0, Length: 4, Form: disk.Hex},
			{Name: "uuid", Offset: 108, Length: 16, Form: disk.Raw}}},
	{kind: KindBcachefs, structure: "bcachefs superblock", at: 4096, magicAt: 24,
		magic:  "\xC6\x85\x73\xF6\x66\xCE\x90\xA9\xD9\x6A\x60\xCF\x80\x3D\xF7\xEF",
		length: 512, serial: uuidAt(56), label: textAt(72, 32), fields: []disk.Field{{Name: "user_uuid", Offset: 56,
			Length: 16, Form: disk.Raw}}},
	{kind: KindBcache, structure: "bcache superblock", at: 4096, magicAt: 24,
		magic:  "\xC6\x85\x73\xF6\x4E\x1A\x45\xCA\x82\x65\xF5\x7F\x48\xBA\x6D\x81",
		length: 512, serial: uuidAt(40), fields: []disk.Field{{Name: "uuid", Offset: 40, Length: 16, Form: disk.Raw}}},
	{kind: KindJFS, structure: "JFS superblock", at: 32 << 10, magic: "JFS1", length: 512, serial: uuidAt(136),
		label: textAt(152, 16),
		fields: []disk.Field{{Name: "s_magic", Offset: 0, Length: 4, Form: disk.Text},
			{Name: "s_uuid", Offset: 136, Length: 16, Form: disk.Raw}}},
	{kind: KindReiser, structure: "ReiserFS superblock", at: 64 << 10, magicAt: 52, magic: "ReIsEr", length: 512,
		serial: uuidAt(84), label: textAt(100, 16),
		fields: []disk.Field{{Name: "s_magic", Offset: 52, Length: 10, Form: disk.Text},
			{Name: "s_uuid", Offset: 84, Length: 16, Form: disk.Raw}}},
}

// identify recognises a volume that is not read any further; of one that is not recognised it says
// whether it may be of a kind all the same.
func identify(section *io.SectionReader) (v Volume, ok bool) {
	seen := &noting{of: section}
	r := io.NewSectionReader(seen, 0, section.Size())
	for _, s := range signatures {
		raw := make([]byte, s.length)
		if _, err := r.ReadAt(raw, s.at); err != nil || !bytes.HasPrefix(raw[s.magicAt:], []byte(s.magic)) {
			continue
		}
		v := Volume{Kind: s.kind, Serial: s.serial(raw), marks: mark(s.structure, s.at, s.length, s.fields)}
		if s.label != nil {
			v.Label = s.label(raw)
		}
		return v, true
	}
	if c := mdAtEnd(r); c != nil {
		return Volume{Kind: KindRAID, Serial: c.Set, Label: c.Name}, true
	}
	if holdsZFS(r) {
		return Volume{Kind: KindZFS}, true
	}
	return Volume{Kind: Unknown, KindOpen: seen.lacks}, false
}

// noting notes whether something of a volume could not be read, though it is there: the evidence
// lacks it, or the drive did not give it.
type noting struct {
	of    io.ReaderAt
	lacks bool
}

func (n *noting) ReadAt(b []byte, off int64) (int, error) {
	count, err := n.of.ReadAt(b, off)
	n.lacks = n.lacks || err != nil && !errors.Is(err, io.EOF)
	return count, err
}

// holdsZFS looks for an uberblock in the first label of a ZFS pool: its ring begins 128 KiB
// into it, and its places are 1 KiB or larger. OpenZFS, sys/uberblock_impl.h.
func holdsZFS(r io.ReaderAt) bool {
	ring := make([]byte, 128<<10)
	if _, err := r.ReadAt(ring, 128<<10); err != nil {
		return false
	}
	for at := 0; at < len(ring); at += 1024 {
		if m := ring[at:]; binary.LittleEndian.Uint64(m) == zfsMagic || binary.BigEndian.Uint64(m) == zfsMagic {
			return true
		}
	}
	return false
}

// zfsMagic is the magic of an uberblock.
const zfsMagic = 0x00bab10c

func uuidAt(at int) func([]byte) string {
	return func(b []byte) string { return plainUUID(b[at:]) }
}

func textAt(at, n int) func([]byte) string {
	return func(b []byte) string { return cString(b[at : at+n]) }
}

// luksLabel returns the label that version 2 of the format has.
func luksLabel(b []byte) string {
	if binary.BigEndian.Uint16(b[6:]) == 2 {
		return cString(b[24:72])
	}
	return ""
}

// lvmUUID groups the 32 characters of a physical volume's identifier as LVM's own
// tools print them.
func lvmUUID(b []byte) string {
	at := int(binary.LittleEndian.Uint32(b[20:]))
	if at < 0 || at+32 > len(b) {
		return ""
	}
	id := string(b[at : at+32])
	return strings.Join([]string{id[:6], id[6:10], id[10:14], id[14:18], id[18:22], id[22:26], id[26:]}, "-")
}

// hfsID returns the volume's identifier of 64 bits, in the last two words of the
// Finder's information.
func hfsID(b []byte) string { return fmt.Sprintf("%X", b[104:112]) }

func serial32(b []byte) string {
	v := binary.LittleEndian.Uint32(b)
	return fmt.Sprintf("%04X-%04X", v>>16, v&0xFFFF)
}
