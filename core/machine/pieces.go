package machine

import (
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/volume"
)

// Volumes that lie in several pieces are read as if they lay in one, beyond the end of the
// disk: an offset there is none that the disk has, and is told as the place that it stands for.

// pieced is a disk with a volume in one piece behind its end.
type pieced struct {
	*disk.Disk
	at, base int64 // where it lies in one; where its partition begins
	pieces   []volume.Piece
}

// ReadAt implements io.ReaderAt.
func (p pieced) ReadAt(b []byte, off int64) (n int, err error) {
	if off < p.at {
		return p.Disk.ReadAt(b, off)
	}
	for n < len(b) {
		place, room := behind(p.pieces, off+int64(n)-p.at)
		if room <= 0 {
			clear(b[n:])
			return len(b), nil
		}
		part := b[n:min(len(b), n+int(min(room, 1<<30)))]
		got, err := p.Disk.ReadAt(part, p.base+place)
		if n += got; err != nil {
			return n, err
		}
	}
	return n, nil
}

// behind is the place of a volume's byte in its partition, and how many follow it there.
func behind(pieces []volume.Piece, at int64) (place, room int64) {
	for _, x := range pieces {
		if at >= x.At && at < x.At+x.Length {
			return x.Offset + at - x.At, x.Length - (at - x.At)
		}
	}
	return 0, 0
}

// examinePieced reads a volume that lies in several pieces, and adds it.
func (v *Volume) examinePieced(d *disk.Disk, p disk.Partition, n Inner, part volume.Part, left *budget) {
	size, base := int64(d.SectorSize()), disk.Span(p.Start, d.SectorSize())
	at := d.Size() + base
	for i := range v.Inner {
		if v.Inner[i].Pieces != nil {
			at += v.Inner[i].Length
		}
	}
	n.Volume.Kind = volume.NotCaptured
	on, err := disk.New(pieced{d, at, base, part.Pieces}, at+part.Length, d.SectorSize())
	if err == nil && part.Length%size == 0 {
		q := p
		q.Start, q.Length = uint64(at/size), uint64(part.Length/size)
		n.Offset, n.Unread, n.Pieces = at-base, false, part.Pieces
		n.Volume = examineVolume(on, q, nil, left)
		n.Volume.Inner = nil
		n.Volume.dropPlace()
	}
	v.Inner = append(v.Inner, n)
}

// placed is a source with the place on the disk that it stands for.
func (c *Contents) placed(s fact.Source) fact.Source {
	if c == nil || s.Origin != fact.Bytes || s.Offset < disk.Span(c.Layout.Sectors, c.Layout.SectorSize) {
		return s
	}
	for i := range c.Volumes {
		for _, n := range c.Volumes[i].Inner {
			base := c.Base(i)
			if at := s.Offset - base - n.Offset; n.Pieces != nil && at >= 0 && at < n.Length {
				place, room := behind(n.Pieces, at)
				s.Offset, s.Length = base+place, min(s.Length, room)
				return s
			}
		}
	}
	return s
}
