package realmode_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/realmode"
	"latchkey/internal/reference"
)

var errNotHere = errors.New("not in the evidence")

// image is a disk whose first sectors are bytes; what lies past known is not in
// evidence when lacking is set.
type image struct {
	bytes   []byte
	sectors uint64
	lacking bool
}

func (m image) Sectors() uint64 { return m.sectors }
func (m image) SectorSize() int { return 512 }
func (m image) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	if off < int64(len(m.bytes)) {
		copy(p, m.bytes[off:])
	} else if m.lacking {
		return 0, errNotHere
	}
	return len(p), nil
}

func lacks(err error) bool { return errors.Is(err, errNotHere) }

// withTable is a disk with code in sector 0 and records in its table.
func withTable(code []byte, records ...[]byte) image {
	m := image{bytes: make([]byte, 1<<20), sectors: 1 << 20}
	copy(m.bytes, code)
	for i, r := range records {
		copy(m.bytes[446+16*i:], r)
	}
	m.bytes[510], m.bytes[511] = 0x55, 0xAA
	return m
}

func record(status byte, start uint32) []byte {
	le := binary.LittleEndian
	r := make([]byte, 16)
	r[0], r[4] = status, 7
	le.PutUint32(r[8:], start)
	le.PutUint32(r[12:], 1000)
	return r
}

func (m image) bootable(lba int) image {
	m.bytes[lba*512+510], m.bytes[lba*512+511] = 0x55, 0xAA
	return m
}

func run(m image) realmode.Run { return realmode.Execute(m.bytes[:512], m, lacks) }

// The free boot records of Debian's syslinux-common do what their source says
// (mbr/mbr.S, mbr/altmbr.S, mbr/gptmbr.S).
func TestFreeBootRecords(t *testing.T) {
	mbr := reference.NeedFile(t, "/usr/lib/syslinux/mbr/mbr.bin")
	alt := reference.NeedFile(t, "/usr/lib/syslinux/mbr/altmbr.bin")
	first, second, off := record(0x80, 100), record(0x80, 300), record(0, 300)

	r := run(withTable(mbr, first, off).bootable(100))
	assert.Equal(t, realmode.PassesOn, r.End, r.Why)
	assert.EqualValues(t, 100, r.Sector)
	assert.Zero(t, r.Offset)

	r = run(withTable(mbr, off, second).bootable(300))
	assert.Equal(t, realmode.PassesOn, r.End, r.Why)
	assert.EqualValues(t, 300, r.Sector)

	for name, c := range map[string]struct {
		disk image
		says string
	}{
		"none active":    {withTable(mbr, off), "Missing operating system."},
		"two active":     {withTable(mbr, first, second), "Multiple active partitions."},
		"no boot record": {withTable(mbr, first), "Missing operating system."},
	} {
		r := run(c.disk)
		message, complains := r.Complaint()
		assert.True(t, complains, name)
		assert.Contains(t, message, c.says, name)
	}

	// A chain of logical partitions that leads back to itself: it is gone round for ever.
	chain := withTable(mbr, []byte{0, 0, 0, 0, 5, 0, 0, 0, 100, 0, 0, 0, 200}).bootable(100)
	copy(chain.bytes[100*512+462:], []byte{0, 0, 0, 0, 5, 0, 0, 0, 0, 0, 0, 0, 8})
	r = run(chain)
	assert.Equal(t, realmode.Round, r.End, r.Why)
	assert.Empty(t, r.Output)
	assert.Greater(t, len(r.Reads), 60)

	named := withTable(alt, off, record(0, 300)).bootable(300)
	named.bytes[439] = 2
	r = run(named)
	assert.Equal(t, realmode.PassesOn, r.End, r.Why)
	assert.EqualValues(t, 300, r.Sector)
}

// GRUB's boot sector (boot.S) reads its core image to 0x70000, copies it to
// 0x8000 and jumps there: the copy is still known as the disk's.
func TestGRUBsBootSector(t *testing.T) {
	boot := bytes.Clone(reference.NeedFile(t, "/usr/lib/grub/i386-pc/boot.img"))
	binary.LittleEndian.PutUint64(boot[0x5C:], 40)
	m := withTable(boot)
	copy(m.bytes[40*512:], []byte{0xEB, 0xFE})
	r := run(m)
	assert.Equal(t, realmode.PassesOn, r.End, r.Why)
	assert.EqualValues(t, 40, r.Sector)
	require.NotEmpty(t, r.Reads)
	assert.EqualValues(t, 40, r.Reads[len(r.Reads)-1].Sector)
	assert.Contains(t, r.Output, "GRUB")
}

