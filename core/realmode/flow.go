package realmode

import "golang.org/x/arch/x86/x86asm"

// condition tells whether a conditional jump is taken.
func (c *cpu) condition(op x86asm.Op) (holds, known bool) {
	z, cf, s, o, p := c.flag(flagZ), c.flag(flagC), c.flag(flagS), c.flag(flagO), c.flag(flagP)
	switch op {
	case x86asm.JA:
		return !cf && !z, true
	case x86asm.JAE:
		return !cf, true
	case x86asm.JB:
		return cf, true
	case x86asm.JBE:
		return cf || z, true
	case x86asm.JE:
		return z, true
	case x86asm.JNE:
		return !z, true
	case x86asm.JG:
		return !z && s == o, true
	case x86asm.JGE:
		return s == o, true
	case x86asm.JL:
		return s != o, true
	case x86asm.JLE:
		return z || s != o, true
	case x86asm.JO:
		return o, true
	case x86asm.JNO:
		return !o, true
	case x86asm.JS:
		return s, true
	case x86asm.JNS:
		return !s, true
	case x86asm.JP:
		return p, true
	case x86asm.JNP:
		return !p, true
	case x86asm.JCXZ:
		return c.reg[1]&0xFFFF == 0, true
	case x86asm.JECXZ:
		return c.reg[1] == 0, true
	case x86asm.LOOP:
		return c.countDown(), true
	case x86asm.LOOPE:
		return c.countDown() && z, true
	case x86asm.LOOPNE:
		return c.countDown() && !z, true
	}
	return false, false
}

func (c *cpu) countDown() bool {
	c.set(x86asm.CX, c.reg[1]-1)
	return c.reg[1]&0xFFFF != 0
}

// flow holds the jumps, calls and returns.
func (c *cpu) flow(in *x86asm.Inst) (bool, error) {
	if holds, known := c.condition(in.Op); known {
		if holds {
			return true, c.jump(in.Args[0].(x86asm.Rel))
		}
		return true, nil
	}
	size := in.DataSize / 8
	switch in.Op {
	case x86asm.JMP, x86asm.CALL:
		if in.Op == x86asm.CALL {
			c.push(uint32(c.ip), size)
		}
		if rel, ok := in.Args[0].(x86asm.Rel); ok {
			return true, c.jump(rel)
		}
		c.ip = uint16(c.value(in, in.Args[0], 2))
	case x86asm.LJMP, x86asm.LCALL:
		seg, off := c.farTarget(in, size)
		if in.Op == x86asm.LCALL {
			c.push(uint32(c.seg[segCS]), size)
			c.push(uint32(c.ip), size)
		}
		c.seg[segCS], c.ip = seg, off
	case x86asm.RET, x86asm.LRET, x86asm.IRET:
		c.ip = uint16(c.pop(size))
		if in.Op != x86asm.RET {
			c.seg[segCS] = uint16(c.pop(size))
		}
		if in.Op == x86asm.IRET {
			c.flags = c.pop(size)&0xFFFF | 2
		}
		if n, ok := in.Args[0].(x86asm.Imm); ok {
			c.set(x86asm.SP, c.reg[4]+uint32(n))
		}
	default:
		return false, nil
	}
	return true, nil
}

// jump goes to a place relative to the next instruction. One to itself never
// ends.
func (c *cpu) jump(rel x86asm.Rel) error {
	c.ip += uint16(rel)
	if rel == -2 {
		return &stop{Halts, "a jump to itself"}
	}
	return nil
}

func (c *cpu) farTarget(in *x86asm.Inst, size int) (seg, off uint16) {
	if m, ok := in.Args[0].(x86asm.Mem); ok {
		at, _ := c.address(in, m)
		return uint16(c.load(at+size, 2)), uint16(c.load(at, size))
	}
	return uint16(in.Args[0].(x86asm.Imm)), uint16(in.Args[1].(x86asm.Imm))
}

// strings holds the string instructions with their repetition.
func (c *cpu) strings(in *x86asm.Inst) (bool, error) {
	size, known := map[x86asm.Op]int{
		x86asm.MOVSB: 1, x86asm.MOVSW: 2, x86asm.MOVSD: 4, x86asm.STOSB: 1, x86asm.STOSW: 2, x86asm.STOSD: 4,
		x86asm.LODSB: 1, x86asm.LODSW: 2, x86asm.LODSD: 4, x86asm.CMPSB: 1, x86asm.CMPSW: 2, x86asm.CMPSD: 4,
		x86asm.SCASB: 1, x86asm.SCASW: 2, x86asm.SCASD: 4,
	}[in.Op]
	if !known {
		return false, nil
	}
	repeat, while := false, true
	source := segDS
	for _, p := range in.Prefix {
		switch p & 0xFF {
		case 0xF3:
			repeat = true
		case 0xF2:
			repeat, while = true, false
		case 0x2E:
			source = segCS
		case 0x26:
			source = segES
		case 0x36:
			source = segSS
		case 0x64:
			source = segFS
		case 0x65:
			source = segGS
		}
	}
	for !repeat || c.reg[1]&0xFFFF != 0 {
		if c.work++; c.work > maxWork {
			return true, &stop{end: Goes}
		}
		compares := c.stringStep(in.Op, size, source)
		if !repeat {
			break
		}
		c.set(x86asm.CX, c.reg[1]-1)
		if compares && c.flag(flagZ) != while {
			break
		}
	}
	return true, nil
}

// stringStep moves, fills, loads or compares once; it reports whether it
// compares.
func (c *cpu) stringStep(op x86asm.Op, size, source int) (compares bool) {
	from, to := c.linear(source, c.reg[6]), c.linear(segES, c.reg[7])
	step := uint32(size)
	if c.flag(flagD) {
		step = -step
	}
	forwardSI, forwardDI := false, false
	switch op {
	case x86asm.MOVSB, x86asm.MOVSW, x86asm.MOVSD:
		for i := range size {
			a, b := (from+i)%memory, (to+i)%memory
			c.put(b, c.mem[a], c.shadow[a])
		}
		c.acted = true
		forwardSI, forwardDI = true, true
	case x86asm.STOSB, x86asm.STOSW, x86asm.STOSD:
		c.store(to, size, c.reg[0])
		forwardDI = true
	case x86asm.LODSB, x86asm.LODSW, x86asm.LODSD:
		v := c.load(from, size)
		c.reg[0] = c.reg[0]&^mask(size) | v
		forwardSI = true
	case x86asm.CMPSB, x86asm.CMPSW, x86asm.CMPSD:
		c.sub(c.load(from, size), c.load(to, size), 0, size)
		compares, forwardSI, forwardDI = true, true, true
	default: // SCAS
		c.sub(c.reg[0]&mask(size), c.load(to, size), 0, size)
		compares, forwardDI = true, true
	}
	if forwardSI {
		c.set(x86asm.SI, c.reg[6]+step)
	}
	if forwardDI {
		c.set(x86asm.DI, c.reg[7]+step)
	}
	return compares
}
