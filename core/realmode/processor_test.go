package realmode_test

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/realmode"
	"latchkey/internal/reference"
)

var (
	anew  = flag.Bool("update", false, "write what a PC leaves anew")
	drawn = flag.Uint64("seed", 0, "compare other instructions than those that are kept, drawn from it")
)

// Of a batch of instructions, what each leaves is written on the serial port: the cell in memory, the flags, and
// EAX, EBX, ECX and EDX. The model keeps 4,096 bytes of what is written, and
// those from 0x80 on take two.
const (
	leaves       = 4 + 2 + 16
	longestTrial = 14
	batch        = 4096 / 2 / leaves
	recordSize   = longestTrial + 2 + 20
	batchReads   = (batch*recordSize + 511) / 512
)

// The boot sector takes instructions one by one from the sectors behind it: it puts each into itself, sets the
// registers, a cell of memory and the flags, and writes what is left on the serial port.
var tried = fmt.Sprintf(`
 xor ax, ax
 mov ds, ax
 mov es, ax
 mov ss, ax
 mov sp, 0x7C00
reads:
 mov si, packet
 mov ah, 0x42
 mov dl, 0x80
 int 0x13
 jc done
 mov bp, 0x8000
next:
 mov si, bp
 mov di, slot
 mov cx, %d
copies:
 mov al, [si]
 mov [di], al
 inc si
 inc di
 loop copies
 xor ax, ax
 mov di, 0x5E0
 mov cx, 0x30
 rep stosw
 mov eax, [bp+32]
 mov [0x600], eax
 mov ebx, [bp+20]
 mov ecx, [bp+24]
 mov edx, [bp+28]
 push word [bp+14]
 mov eax, [bp+16]
 mov [0x5DC], bp
 popf
 jmp slot
slot: times %d nop
 pushf
 push 0
 pop ds
 push 0
 pop es
 mov bp, [0x5DC]
 pop word [0x644]
 mov [0x646], eax
 mov [0x64A], ebx
 mov [0x64E], ecx
 mov [0x652], edx
 mov eax, [0x600]
 mov [0x640], eax
 cld
 mov si, 0x640
 mov cx, %d
writes:
 mov dx, 0x3FD
waits: in al, dx
 test al, 0x20
 jz waits
 mov al, [si]
 mov dx, 0x3F8
 out dx, al
 inc si
 loop writes
 add bp, %d
 cmp bp, 0x8000+%d
 jb next
 add dword [packet+8], %d
 dec word [batches]
 jnz reads
done: cli
 hlt
batches: dw %%d
packet: db 16, 0
 dw %d, 0x8000, 0
 dq 1
 times 510-($-$$) db 0
 dw 0xAA55
`, longestTrial, longestTrial, leaves, recordSize, batch*recordSize, batchReads, batchReads)

// trial is an instruction, or a few, with what it is run on, and the flags that the manual defines after it.
type trial struct {
	source string
	flags  uint16
	eax    uint32
	ebx    uint32
	ecx    uint32
	edx    uint32
	cell   uint32
	tells  uint16
}

func (t trial) record() string {
	return fmt.Sprintf("%%%%r: %s\n times %d-($-%%%%r) nop\n dw %d\n dd %d, %d, %d, %d, %d\n", t.source, longestTrial, t.flags|0x202,
		t.eax, t.ebx, t.ecx, t.edx, t.cell)
}

// disk is the boot sector with batches of instructions behind it.
func disk(t *testing.T, trials []trial) []byte {
	var s strings.Builder
	fmt.Fprintf(&s, tried, (len(trials)+batch-1)/batch)
	for i, one := range trials {
		if i%batch == 0 {
			fmt.Fprintf(&s, " times %d-($-$$) db 0\n", 512*(1+i/batch*batchReads))
		}
		fmt.Fprintf(&s, "%%macro m%d 0\n%s%%endmacro\n m%d\n", i, one.record(), i)
	}
	b := assemble(t, s.String())
	return append(b, make([]byte, 512*batchReads)...)
}