func TestSectorsThatAreNotInEvidence(t *testing.T) {
	mbr := reference.NeedFile(t, "/usr/lib/syslinux/mbr/mbr.bin")
	m := withTable(mbr, record(0x80, 100))
	m.bytes, m.lacking = m.bytes[:512], true
	r := run(m)
	assert.Equal(t, realmode.Lacks, r.End)
	assert.False(t, r.Settled())
	assert.Contains(t, r.Why, "100")
}

// assemble returns small programs made by nasm, with what their registers must be
// by the processor's manual, written as a line on the screen.
func assemble(t *testing.T, source string) []byte {
	t.Helper()
	reference.Need(t, "nasm")
	dir := t.TempDir()
	in, out := filepath.Join(dir, "a.asm"), filepath.Join(dir, "a.bin")
	require.NoError(t, os.WriteFile(in, []byte("bits 16\norg 0x7C00\n"+source), 0o600))
	msg, err := exec.Command("nasm", "-f", "bin", "-o", out, in).CombinedOutput()
	require.NoError(t, err, string(msg))
	b, err := os.ReadFile(out)
	require.NoError(t, err)
	return b
}

// The worked results follow from the Intel manual's descriptions of the
// instructions; the letter Y is printed where they hold.
func TestInstructions(t *testing.T) {
	const check = "\n jne no\n mov ax, 0x0E59\n int 0x10\nno: cli\n hlt\n"
	for name, source := range map[string]string{
		"multiply and divide": "mov ax, 1234\n mov cx, 100\n mul cx\n mov cx, 7\n div cx\n cmp dx, 123400 % 7",
		"signed multiply":     "mov ax, -3\n imul ax, ax, 5\n cmp ax, -15",
		"carry through":       "mov ax, 0xFFFF\n add ax, 1\n mov bx, 0\n adc bx, 0\n cmp bx, 1",
		"borrow":              "mov eax, 0\n sub eax, 1\n sbb bx, bx\n cmp bx, -1",
		"shift right":         "mov ax, 0x8001\n shr ax, 1\n mov bx, 0\n rcl bx, 1\n cmp bx, 1",
		"arithmetic shift":    "mov al, 0x84\n sar al, 2\n cmp al, 0xE1",
		"rotate":              "mov ax, 0x1234\n rol ax, 4\n cmp ax, 0x2341",
		"double shift":        "mov ax, 0x1234\n mov dx, 0xABCD\n shld ax, dx, 8\n cmp ax, 0x34AB",
		"push and pop all":    "mov cx, 77\n pusha\n mov cx, 0\n popa\n cmp cx, 77",
		"call and return":     "call over\n jmp after\nover: mov cx, 5\n ret\nafter: cmp cx, 5",
		"repeat and compare":  "xor ax, ax\n mov ds, ax\n mov es, ax\n cld\n mov si, one\n mov di, two\n mov cx, 4\n repe cmpsb\n jmp over\none: db 'abcd'\ntwo: db 'abXd'\nover: cmp cx, 1",
		"loop":                "mov cx, 5\n xor ax, ax\nagain: add ax, cx\n loop again\n cmp ax, 15",
		"string backwards":    "xor ax, ax\n mov es, ax\n std\n mov di, 0x505\n mov al, 9\n mov cx, 3\n rep stosb\n cmp di, 0x502",
		"far call":            "mov word [0x500], there\n mov word [0x502], 0\n call far [0x500]\n jmp after\nthere: mov bx, 3\n retf\nafter: cmp bx, 3",
		"sign extension":      "mov al, -2\n cbw\n cwd\n cmp dx, -1",
		"zero extension":      "mov bl, 0xFE\n movzx eax, bl\n cmp eax, 0xFE",
		"translate":           "xor ax, ax\n mov ds, ax\n mov bx, table\n mov al, 2\n xlatb\n jmp over\ntable: db 5, 6, 7\nover: cmp al, 7",
		"stack frame":         "mov bp, sp\n push word 9\n mov ax, [bp-2]\n add sp, 2\n cmp ax, 9",
		"addresses of 32 bit": "xor ax, ax\n mov ds, ax\n mov ebx, 0x500\n mov ecx, 2\n mov word [0x50A], 44\n mov ax, [ebx + ecx * 4 + 2]\n cmp ax, 44",
	} {
		r := run(withTable(assemble(t, source+check)))
		assert.Equal(t, realmode.Halts, r.End, "%s: %s", name, r.Why)
		assert.Equal(t, "Y", r.Output, name)
	}
}

