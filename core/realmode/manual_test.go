package realmode_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/realmode"
)

// says runs a program, and returns what it wrote. Each part of it ends in "call is" behind a comparison, which writes Y
// where that holds.
func says(t *testing.T, m image, source string) string {
	t.Helper()
	const is = "\n cli\n hlt\nis: pushf\n pusha\n mov al, 'N'\n jne w\n mov al, 'Y'\nw: mov ah, 0x0E\n int 0x10\n popa\n popf\n ret\n"
	code := assemble(t, source+is)
	copy(m.bytes, code)
	r := run(m)
	assert.Equal(t, realmode.Halts, r.End, r.Why)
	return r.Output
}

// The conditional jumps, under all settings of the flags that they go by. Intel 64 and IA-32 Architectures Software
// Developer's Manual, volume 2, "Jcc", table of conditions.
func TestConditionalJumps(t *testing.T) {
	const carry, parity, zero, sign, overflow = 1, 4, 0x40, 0x80, 0x800
	jumps := []struct {
		name string
		goes func(c, p, z, s, o bool) bool
	}{
		{"ja", func(c, _, z, _, _ bool) bool { return !c && !z }}, {"jae", func(c, _, _, _, _ bool) bool { return !c }},
		{"jb", func(c, _, _, _, _ bool) bool { return c }}, {"jbe", func(c, _, z, _, _ bool) bool { return c || z }},
		{"je", func(_, _, z, _, _ bool) bool { return z }}, {"jne", func(_, _, z, _, _ bool) bool { return !z }},
		{"jg", func(_, _, z, s, o bool) bool { return !z && s == o }}, {"jge", func(_, _, _, s, o bool) bool { return s == o }},
		{"jl", func(_, _, _, s, o bool) bool { return s != o }}, {"jle", func(_, _, z, s, o bool) bool { return z || s != o }},
		{"jo", func(_, _, _, _, o bool) bool { return o }}, {"jno", func(_, _, _, _, o bool) bool { return !o }},
		{"js", func(_, _, _, s, _ bool) bool { return s }}, {"jns", func(_, _, _, s, _ bool) bool { return !s }},
		{"jp", func(_, p, _, _, _ bool) bool { return p }}, {"jnp", func(_, p, _, _, _ bool) bool { return !p }},
	}
	for _, j := range jumps {
		// The flags are counted up in BX, of which five bits are put where the flags have them.
		code := assemble(t, "xor bx, bx\nnext: mov si, bx\n and si, 31\n shl si, 1\n push word [table+si]\n popf\n "+j.name+" yes\n mov al, 'N'\n jmp w\nyes: mov al, 'Y'\n"+
			"w: mov ah, 0x0E\n int 0x10\n inc bx\n cmp bx, 32\n jne next\n cli\n hlt\ntable:\n"+flagWords(carry, parity, zero, sign, overflow))
		r := run(withTable(code))
		var want strings.Builder
		for i := range 32 {
			on := func(bit int) bool { return i>>bit&1 == 1 }
			want.WriteString(map[bool]string{true: "Y", false: "N"}[j.goes(on(0), on(1), on(2), on(3), on(4))])
		}
		assert.Equal(t, want.String(), r.Output, "%s: %s", j.name, r.Why)
	}
}

// flagWords are all settings of five flags, as words for an assembler.
func flagWords(flags ...int) string {
	var b strings.Builder
	for i := range 1 << len(flags) {
		word := 2
		for bit, f := range flags {
			word |= f * (i >> bit & 1)
		}
		fmt.Fprintf(&b, " dw %d\n", word)
	}
	return b.String()
}

// Loops, and the jumps by the counter: the same manual, "LOOP/LOOPcc", "Jcc"; loads of far pointers: "LDS/LES/…".
func TestCountersAndFarPointers(t *testing.T) {
	out := says(t, withTable(nil), `
 jmp start
bad: cmp sp, 0
 call is
 jmp end
start: mov cx, 0
 jcxz a
 jmp bad
a: mov ecx, 0x10000
 jcxz b
 jmp bad
b: jecxz bad
 mov cx, 3
 xor ax, ax
c: inc ax
 cmp ax, 9
 loopne c
 cmp ax, 3
 call is
 mov cx, 9
 xor ax, ax
d: inc ax
 cmp ax, 4
 loopne d
 cmp cx, 5
 call is
 mov cx, 9
 xor ax, ax
e: inc ax
 cmp ax, ax
 loope e
 cmp ax, 9
 call is
 mov cx, 5
 xor ax, ax
 inc ax
 cmp ax, 2
 loope bad
 cmp cx, 4
 call is
 xor ax, ax
 mov ds, ax
 mov dword [0x600], 0x12345678
 mov word [0x604], 0x9ABC
 les bx, [0x600]
 cmp bx, 0x5678
 call is
 mov ax, es
 cmp ax, 0x1234
 call is
 lfs edi, [0x600]
 cmp edi, 0x12345678
 call is
 mov ax, fs
 cmp ax, 0x9ABC
 call is
 mov ax, 0x1122
 cmp ah, 0x11
 call is
 mov bh, 0x7F
 cmp bx, 0x7F78
 call is
end:`)
	assert.Equal(t, strings.Repeat("Y", 10), out)
}

