package machine

import (
	"latchkey/core/disk"
	"latchkey/core/volume"
)

// What a repair copies from sector to sector.

// WithSectorCopied has the boot sector of a partition written anew from a copy of
// it.
func (c *Contents) WithSectorCopied(i int, spare Spare) *Contents {
	e := c.edited()
	e.Volumes[i] = spare.Then
	e.rerun()
	return e
}

// WithSecondFAT has the first file allocation table of a partition written anew from the
// second.
func (c *Contents) WithSecondFAT(i int) *Contents {
	e := c.edited()
	e.Volumes[i] = *c.Volumes[i].WithSecondFAT
	e.rerun()
	return e
}

// CopiedWhole is the disk copied sector by sector onto another one that has room.
// Its tables are read as they stand on the larger disk; a partition that lies where
// it lay holds what it held.
func (c *Contents) CopiedWhole(onto *Contents) *Contents {
	e := c.edited()
	e.Layout, e.Volumes = c.Layout.OnLarger(onto.Layout.Sectors), nil
	for _, p := range e.Layout.Partitions {
		v := Volume{Volume: volume.Volume{Kind: volume.NotCaptured}, LoaderErr: &disk.NotCaptured{}}
		for i, was := range c.Layout.Partitions {
			if was.Start == p.Start && was.Number == p.Number {
				v = c.Volumes[i]
			}
		}
		e.Volumes = append(e.Volumes, v)
	}
	return e
}

// CopiedSmaller is the disk copied onto one of so many sectors, with a partition
// made smaller and those behind it moved up.
func (c *Contents) CopiedSmaller(shrunk int, sectors uint64) *Contents {
	e := c.edited()
	less := c.Layout.Sectors - sectors
	at := e.Layout.Partitions[shrunk].Start
	e.Layout.Partitions[shrunk].Length -= less
	for i := range e.Layout.Partitions {
		if p := &e.Layout.Partitions[i]; p.Start > at {
			p.Start -= less
		}
	}
	e.Layout.Sectors = sectors
	if g := e.Layout.GPT; g != nil {
		moved := *g
		moved.Primary.Header.LastUsableLBA -= less
		moved.Backup.Header.LastUsableLBA -= less
		e.Layout.GPT = &moved
	}
	return e
}
