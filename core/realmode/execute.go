package realmode

import (
	"fmt"
	"math/bits"

	"golang.org/x/arch/x86/x86asm"
)

// execute runs a decoded instruction. Intel 64 and IA-32 Architectures Software
// Developer's Manual, volume 2.
func (c *cpu) execute(in *x86asm.Inst) error {
	switch in.Op {
	case x86asm.NOP, x86asm.PAUSE, x86asm.FWAIT, x86asm.WBINVD:
		return nil
	case x86asm.MOV:
		size := c.size(in)
		c.assign(in, in.Args[0], size, c.value(in, in.Args[1], size))
		return nil
	case x86asm.LEA:
		_, off := c.address(in, in.Args[1].(x86asm.Mem))
		c.assign(in, in.Args[0], 4, off)
		return nil
	case x86asm.LDS, x86asm.LES, x86asm.LFS, x86asm.LGS, x86asm.LSS:
		return c.loadFar(in)
	case x86asm.MOVZX, x86asm.MOVSX:
		return c.extend(in)
	case x86asm.XCHG:
		size := c.size(in)
		a, b := c.value(in, in.Args[0], size), c.value(in, in.Args[1], size)
		c.assign(in, in.Args[0], size, b)
		c.assign(in, in.Args[1], size, a)
		return nil
	case x86asm.XLATB:
		at := (int(c.seg[segDS])<<4 + int(uint16(c.reg[3])+uint16(c.reg[0]&0xFF))) % memory
		c.set(x86asm.AL, c.load(at, 1))
		return nil
	case x86asm.HLT:
		return c.halt()
	case x86asm.IN:
		c.assign(in, in.Args[0], 1, c.in(c.value(in, in.Args[1], 2)))
		return nil
	case x86asm.OUT:
		c.out(c.value(in, in.Args[0], 2), c.value(in, in.Args[1], 1))
		return nil
	case x86asm.INT:
		return c.interrupt(byte(in.Args[0].(x86asm.Imm)))
	}
	for _, group := range []func(*x86asm.Inst) (bool, error){c.arithmetic, c.shifts, c.wide, c.stack, c.flow,
		c.flagOps, c.strings} {
		if done, err := group(in); done || err != nil {
			return err
		}
	}
	return &stop{Unknown, fmt.Sprintf("the instruction %s", in.Op)}
}

// halt waits for the timer, which wakes the processor; one that halts at the same
// place again has nothing else to do.
func (c *cpu) halt() error {
	at := c.linear(segCS, uint32(c.ip))
	if !c.flag(flagI) || at == c.halted {
		return &stop{Halts, "HLT"}
	}
	c.halted = at
	c.ticks++
	return nil
}

func (c *cpu) loadFar(in *x86asm.Inst) error {
	at, _ := c.address(in, in.Args[1].(x86asm.Mem))
	size := in.DataSize / 8
	c.assign(in, in.Args[0], size, c.load(at, size))
	seg := map[x86asm.Op]int{x86asm.LDS: segDS, x86asm.LES: segES, x86asm.LFS: segFS, x86asm.LGS: segGS,
		x86asm.LSS: segSS}[in.Op]
	c.seg[seg] = uint16(c.load(at+size, 2))
	return nil
}

func (c *cpu) extend(in *x86asm.Inst) error {
	size := in.MemBytes
	if r, ok := in.Args[1].(x86asm.Reg); ok {
		_, size = c.get(r)
	}
	v := c.value(in, in.Args[1], size)
	if in.Op == x86asm.MOVSX {
		v = signed(v, size)
	}
	c.assign(in, in.Args[0], 4, v)
	return nil
}

// signed extends a value's sign to 32 bits.
func signed(v uint32, size int) uint32 {
	switch size {
	case 1:
		return uint32(int32(int8(v)))
	case 2:
		return uint32(int32(int16(v)))
	}
	return v
}

func (c *cpu) arithmetic(in *x86asm.Inst) (bool, error) {
	size := c.size(in)
	carry := uint32(0)
	if c.flag(flagC) && (in.Op == x86asm.ADC || in.Op == x86asm.SBB) {
		carry = 1
	}
	a := c.value(in, in.Args[0], size)
	var b, v uint32
	if in.Args[1] != nil {
		b = c.value(in, in.Args[1], size)
	}
	switch in.Op {
	case x86asm.ADD, x86asm.ADC:
		v = c.add(a, b, carry, size)
	case x86asm.SUB, x86asm.SBB, x86asm.CMP:
		v = c.sub(a, b, carry, size)
	case x86asm.NEG:
		v = c.sub(0, a, 0, size)
	case x86asm.AND, x86asm.TEST:
		v = c.logic(a&b, size)
	case x86asm.OR:
		v = c.logic(a|b, size)
	case x86asm.XOR:
		v = c.logic(a^b, size)
	case x86asm.NOT:
		v = ^a
	case x86asm.INC, x86asm.DEC:
		kept := c.flags & flagC
		if in.Op == x86asm.INC {
			v = c.add(a, 1, 0, size)
		} else {
			v = c.sub(a, 1, 0, size)
		}
		c.flags = c.flags&^flagC | kept
	default:
		return false, nil
	}
	if in.Op != x86asm.CMP && in.Op != x86asm.TEST {
		c.assign(in, in.Args[0], size, v)
	}
	return true, nil
}

func (c *cpu) add(a, b, carry uint32, size int) uint32 {
	sum := uint64(a) + uint64(b) + uint64(carry)
	v := uint32(sum) & mask(size)
	c.result(v, size)
	c.setFlag(flagC, sum>>(8*size) != 0)
	c.setFlag(flagO, (a^v)&(b^v)>>(8*size-1)&1 != 0)
	return v
}

