package machine

import "latchkey/core/disk"

// What a repair copies from sector to sector: the bytes are read again as they then
// stand.

// patched is a disk with some bytes replaced.
type patched struct {
	*disk.Disk
	at    int64
	bytes []byte
}

// ReadAt implements io.ReaderAt.
func (p patched) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.Disk.ReadAt(b, off)
	for i := range p.bytes {
		if at := p.at + int64(i) - off; at >= 0 && at < int64(n) {
			b[at] = p.bytes[i]
		}
	}
	return n, err
}

// WithSectorCopied has the boot sector of a partition written anew from its copy
// in another sector of the disk; the volume is read again.
func (c *Contents) WithSectorCopied(i int, from uint64) (*Contents, error) {
	e := c.edited()
	size := int64(c.Layout.SectorSize)
	sector, err := c.Disk.Read(disk.Span(from, int(size)), int(size))
	if err != nil {
		return nil, err
	}
	p := c.Layout.Partitions[i]
	on, err := disk.New(patched{c.Disk, disk.Span(p.Start, int(size)), sector}, c.Disk.Size(), int(size))
	if err != nil {
		return nil, err
	}
	left := int64(maxKept)
	e.Volumes[i] = examineVolume(on.Bounded(maxReads, maxRead), p, nil, &left)
	e.forgetRun()
	return e, nil
}

// larger is a disk's bytes on a drive with room behind them, which reads as zeros.
type larger struct{ *disk.Disk }

// ReadAt implements io.ReaderAt.
func (l larger) ReadAt(b []byte, off int64) (int, error) {
	n := 0
	if off < l.Size() {
		most := min(int64(len(b)), l.Size()-off)
		var err error
		if n, err = l.Disk.ReadAt(b[:most], off); int64(n) < most {
			return n, err
		}
	}
	clear(b[n:])
	return len(b), nil
}

// CopiedWhole is the disk copied sector by sector onto another one that has room;
// nil when it cannot be read so.
func (c *Contents) CopiedWhole(onto *Contents) *Contents {
	on, err := disk.New(larger{c.Disk}, disk.Span(onto.Layout.Sectors, onto.Layout.SectorSize), onto.Layout.SectorSize)
	if err != nil {
		return nil
	}
	on.SetCounts(c.Disk.Counts())
	return Examine(on)
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