// What the firmware's disk service tells of a disk of 1 TiB, and of one it does not have. BIOS Enhanced Disk Drive
// specification (ANSI INCITS 347), functions 08h, 15h, 41h and 48h; the geometry of large disks is common practice.
func TestTheDiskServiceTellsOfADisk(t *testing.T) {
	m := withTable(nil)
	m.sectors = 1<<31 + 5
	out := says(t, m, `
 xor ax, ax
 mov ds, ax
 mov ah, 8
 mov dl, 0x80
 int 0x13
 jc bad
 cmp cx, 0xFFFF
 call is
 cmp dx, 0xFE01
 call is
 mov ah, 8
 mov dl, 0x81
 int 0x13
 jnc bad
 cmp ah, 7
 call is
 mov ah, 0x15
 mov dl, 0x80
 int 0x13
 cmp ah, 3
 call is
 mov ah, 0x15
 mov dl, 0x81
 int 0x13
 cmp ah, 0
 call is
 mov ah, 0x41
 mov bx, 0x55AA
 mov dl, 0x81
 int 0x13
 jnc bad
 cmp ah, 1
 call is
 mov ah, 0x48
 mov si, 0x600
 mov dword [0x600], 0xFFFF001A
 mov dl, 0x80
 int 0x13
 jc bad
 cmp dword [0x600], 0x1A
 call is
 cmp dword [0x604], 133674
 call is
 cmp dword [0x608], 255
 call is
 cmp dword [0x60C], 63
 call is
 cmp dword [0x610], 0x80000005
 call is
 cmp dword [0x614], 0
 call is
 cmp word [0x618], 512
 call is
 jmp end
bad: cmp sp, 0
 call is
end:`)
	assert.Equal(t, strings.Repeat("Y", 13), out)
}

// Reads by packet up to the disk's end, of up to 127 sectors, within memory: the same specification, function 42h.
func TestReadsByPacketAndTheirBounds(t *testing.T) {
	for name, c := range map[string]struct {
		count, segment, offset, sector int
		fails                          bool
	}{
		"one":                       {1, 0x800, 0, 1, false},
		"the most":                  {127, 0x1000, 0, 1, false},
		"more":                      {128, 0x1000, 0, 1, true},
		"none":                      {0, 0x800, 0, 1, true},
		"the last":                  {1, 0x800, 0, 1<<20 - 1, false},
		"beyond the last":           {2, 0x800, 0, 1<<20 - 1, true},
		"behind the disk":           {1, 0x800, 0, 1 << 20, true},
		"beyond the end of memory":  {1, 0xFFFF, 0xFFF0, 1, true},
		"to the end of high memory": {1, 0xFFE0, 0, 1, false},
	} {
		m := withTable(nil)
		out := says(t, m, fmt.Sprintf(`
 xor ax, ax
 mov ds, ax
 mov si, packet
 mov ah, 0x42
 mov dl, 0x80
 int 0x13
 mov al, 0
 adc al, 0
 cmp al, %d
 call is
 jmp end
packet: db 16, 0
 dw %d, %d, %d
 dq %d
end:`, map[bool]int{true: 1, false: 0}[c.fails], c.count, c.offset, c.segment, c.sector))
		assert.Equal(t, "Y", out, name)
	}
}