func (c *cpu) sub(a, b, carry uint32, size int) uint32 {
	v := (a - b - carry) & mask(size)
	c.result(v, size)
	c.setFlag(flagC, uint64(a) < uint64(b)+uint64(carry))
	c.setFlag(flagO, (a^b)&(a^v)>>(8*size-1)&1 != 0)
	return v
}

func (c *cpu) logic(v uint32, size int) uint32 {
	c.result(v, size)
	c.flags &^= flagC | flagO
	return v
}

// wide holds multiplication, division and the accumulator's widening.
func (c *cpu) wide(in *x86asm.Inst) (bool, error) {
	switch in.Op {
	case x86asm.CBW:
		c.set(x86asm.AX, signed(c.reg[0]&0xFF, 1))
		return true, nil
	case x86asm.CWDE:
		c.reg[0] = signed(c.reg[0]&0xFFFF, 2)
		return true, nil
	case x86asm.CWD:
		c.set(x86asm.DX, signed(c.reg[0]&0xFFFF, 2)>>16)
		return true, nil
	case x86asm.CDQ:
		c.reg[2] = uint32(int32(c.reg[0]) >> 31)
		return true, nil
	case x86asm.MUL, x86asm.IMUL:
		return c.multiply(in)
	case x86asm.DIV:
		return c.divide(in)
	}
	return false, nil
}

func (c *cpu) multiply(in *x86asm.Inst) (bool, error) {
	size := c.size(in)
	if in.Args[1] != nil { // IMUL with a destination
		a, b := in.Args[0], in.Args[1]
		if in.Args[2] != nil {
			a, b = in.Args[1], in.Args[2]
		}
		x, y := int64(int32(signed(c.value(in, a, size), size))), int64(int32(signed(c.value(in, b, size), size)))
		v := uint32(x*y) & mask(size)
		c.setFlag(flagC|flagO, x*y != int64(int32(signed(v, size))))
		c.assign(in, in.Args[0], size, v)
		return true, nil
	}
	b := c.value(in, in.Args[0], size)
	product := uint64(c.reg[0]&mask(size)) * uint64(b)
	high := uint32(product>>(8*size)) & mask(size)
	carries := high != 0
	if in.Op == x86asm.IMUL {
		whole := int64(int32(signed(c.reg[0]&mask(size), size))) * int64(int32(signed(b, size)))
		product, carries = uint64(whole), whole != int64(int32(signed(uint32(whole)&mask(size), size)))
		high = uint32(product>>(8*size)) & mask(size)
	}
	switch size {
	case 1:
		c.set(x86asm.AX, uint32(product))
	case 2:
		c.set(x86asm.AX, uint32(product))
		c.set(x86asm.DX, high)
	default:
		c.reg[0], c.reg[2] = uint32(product), high
	}
	c.setFlag(flagC|flagO, carries)
	return true, nil
}

func (c *cpu) divide(in *x86asm.Inst) (bool, error) {
	size := c.size(in)
	by := uint64(c.value(in, in.Args[0], size))
	of := uint64(c.reg[0] & 0xFFFF)
	switch size {
	case 2:
		of |= uint64(c.reg[2]&0xFFFF) << 16
	case 4:
		of = uint64(c.reg[2])<<32 | uint64(c.reg[0])
	}
	if by == 0 || bits.Len64(of/by) > 8*size {
		return true, &stop{Halts, "a division by zero or one that overflows"}
	}
	switch q, r := uint32(of/by), uint32(of%by); size {
	case 1:
		c.set(x86asm.AL, q)
		c.set(x86asm.AH, r)
	case 2:
		c.set(x86asm.AX, q)
		c.set(x86asm.DX, r)
	default:
		c.reg[0], c.reg[2] = q, r
	}
	return true, nil
}

func (c *cpu) stack(in *x86asm.Inst) (bool, error) {
	size := in.DataSize / 8
	switch in.Op {
	case x86asm.PUSH:
		v := c.value(in, in.Args[0], size)
		if i, ok := in.Args[0].(x86asm.Imm); ok {
			v = uint32(i)
		}
		c.push(v, size)
	case x86asm.POP:
		c.assign(in, in.Args[0], size, c.pop(size))
	case x86asm.PUSHA, x86asm.PUSHAD:
		sp := c.reg[4]
		for i, r := range c.reg {
			if i == 4 {
				r = sp
			}
			c.push(r, size)
		}
	case x86asm.POPA, x86asm.POPAD:
		for i := 7; i >= 0; i-- {
			if v := c.pop(size); i != 4 {
				c.reg[i] = c.reg[i]&^mask(size) | v
			}
		}
	case x86asm.PUSHF, x86asm.PUSHFD:
		c.push(c.flags, size)
	case x86asm.POPF, x86asm.POPFD:
		c.flags = c.pop(size)&0xFFFF | 2
	case x86asm.LEAVE:
		c.set(x86asm.SP, c.reg[5])
		c.set(x86asm.BP, c.pop(2))
	default:
		return false, nil
	}
	return true, nil
}

func (c *cpu) flagOps(in *x86asm.Inst) (bool, error) {
	switch in.Op {
	case x86asm.CLI:
		c.flags &^= flagI
	case x86asm.STI:
		c.flags |= flagI
	case x86asm.CLD:
		c.flags &^= flagD
	case x86asm.STD:
		c.flags |= flagD
	case x86asm.CLC:
		c.flags &^= flagC
	case x86asm.STC:
		c.flags |= flagC
	case x86asm.CMC:
		c.flags ^= flagC
	case x86asm.LAHF:
		c.set(x86asm.AH, c.flags)
	case x86asm.SAHF:
		v, _ := c.get(x86asm.AH)
		c.flags = c.flags&^0xFF | v | 2
	default:
		return false, nil
	}
	return true, nil
}
