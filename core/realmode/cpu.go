package realmode

import (
	"fmt"

	"golang.org/x/arch/x86/x86asm"
)

// Segment registers, by their place in the processor's numbering.
const (
	segES = iota
	segCS
	segSS
	segDS
	segFS
	segGS
)

// Flags. Intel 64 and IA-32 Architectures Software Developer's Manual, volume 1,
// section 3.4.3.
const (
	flagC = 1 << 0
	flagP = 1 << 2
	flagZ = 1 << 6
	flagS = 1 << 7
	flagI = 1 << 9
	flagD = 1 << 10
	flagO = 1 << 11
)

// state is all that a processor decides by, beside memory.
type state struct {
	reg   [8]uint32 // EAX, ECX, EDX, EBX, ESP, EBP, ESI, EDI
	seg   [6]uint16
	ip    uint16
	flags uint32
	ticks uint32
}

// cpu is the processor with its memory and the disk.
type cpu struct {
	state
	*ram
	disk  Disk
	lacks func(error) bool
	run   Run
	geo   geometry
	// byPlace is set when it read by cylinder, head and sector beyond the first track.
	byPlace bool
	halted  int // where it halted last
	work    int // bytes or words that string instructions went over
	// decoded are instructions by their bytes and those after them.
	decoded map[[longest]byte]*x86asm.Inst
	acted   bool // it wrote something since the state was looked at last
}

func newCPU(d Disk, lacks func(error) bool) *cpu {
	c := &cpu{state: state{ip: bootAt, flags: flagI | 2}, ram: rams.Get().(*ram), disk: d, lacks: lacks,
		decoded: map[[longest]byte]*x86asm.Inst{}}
	c.reg[2] = 0x80 // DL
	c.reg[4] = bootAt
	c.store(0x413, 2, 639) // KiB of memory
	c.store(0x475, 1, 1)   // hard disks
	return c
}

// linear is the address of an offset in a segment.
func (c *cpu) linear(seg int, off uint32) int { return int(c.seg[seg])<<4 + int(off&0xFFFF) }

func (c *cpu) load(at, size int) uint32 {
	var v uint32
	for i := size - 1; i >= 0; i-- {
		v = v<<8 | uint32(c.mem[(at+i)%memory])
	}
	return v
}

func (c *cpu) store(at, size int, v uint32) {
	for i := range size {
		c.put((at+i)%memory, byte(v>>(8*i)), 0)
	}
	c.acted = true
}

// get and set reach a register in the decoder's numbering: AL to BH, AX to DI,
// EAX to EDI, then the segments.
func (c *cpu) get(r x86asm.Reg) (uint32, int) {
	switch {
	case r >= x86asm.AL && r <= x86asm.BL:
		return c.reg[r-x86asm.AL] & 0xFF, 1
	case r >= x86asm.AH && r <= x86asm.BH:
		return c.reg[r-x86asm.AH] >> 8 & 0xFF, 1
	case r >= x86asm.AX && r <= x86asm.DI:
		return c.reg[r-x86asm.AX] & 0xFFFF, 2
	case r >= x86asm.EAX && r <= x86asm.EDI:
		return c.reg[r-x86asm.EAX], 4
	case r >= x86asm.ES && r <= x86asm.GS:
		return uint32(c.seg[r-x86asm.ES]), 2
	}
	return 0, 0
}

func (c *cpu) set(r x86asm.Reg, v uint32) {
	switch {
	case r >= x86asm.AL && r <= x86asm.BL:
		p := &c.reg[r-x86asm.AL]
		*p = *p&^0xFF | v&0xFF
	case r >= x86asm.AH && r <= x86asm.BH:
		p := &c.reg[r-x86asm.AH]
		*p = *p&^0xFF00 | v&0xFF<<8
	case r >= x86asm.AX && r <= x86asm.DI:
		p := &c.reg[r-x86asm.AX]
		*p = *p&^0xFFFF | v&0xFFFF
	case r >= x86asm.EAX && r <= x86asm.EDI:
		c.reg[r-x86asm.EAX] = v
	case r >= x86asm.ES && r <= x86asm.GS:
		c.seg[r-x86asm.ES] = uint16(v)
	}
}

