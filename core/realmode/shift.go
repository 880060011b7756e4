package realmode

import "golang.org/x/arch/x86/x86asm"

func (c *cpu) shifts(in *x86asm.Inst) (bool, error) {
	size := c.size(in)
	if r, ok := in.Args[0].(x86asm.Reg); ok {
		_, size = c.get(r)
	}
	width := uint(8 * size)
	v := c.value(in, in.Args[0], size)
	var n uint
	if in.Args[1] != nil {
		n = uint(c.value(in, in.Args[1], 1)) & 31
	}
	switch in.Op {
	case x86asm.SHL:
		c.setFlag(flagC, n > 0 && n <= width && v>>(width-n)&1 != 0)
		v <<= n
	case x86asm.SHR:
		c.setFlag(flagC, n > 0 && v>>(n-1)&1 != 0)
		v >>= n
	case x86asm.SAR:
		v = signed(v, size)
		c.setFlag(flagC, n > 0 && v>>(n-1)&1 != 0)
		v = uint32(int32(v) >> n)
	case x86asm.ROL, x86asm.ROR:
		v = c.rotate(v, n, width, in.Op == x86asm.ROL)
	case x86asm.RCL, x86asm.RCR:
		v = c.rotateThrough(v, n%(width+1), width, in.Op == x86asm.RCL)
	case x86asm.SHLD, x86asm.SHRD:
		v = c.shiftDouble(in, v, size)
	case x86asm.BT:
		c.setFlag(flagC, v>>(c.value(in, in.Args[1], size)%uint32(width))&1 != 0)
		return true, nil
	default:
		return false, nil
	}
	if in.Op != x86asm.ROL && in.Op != x86asm.ROR && in.Op != x86asm.RCL && in.Op != x86asm.RCR && n > 0 {
		c.result(v, size)
	}
	c.assign(in, in.Args[0], size, v&mask(size))
	return true, nil
}

func (c *cpu) rotate(v uint32, n, width uint, left bool) uint32 {
	n %= width
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

func (c *cpu) shiftDouble(in *x86asm.Inst, v uint32, size int) uint32 {
	width := uint(8 * size)
	from := c.value(in, in.Args[1], size)
	n := uint(c.value(in, in.Args[2], 1)) & 31
	if n == 0 || n > width {
		return v
	}
	if in.Op == x86asm.SHLD {
		c.setFlag(flagC, v>>(width-n)&1 != 0)
		return v<<n | from>>(width-n)
	}
	c.setFlag(flagC, v>>(n-1)&1 != 0)
	return v>>n | from<<(width-n)
}
