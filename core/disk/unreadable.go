package disk

import (
	"errors"
	"fmt"
	"slices"
)

// Unreadable reports bytes that the drive itself would not give: a read error, and not
// something that nobody looked at.
type Unreadable struct {
	Offset int64 // bytes from the start of the disk
	Length int64 // bytes
}

func (e *Unreadable) Error() string {
	return fmt.Sprintf("bytes %d to %d could not be read from the drive", e.Offset, e.Offset+e.Length-1)
}

// IsUnreadable reports whether err comes from the drive.
func IsUnreadable(err error) bool {
	var bad *Unreadable
	return errors.As(err, &bad)
}

// failures are the read errors of a disk, shared by its handles.
type failures struct{ list []Unreadable }

// maxFailures bounds the read errors that are kept.
const maxFailures = 1000

func (f *failures) note(err error) {
	var bad *Unreadable
	if errors.As(err, &bad) && len(f.list) < maxFailures && !slices.Contains(f.list, *bad) {
		f.list = append(f.list, *bad)
	}
}

// Failures returns the read errors that reading of the disk has met, in order.
func (d *Disk) Failures() []Unreadable {
	sorted := slices.Clone(d.failed.list)
	slices.SortFunc(sorted, func(a, b Unreadable) int { return int(min(1, max(-1, a.Offset-b.Offset))) })
	return sorted
}

// FailuresProblem says that a drive would not give some of what was asked of it.
func FailuresProblem(list []Unreadable) Problem {
	first := list[0]
	text := fmt.Sprintf("The drive could not read %d places of those that were asked for, the first at byte %d: it is failing, or came loose while it was read. Copy what it holds before anything else is done to it.", len(list), first.Offset)
	if len(list) == 1 {
		text = fmt.Sprintf("The drive could not read %d bytes at byte %d: it is failing, or came loose while it was read. Copy what it holds before anything else is done to it.", first.Length, first.Offset)
	}
	return problem(CodeUnreadable, at("sectors that could not be read", "", first.Offset, first.Length), "%s", text).
		wanted("the drive gives its sectors", "a read error")
}