// address is the linear address of a memory operand, and its offset.
func (c *cpu) address(in *x86asm.Inst, m x86asm.Mem) (linear int, offset uint32) {
	off := uint32(m.Disp)
	if m.Base != 0 {
		v, _ := c.get(m.Base)
		off += v
	}
	if m.Index != 0 {
		v, _ := c.get(m.Index)
		off += v * uint32(max(m.Scale, 1))
	}
	if in.AddrSize == 16 {
		off &= 0xFFFF
	}
	seg := segDS
	switch {
	case m.Segment >= x86asm.ES && m.Segment <= x86asm.GS:
		seg = int(m.Segment - x86asm.ES)
	case m.Base == x86asm.BP || m.Base == x86asm.EBP || m.Base == x86asm.ESP || m.Base == x86asm.SP:
		seg = segSS
	}
	return (int(c.seg[seg])<<4 + int(off)) % memory, off
}

// size is the size of the first operand that has one, in bytes.
func (c *cpu) size(in *x86asm.Inst) int {
	if in.MemBytes > 0 {
		return in.MemBytes
	}
	for _, a := range in.Args {
		if r, ok := a.(x86asm.Reg); ok {
			if _, n := c.get(r); n > 0 {
				return n
			}
		}
	}
	return in.DataSize / 8
}

func (c *cpu) value(in *x86asm.Inst, a x86asm.Arg, size int) uint32 {
	switch a := a.(type) {
	case x86asm.Reg:
		v, _ := c.get(a)
		return v
	case x86asm.Imm:
		return uint32(a) & mask(size)
	case x86asm.Mem:
		at, _ := c.address(in, a)
		return c.load(at, size)
	}
	return 0
}

func (c *cpu) assign(in *x86asm.Inst, a x86asm.Arg, size int, v uint32) {
	switch a := a.(type) {
	case x86asm.Reg:
		c.set(a, v)
	case x86asm.Mem:
		at, _ := c.address(in, a)
		c.store(at, size, v)
	}
}

func mask(size int) uint32 {
	if size >= 4 {
		return 0xFFFFFFFF
	}
	return 1<<(8*size) - 1
}

func (c *cpu) flag(f uint32) bool { return c.flags&f != 0 }

func (c *cpu) setFlag(f uint32, on bool) {
	if on {
		c.flags |= f
	} else {
		c.flags &^= f
	}
}

// result sets the flags that tell of a result.
func (c *cpu) result(v uint32, size int) {
	v &= mask(size)
	c.setFlag(flagZ, v == 0)
	c.setFlag(flagS, v>>(8*size-1)&1 != 0)
	parity := byte(v)
	parity ^= parity >> 4
	parity ^= parity >> 2
	parity ^= parity >> 1
	c.setFlag(flagP, parity&1 == 0)
}

func (c *cpu) push(v uint32, size int) {
	sp := uint16(c.reg[4]) - uint16(size)
	c.set(x86asm.SP, uint32(sp))
	c.store(c.linear(segSS, uint32(sp)), size, v)
}

func (c *cpu) pop(size int) uint32 {
	sp := uint16(c.reg[4])
	v := c.load(c.linear(segSS, uint32(sp)), size)
	c.set(x86asm.SP, uint32(sp+uint16(size)))
	return v
}

// longest is as long as an instruction can be, in bytes.
const longest = 16

// step runs one instruction.
func (c *cpu) step() error {
	at := c.linear(segCS, uint32(c.ip))
	raw := [longest]byte(c.mem[min(at, memory-longest):])
	if raw == [longest]byte{} {
		return &stop{Goes, "it runs through zeros"}
	}
	in, err := c.decode(raw)
	if err != nil {
		return &stop{Unknown, fmt.Sprintf("the bytes % X", c.mem[at:min(at+6, memory)])}
	}
	c.ip += uint16(in.Len)
	return c.execute(in)
}

// decode decodes bytes, the same ones once.
func (c *cpu) decode(raw [longest]byte) (*x86asm.Inst, error) {
	if in, known := c.decoded[raw]; known {
		return in, nil
	}
	in, err := x86asm.Decode(raw[:], 16)
	if err == nil {
		c.decoded[raw] = &in
	}
	return &in, err
}
