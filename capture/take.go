package capture

import (
	"context"
	"fmt"
	"slices"
	"time"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// Taking says how a capture is taken.
type Taking struct {
	Source     string         // what is captured, as it was named
	SectorSize int            // logical, bytes; 0 where the device tells it
	Now        time.Time      // when it is taken
	Report     func(Progress) // is told how far it got; nil for nobody
	// Thorough is set where volumes are to be looked for at every place at which one may begin and
	// no table tells of one. When it is done, the search ends and what it found is kept.
	Thorough context.Context
}

// Search is how far volumes were looked for that no table tells of.
type Search struct {
	UpTo  int64         // bytes; 0 where nothing was looked for
	Found int           // volumes
	Left  int64         // bytes of the disk that a thorough search still looks through
	Reads int64         // bytes that it reads of them
	Takes time.Duration // as long as reading took so far; 0 is not known
}

// Taken is a capture's manifest, with what was left out of it.
type Taken struct {
	Manifest
	Search Search
}

// Take runs the very analysis of a check through a recording reader and returns
// what it read. The context ends it early. Both logical sector sizes are tried, so that the
// capture serves the drive on either kind of port.
func Take(ctx context.Context, d *Device, t Taking) (Taken, error) {
	t.SectorSize = d.SectorSizeOr(t.SectorSize)
	recorder := NewRecorder(d, d.Size, t.SectorSize)
	recorder.Watch(ctx, t.Report)
	var paths []string
	// Damaged variables are kept as they are; the reader of the capture reports them.
	if entries, _ := firmware.DecodeVariables(d.Variables); entries != nil {
		paths = entries.Files()
	}
	var counts []disk.Count
	var search Search
	for _, size := range []int{512, 4096} {
		on, err := disk.New(recorder, d.Size, size)
		if err != nil {
			return Taken{}, fmt.Errorf("%s: %w", t.Source, err)
		}
		on.SetCounts(counts)
		contents := machine.Examine(on, paths...)
		if size == t.SectorSize {
			search = t.search(recorder, on, contents, paths)
		}
		counts = slices.Clone(on.Counts())
	}
	if err := ctx.Err(); err != nil {
		return Taken{}, fmt.Errorf("%s: stopped before the end: %w", t.Source, err)
	}
	m := d.manifest(t.Source, t.SectorSize, t.Now)
	m.Extents, m.Unreadable, m.Counts = recorder.Extents(), recorder.Unreadable(), counts
	if len(m.Extents) == 0 {
		return Taken{}, fmt.Errorf("%s: nothing of it could be read", t.Source)
	}
	if err := d.still(m.Extents[0]); err != nil {
		return Taken{}, fmt.Errorf("%s: %w", t.Source, err)
	}
	m.Unreadable = m.Unreadable[:min(len(m.Unreadable), maxFailed)]
	return Taken{Manifest: m, Search: search}, nil
}

// search looks for volumes where an examination did not, if it shall be thorough, and tells how
// far that came.
func (t Taking) search(r *Recorder, on *disk.Disk, c *machine.Contents, paths []string) Search {
	if t.Thorough != nil {
		for _, gap := range c.Unsearched() {
			volume.SearchThoroughly(on, gap.From, gap.To, func(now volume.Searching) bool {
				r.progress.Searched, r.progress.Of = disk.Span(now.UpTo, on.SectorSize()), on.Size()
				r.progress.Found = now.Found
				return t.Thorough.Err() == nil
			})
			if t.Thorough.Err() != nil {
				break
			}
		}
		r.progress.Of = 0
		c = machine.Examine(on, paths...)
	}
	starts, upTo, was := volume.Searched(on)
	if !was || t.Thorough == nil && c.FoundUpTo == 0 { // or by the other sector size alone
		return Search{}
	}
	s := Search{UpTo: disk.Span(upTo, on.SectorSize()), Found: len(starts)}
	var places int64
	for _, gap := range c.Unsearched() {
		if from := max(gap.From, upTo); from < gap.To {
			n, bytes := volume.Left(on, from, gap.To)
			s.Left, s.Reads, places = s.Left+disk.Span(gap.To-from, on.SectorSize()), s.Reads+bytes, places+n
		}
	}
	if r.asideReads > 0 {
		s.Takes = r.asideLatest.Sub(r.asideFirst) / time.Duration(r.asideReads) * time.Duration(2*places)
	}
	return s
}
