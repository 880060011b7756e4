package realmode

import "golang.org/x/arch/x86/x86asm"

// shifts holds the shifts and rotations, and the test of a bit. By nothing they change nothing;
// what a shift by more than one leaves in the overflow flag is undefined.
func (c *cpu) shifts(in *x86asm.Inst) (bool, error) {
	size := c.size(in)
	if r, ok := in.Args[0].(x86asm.Reg); ok {
		_, size = c.get(r)
	}
	width := uint(8 * size)
	was := c.value(in, in.Args[0], size)
	if in.Op == x86asm.BT {
		c.setFlag(flagC, was>>(c.value(in, in.Args[1], size)%uint32(width))&1 != 0)
		return true, nil
	}
	by, known := 1, false
	switch in.Op {
	case x86asm.SHL, x86asm.SHR, x86asm.SAR, x86asm.ROL, x86asm.ROR, x86asm.RCL, x86asm.RCR:
		known = true
	case x86asm.SHLD, x86asm.SHRD:
		by, known = 2, true
	}
	if !known {
		return false, nil
	}
	n := uint(c.value(in, in.Args[by], 1)) & 31
	if n == 0 {
		return true, nil
	}
	v := c.shifted(in, was, n, width) & mask(size)
	switch in.Op {
	case x86asm.ROL, x86asm.ROR, x86asm.RCL, x86asm.RCR:
	default:
		c.result(v, size)
	}
	top := func(v uint32) bool { return v>>(width-1)&1 != 0 }
	switch in.Op {
	case x86asm.ROR, x86asm.RCR:
		c.setFlag(flagO, top(v) != top(v<<1))
	default:
		c.setFlag(flagO, top(v) != top(was))
	}
	c.assign(in, in.Args[0], size, v)
	return true, nil
}

// shifted is a value shifted or rotated by n, at least 1; it sets the carry.
func (c *cpu) shifted(in *x86asm.Inst, v uint32, n, width uint) uint32 {
	switch in.Op {
	case x86asm.SHL:
		c.setFlag(flagC, n <= width && v>>(width-n)&1 != 0)
		return v << n
	case x86asm.SHR:
		c.setFlag(flagC, v>>(n-1)&1 != 0)
		return v >> n
	case x86asm.SAR:
		wide := int32(signed(v, int(width/8)))
		c.setFlag(flagC, wide>>(n-1)&1 != 0)
		return uint32(wide >> n)
	case x86asm.ROL, x86asm.ROR:
		return c.rotate(v, n%width, width, in.Op == x86asm.ROL)
	case x86asm.RCL, x86asm.RCR:
		return c.rotateThrough(v, n%(width+1), width, in.Op == x86asm.RCL)
	}
	return c.shiftDouble(in, v, n, width)
}

func (c *cpu) rotate(v uint32, n, width uint, left bool) uint32 {
	if !left {
		n = (width - n) % width
	}
	v = v<<n | v>>(width-n)
	if left {
		c.setFlag(flagC, v&1 != 0)
	} else {
		c.setFlag(flagC, v>>(width-1)&1 != 0)
	}
	return v
}

func (c *cpu) rotateThrough(v uint32, n, width uint, left bool) uint32 {
	for range n {
		carry := uint32(0)
		if c.flag(flagC) {
			carry = 1
		}
		if left {
			c.setFlag(flagC, v>>(width-1)&1 != 0)
			v = v<<1 | carry
		} else {
			c.setFlag(flagC, v&1 != 0)
			v = v>>1 | carry<<(width-1)
		}
	}
	return v
}

// shiftDouble shifts bits of another register in. By more than the width of a word, what is
// left is undefined.
func (c *cpu) shiftDouble(in *x86asm.Inst, v uint32, n, width uint) uint32 {
	from := c.value(in, in.Args[1], int(width/8))
	if n > width {
		return v
	}
	if in.Op == x86asm.SHLD {
		c.setFlag(flagC, v>>(width-n)&1 != 0)
		return v<<n | from>>(width-n)
	}
	c.setFlag(flagC, v>>(n-1)&1 != 0)
	return v>>n | from<<(width-n)
}
