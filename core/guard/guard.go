// Package guard stands between a general-purpose decoder and the bytes it reads,
// so that damage cannot make it read without end, and so that bytes which the
// evidence lacks are told apart from damage.
package guard

import (
	"errors"
	"fmt"
	"io"

	"latchkey/core/disk"
)

// ErrBudget reports that a decoder read more than a sound structure needs.
var ErrBudget = errors.New("more had to be read than a sound structure needs")

// perRead is what every read costs besides its bytes, so that reads of nothing
// come to an end too.
const perRead = 16

// Reader is a reader with a budget.
type Reader struct {
	r       io.ReaderAt
	left    int64 // bytes that may still be read
	missing error // the first range that the evidence lacks
	broken  error // what ended an operation by a panic; none is begun after it
}

// New returns a reader without a budget: reading is for operations of Within.
func New(r io.ReaderAt) *Reader { return &Reader{r: r} }

// ReadAt implements io.ReaderAt. It panics when the budget is spent, as decoders
// go on after an error; Within recovers.
func (g *Reader) ReadAt(p []byte, off int64) (int, error) {
	if g.left -= int64(len(p)) + perRead; g.left < 0 {
		panic(ErrBudget)
	}
	n, err := g.r.ReadAt(p, off)
	if disk.IsNotCaptured(err) && g.missing == nil {
		g.missing = err
	}
	return n, err
}

// Within runs an operation of a decoder on a budget of bytes. A panic is damage,
// and so is every operation after it; a failure after a range that the evidence
// lacks is that lack.
func (g *Reader) Within(budget int64, what string, do func() error) (err error) {
	if g.broken != nil {
		return g.broken
	}
	g.left, g.missing = budget, nil
	defer func() {
		switch p := recover(); {
		case p == ErrBudget: //nolint:errorlint // the very value that ReadAt panics with
			err = fmt.Errorf("%s is damaged: %w", what, ErrBudget)
			g.broken = err
		case p != nil:
			err = fmt.Errorf("%s is damaged: %v", what, p)
			g.broken = err
		}
		if err != nil && g.missing != nil {
			err = g.missing
		}
	}()
	return do()
}
