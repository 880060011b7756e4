package realmode

import (
	"fmt"

	"golang.org/x/arch/x86/x86asm"
)

// geometry is what the firmware makes up for a disk.
type geometry struct{ heads, sectors uint64 }

// usual is the most that the firmware's interface can name, and small what it may present of a
// small disk instead. Common practice, no source.
var usual, small = geometry{255, 63}, geometry{16, 63}

// interrupt calls a service of the firmware. The services are common practice;
// those of INT 13h with AH above 40h are in the BIOS Enhanced Disk Drive
// specification (ANSI INCITS 347, later T13's EDD-3).
func (c *cpu) interrupt(n byte) error {
	ah, _ := c.get(x86asm.AH)
	switch n {
	case 0x10:
		return c.video(byte(ah))
	case 0x11:
		c.set(x86asm.AX, 0x0021)
	case 0x12:
		c.set(x86asm.AX, 639)
	case 0x13:
		return c.diskService(byte(ah))
	case 0x15:
		c.set(x86asm.AH, 0x86) // not supported
		c.setFlag(flagC, true)
	case 0x16:
		if ah&0xEF == 0 {
			return &stop{Waits, "it waits for a key"}
		}
		c.setFlag(flagZ, true) // none was pressed
	case 0x18:
		return &stop{HandsBack, "INT 18h"}
	case 0x19:
		return &stop{HandsBack, "INT 19h"}
	case 0x1A:
		c.ticks += 9
		c.set(x86asm.AX, 0)
		c.set(x86asm.CX, c.ticks>>16)
		c.set(x86asm.DX, c.ticks)
		c.setFlag(flagC, false)
	default:
		return &stop{Unknown, fmt.Sprintf("the service INT %02Xh", n)}
	}
	return nil
}

func (c *cpu) video(ah byte) error {
	switch ah {
	case 0x0E:
		c.print(byte(c.reg[0]))
	case 0x03:
		c.set(x86asm.CX, 0x0607)
		c.set(x86asm.DX, 0)
	case 0x0F:
		c.set(x86asm.AX, 0x5003)
		c.set(x86asm.BH, 0)
	case 0x09, 0x0A:
		c.print(byte(c.reg[0]))
	case 0x13:
		at := c.linear(segES, c.reg[5])
		for i := range int(c.reg[1] & 0xFFFF) {
			if i >= maxOutput {
				break
			}
			c.print(c.mem[(at+i)%memory])
		}
	}
	return nil
}

func (c *cpu) print(b byte) {
	c.acted = true
	if len(c.run.Output) < maxOutput {
		c.run.Output += string(rune(b))
		c.halted = 0
	}
}

// Ports of the first serial port and of the keyboard controller. Common practice.
const (
	serialData   = 0x3F8
	serialStatus = 0x3FD
	keyboardPort = 0x64
	quickA20     = 0x92
)

func (c *cpu) in(port uint32) uint32 {
	c.acted = true // what a port says may change: a loop that asks one is not known to be endless
	switch port {
	case serialStatus:
		return 0x60 // empty
	case keyboardPort:
		return 0
	case quickA20:
		return 2
	}
	return 0xFF
}

func (c *cpu) out(port, v uint32) {
	if port == serialData {
		c.print(byte(v))
	}
}

func (c *cpu) diskService(ah byte) error {
	dl, _ := c.get(x86asm.DL)
	if dl != 0x80 && ah != 0x08 && ah != 0x15 {
		return c.diskDone(0x01)
	}
	switch ah {
	case 0x00, 0x0D, 0x01, 0x04, 0x44, 0x47:
		return c.diskDone(0)
	case 0x02:
		return c.readCHS()
	case 0x08:
		c.presents(dl)
		return nil
	case 0x15:
		if dl != 0x80 {
			return c.diskDone(0)
		}
		c.setFlag(flagC, false)
		c.set(x86asm.AH, 3)
	case 0x41:
		c.set(x86asm.BX, 0xAA55)
		c.set(x86asm.CX, 1)
		c.set(x86asm.AH, 0x30)
		c.setFlag(flagC, false)
	case 0x42:
		return c.readPacket()
	case 0x48:
		return c.parameters()
	default:
		return c.diskDone(0x01)
	}
	return nil
}