func TestEnds(t *testing.T) {
	for name, c := range map[string]struct {
		source string
		end    realmode.End
	}{
		"hands back":              {"int 0x18", realmode.HandsBack},
		"starts over":             {"int 0x19", realmode.HandsBack},
		"waits for a key":         {"xor ah, ah\n int 0x16", realmode.Waits},
		"a jump to itself":        {"here: jmp here", realmode.Halts},
		"runs on":                 {"here: inc ax\n jmp here", realmode.Round},
		"halts with interrupts":   {"sti\nhere: hlt\n jmp here", realmode.Halts},
		"divides by zero":         {"xor cx, cx\n div cx", realmode.Halts},
		"protected mode":          {"lgdt [0x500]", realmode.Unknown},
		"an unknown service":      {"int 0x42", realmode.Unknown},
		"reads the same for ever": {"again: mov ax, 0x0201\n mov bx, 0x8000\n mov cx, 2\n mov dx, 0x80\n int 0x13\n jmp again", realmode.Round},
		"reads on and on":         {"mov cx, 2\nagain: mov ax, 0x0201\n mov bx, 0x8000\n mov dx, 0x80\n int 0x13\n inc ch\n jmp again", realmode.Goes},
		"reads past the end":      {"mov ax, 0x0201\n mov bx, 0x8000\n mov cx, 0xFFFF\n mov dx, 0xFE80\n int 0x13\n jc out\n int 0x18\nout: cli\n hlt", realmode.Halts},
	} {
		r := run(withTable(assemble(t, c.source)))
		assert.Equal(t, c.end, r.End, "%s: %s", name, r.Why)
	}
}

func FuzzExecute(f *testing.F) {
	f.Add([]byte{0xEB, 0xFE})
	f.Add([]byte{0xCD, 0x13, 0xF3, 0xA5, 0xFF, 0x2E, 0, 1})
	m := withTable(nil)
	m.bytes = m.bytes[:64<<10]
	f.Fuzz(func(t *testing.T, code []byte) {
		clear(m.bytes[:510])
		copy(m.bytes, code[:min(len(code), 446)])
		r := run(m)
		assert.NotEmpty(t, r.End)
	})
}

func BenchmarkExecute(b *testing.B) {
	m := withTable(reference.NeedFile(b, "/usr/lib/syslinux/mbr/mbr.bin"), record(0x80, 100)).bootable(100)
	for b.Loop() {
		run(m)
	}
}

// byCylinder is code that reads one sector by cylinder, head and sector, and runs it: INT 13h,
// AH=02h. BIOS Enhanced Disk Drive specification (ANSI INCITS 347).
func byCylinder(cylinder, head byte) []byte {
	return []byte{0xB8, 0x01, 0x02, 0xBB, 0x00, 0x7E, 0xB9, 0x01, cylinder, 0xBA, 0x80, head, 0xCD, 0x13,
		0xEA, 0x00, 0x7E, 0, 0}
}

// What is read by cylinder, head and sector lies elsewhere under another geometry, but for the
// tracks of the first cylinder that every geometry has.
func TestCodeThatGoesByTheGeometry(t *testing.T) {
	for name, c := range map[string]struct {
		code   []byte
		sector uint64
		open   bool
	}{
		"the second cylinder":      {byCylinder(1, 0), 255 * 63, true},
		"the second head":          {byCylinder(0, 1), 63, false},
		"the first track":          {byCylinder(0, 0), 0, false},
		"a head that only one has": {byCylinder(0, 20), 20 * 63, true},
	} {
		r := run(withTable(c.code))
		assert.Equal(t, realmode.PassesOn, r.End, name)
		assert.Equal(t, c.sector, r.Sector, name)
		assert.Equal(t, c.open, r.ByGeometry, name)
	}
	mbr := reference.NeedFile(t, "/usr/lib/syslinux/mbr/mbr.bin")
	assert.False(t, run(withTable(mbr, record(0x80, 100)).bootable(100)).ByGeometry, "it reads by sector numbers")
}