// What instructions leave in registers and flags, as the same manual describes each: the worked values follow from it.
func TestWhatInstructionsLeave(t *testing.T) {
	for name, source := range map[string]string{
		"signed product of a byte":           "mov al, -2\n mov bl, 3\n imul bl\n jc n\n cmp ax, -6\n n: call is",
		"signed product that needs both":     "mov al, 100\n mov bl, 100\n imul bl\n jnc n\n cmp ax, 10000\n n: call is",
		"signed product of words":            "mov ax, -300\n mov bx, 300\n imul bx\n jnc n\n cmp dx, -2\n n: call is",
		"product of a byte":                  "mov al, 200\n mov bl, 3\n mul bl\n jnc n\n cmp ax, 600\n n: call is",
		"product of double words":            "mov eax, 0x80000000\n mov ebx, 6\n mul ebx\n jnc n\n cmp edx, 3\n n: call is",
		"quotient of a byte":                 "mov ax, 1003\n mov bl, 10\n div bl\n cmp ax, 3 << 8 | 100\n call is",
		"quotient of double words":           "mov edx, 1\n mov eax, 5\n mov ecx, 16\n div ecx\n cmp eax, 0x10000000\n jne n\n cmp edx, 5\n n: call is",
		"sign extension of words":            "mov ax, -2\n cwde\n cmp eax, -2\n jne n\n cdq\n cmp edx, -1\n n: call is",
		"moves with a sign":                  "mov bl, -5\n movsx eax, bl\n cmp eax, -5\n jne n\n mov bx, -6\n movsx eax, bx\n cmp eax, -6\n n: call is",
		"complement and negation":            "mov ax, 5\n not ax\n cmp ax, -6\n jne n\n neg ax\n jnc n\n cmp ax, 6\n n: call is",
		"negation of nothing":                "xor ax, ax\n neg ax\n jc n\n cmp ax, 0\n n: call is",
		"or, and without a result":           "mov ax, 5\n or ax, 8\n cmp ax, 13\n jne n\n test ax, 2\n n: call is",
		"exchange":                           "mov ax, 1\n mov bx, 2\n xchg ax, bx\n cmp ax, 2\n jne n\n cmp bx, 1\n n: call is",
		"an address alone":                   "mov bx, 5\n mov si, 6\n lea ax, [bx+si+7]\n cmp ax, 18\n call is",
		"the carry by itself":                "stc\n cmc\n jc n\n stc\n jnc n\n clc\n jc n\n cmp ax, ax\n n: call is",
		"flags by AH":                        "mov ah, 0x41\n sahf\n jnc n\n jne n\n xor ah, ah\n lahf\n and ah, 1\n cmp ah, 0\n n: call is",
		"a frame that is left":               "mov bp, sp\n push bp\n mov bp, sp\n sub sp, 20\n leave\n cmp bp, sp\n call is",
		"rotation to the right":              "mov al, 0x81\n ror al, 1\n jnc n\n cmp al, 0xC0\n n: call is",
		"rotation through the carry":         "clc\n mov al, 0x81\n rcr al, 1\n jnc n\n cmp al, 0x40\n jne n\n stc\n mov ax, 1\n rcr ax, 2\n cmp ax, 0xC000\n n: call is",
		"rotation by all bits":               "mov al, 0x55\n rol al, 8\n cmp al, 0x55\n call is",
		"double shift to the right":          "mov ax, 0x1234\n mov dx, 0xABCD\n shrd ax, dx, 4\n cmp ax, 0xD123\n call is",
		"double shift, its carry":            "mov ax, 0x0008\n mov dx, 0\n shrd ax, dx, 4\n jnc n\n cmp ax, 0\n n: call is",
		"scan":                               "push cs\n pop es\n mov di, t\n mov cx, 9\n mov al, 'c'\n repne scasb\n cmp cx, 6\n call is\n jmp end\nt: db 'abcdefghi'",
		"compare of words":                   "push cs\n pop es\n push cs\n pop ds\n mov si, t\n mov di, t+4\n mov cx, 2\n repe cmpsw\n jne n\n cmp cx, 0\n n: call is\n jmp end\nt: dw 1, 2, 1, 2",
		"load by another segment":            "xor ax, ax\n mov fs, ax\n mov gs, ax\n mov dword [0x700], 0x01020304\n mov ax, 0x1000\n mov ds, ax\n mov si, 0x700\n fs lodsw\n cmp ax, 0x0304\n jne n\n gs lodsb\n cmp al, 2\n n: call is",
		"copy of double words":               "xor ax, ax\n mov ds, ax\n mov es, ax\n mov dword [0x700], 0x55667788\n mov si, 0x700\n mov di, 0x780\n movsd\n cmp dword [0x780], 0x55667788\n jne n\n cmp di, 0x784\n n: call is",
		"size of memory":                     "int 0x12\n cmp ax, 639\n call is",
		"a service that is not there":        "mov ax, 0xE820\n int 0x15\n jnc n\n cmp ah, 0x86\n n: call is",
		"no key":                             "mov ah, 1\n int 0x16\n call is",
		"the clock goes on":                  "xor ah, ah\n int 0x1A\n mov bx, dx\n xor ah, ah\n int 0x1A\n cmp dx, bx\n jbe n\n cmp ax, ax\n n: call is",
		"the cursor and the mode":            "mov ah, 3\n int 0x10\n cmp dx, 0\n jne n\n mov ah, 0x0F\n int 0x10\n cmp ax, 0x5003\n n: call is",
		"the serial port and the keyboard's": "mov dx, 0x3FD\n in al, dx\n test al, 0x9F\n jne n\n in al, 0x64\n test al, al\n n: call is",
	} {
		assert.Equal(t, "Y", says(t, withTable(nil), source+"\nend:"), name)
	}
	assert.Equal(t, "abY", says(t, withTable(nil), "push cs\n pop es\n mov bp, t\n mov cx, 2\n mov ax, 0x1301\n int 0x10\n cmp ax, ax\n call is\n jmp end\nt: db 'ab'\nend:"))
	assert.Equal(t, "qY", says(t, withTable(nil), "mov dx, 0x3F8\n mov al, 'q'\n out dx, al\n cmp ax, ax\n call is\nend:"))
}