// onModel is what the instructions leave in the model of a PC.
func onModel(t *testing.T, trials []trial) []byte {
	var left []byte
	for at := 0; at < len(trials); at += batch {
		b := disk(t, trials[at:min(at+batch, len(trials))])
		r := run(image{bytes: b, sectors: uint64(len(b) / 512)})
		require.Equal(t, realmode.Halts, r.End, r.Why)
		for _, c := range r.Output {
			left = append(left, byte(c))
		}
		of := min(batch, len(trials)-at)
		last := trials[min(len(left)/leaves, len(trials)-1)]
		require.GreaterOrEqual(t, len(left), leaves*(at+of), "the model came to %q: %s", last.source, r.Why)
		left = left[:leaves*(at+of)]
	}
	return left
}

// onPC is what they leave in a PC: the processor that QEMU models, behind SeaBIOS.
func onPC(t *testing.T, trials []trial) []byte {
	reference.Need(t, "qemu-system-x86_64")
	dir := t.TempDir()
	b := disk(t, trials)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "disk"), append(b, make([]byte, 1<<20)...), 0o600))
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "qemu-system-x86_64", "-display", "none", "-vga", "none", "-m", "32", "-net", "none",
		"-drive", "format=raw,file="+filepath.Join(dir, "disk"), "-serial", "file:"+filepath.Join(dir, "left"))
	require.NoError(t, c.Start())
	defer func() {
		_ = c.Process.Kill()
		_ = c.Wait()
	}()
	for {
		left, err := os.ReadFile(filepath.Join(dir, "left"))
		if err == nil && len(left) >= leaves*len(trials) {
			return left[:leaves*len(trials)]
		}
		require.NoError(t, ctx.Err(), "the PC came to %d bytes", len(left))
		time.Sleep(50 * time.Millisecond)
	}
}

// after is what one instruction left, in words: flags that the manual leaves undefined are not told.
func after(one trial, left []byte) string {
	u32 := binary.LittleEndian.Uint32
	return fmt.Sprintf("flags %04X eax %08X ebx %08X ecx %08X edx %08X cell %08X", binary.LittleEndian.Uint16(left[4:])&one.tells,
		u32(left[6:]), u32(left[10:]), u32(left[14:]), u32(left[18:]), u32(left))
}

const kept = "testdata/processor.hex"

// What instructions leave, against what a PC in QEMU leaves, drawn at random over all that the model knows: of each
// its operands of every size, in registers and memory. What is kept is compared with the model in every test, and
// made again by QEMU where it is there.
func TestInstructionsLeaveWhatTheyLeaveInAPC(t *testing.T) {
	trials := draw(rand.New(rand.NewPCG(*drawn, 1)), 12*batch)
	var want []byte
	if *drawn > 0 || *anew {
		want = onPC(t, trials)
	} else {
		text, err := os.ReadFile(kept)
		require.NoError(t, err)
		want, err = hex.DecodeString(strings.ReplaceAll(string(text), "\n", ""))
		require.NoError(t, err)
	}
	if *anew {
		var b strings.Builder
		for i := range trials {
			fmt.Fprintf(&b, "%x\n", want[i*leaves:(i+1)*leaves])
		}
		require.NoError(t, os.WriteFile(kept, []byte(b.String()), 0o600))
	}
	got := onModel(t, trials)
	for i, one := range trials {
		assert.Equal(t, after(one, want[i*leaves:]), after(one, got[i*leaves:]), "%s on flags %04X eax %08X ebx %08X ecx %08X edx %08X cell %08X",
			one.source, one.flags, one.eax, one.ebx, one.ecx, one.edx, one.cell)
	}
}

// What is kept is what a PC leaves.
func TestWhatIsKeptIsAPCs(t *testing.T) {
	if testing.Short() {
		t.Skip("starts a machine")
	}
	text, err := os.ReadFile(kept)
	require.NoError(t, err)
	lines := strings.Fields(string(text))
	trials := draw(rand.New(rand.NewPCG(0, 1)), 12*batch)
	require.Len(t, lines, len(trials))
	left := onPC(t, trials)
	for i, one := range trials {
		want, err := hex.DecodeString(lines[i])
		require.NoError(t, err)
		require.Equal(t, after(one, want), after(one, left[i*leaves:]), one.source)
	}
}