func (c *cpu) diskDone(status byte) error {
	c.set(x86asm.AH, uint32(status))
	c.setFlag(flagC, status != 0)
	return nil
}

func (c *cpu) presents(dl uint32) {
	if dl != 0x80 {
		_ = c.diskDone(0x07)
		return
	}
	cylinders := min(c.disk.Sectors()/(c.geo.heads*c.geo.sectors), 1024)
	last := uint32(max(cylinders, 1) - 1)
	c.set(x86asm.CX, last&0xFF<<8|last>>8<<6|uint32(c.geo.sectors))
	c.set(x86asm.DX, uint32(c.geo.heads-1)<<8|1)
	_ = c.diskDone(0)
}

func (c *cpu) parameters() error {
	at := c.linear(segDS, c.reg[6])
	c.store(at+2, 2, 0)
	for i, v := range []uint32{uint32(c.disk.Sectors() / (c.geo.heads * c.geo.sectors)), uint32(c.geo.heads),
		uint32(c.geo.sectors), uint32(c.disk.Sectors()), uint32(c.disk.Sectors() >> 32)} {
		c.store(at+4+4*i, 4, v)
	}
	c.store(at+24, 2, uint32(c.disk.SectorSize()))
	return c.diskDone(0)
}

func (c *cpu) readCHS() error {
	cx, dh := c.reg[1], c.reg[2]>>8&0xFF
	sector := cx & 0x3F
	if sector == 0 || uint64(sector) > c.geo.sectors || uint64(dh) >= c.geo.heads {
		c.byPlace = true
		return c.diskDone(0x01)
	}
	cylinder := cx>>8&0xFF | cx&0xC0<<2
	lba := (uint64(cylinder)*c.geo.heads+uint64(dh))*c.geo.sectors + uint64(sector) - 1
	c.byPlace = c.byPlace || lba >= c.geo.sectors
	return c.read(lba, int(c.reg[0]&0xFF), c.linear(segES, c.reg[3]))
}

func (c *cpu) readPacket() error {
	at := c.linear(segDS, c.reg[6])
	lba := uint64(c.load(at+8, 4)) | uint64(c.load(at+12, 4))<<32
	to := int(c.load(at+6, 2))<<4 + int(c.load(at+4, 2))
	return c.read(lba, int(c.load(at+2, 2)), to)
}

// read loads sectors, and remembers which byte of the disk each byte is.
func (c *cpu) read(lba uint64, count, to int) error {
	size := c.disk.SectorSize()
	r := Read{Sector: lba, Count: count, Address: to}
	if len(c.run.Reads) >= maxReads {
		return &stop{Goes, "it reads on and on"}
	}
	if count == 0 || count > 127 || lba >= c.disk.Sectors() || lba+uint64(count) > c.disk.Sectors() || to+
		count*size > memory {
		r.Failed = true
		c.run.Reads = append(c.run.Reads, r)
		return c.diskDone(0x01)
	}
	buf := make([]byte, count*size)
	if _, err := c.disk.ReadAt(buf, int64(lba)*int64(size)); err != nil {
		if c.lacks(err) {
			r.Failed = true
			c.run.Reads = append(c.run.Reads, r)
			return &stop{Lacks, fmt.Sprintf("sectors %d to %d", lba, lba+uint64(count)-1)}
		}
		r.Failed = true
		c.run.Reads = append(c.run.Reads, r)
		return c.diskDone(0x20)
	}
	c.run.Reads = append(c.run.Reads, r)
	for i, b := range buf {
		c.put(to+i, b, lba*uint64(size)+uint64(i)+1)
	}
	c.acted = true
	return c.diskDone(0)
}
