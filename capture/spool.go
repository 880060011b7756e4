package capture

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// Spool holds what was read of a stream: little of it in memory, more in a temporary
// file.
type Spool struct {
	io.ReaderAt
	Size int64    // bytes
	file *os.File // nil for what is in memory
}

// inMemory is how much of a stream is held in memory, in bytes.
const inMemory = 256 << 10

// NewSpool reads a stream of at most limit bytes to its end.
func NewSpool(r io.Reader, limit int64) (*Spool, error) {
	head, err := io.ReadAll(io.LimitReader(r, inMemory))
	if err != nil {
		return nil, err
	}
	if len(head) < inMemory {
		return &Spool{ReaderAt: bytes.NewReader(head), Size: int64(len(head))}, nil
	}
	f, err := os.CreateTemp("", "latchkey-*.tmp")
	if err != nil {
		return nil, err
	}
	// Where a system lets an open file go by without its name, nothing is left over
	// even when the process is ended.
	_ = os.Remove(f.Name())
	s := &Spool{ReaderAt: f, file: f}
	s.Size, err = io.Copy(f, io.MultiReader(bytes.NewReader(head), io.LimitReader(r, limit-inMemory+1)))
	if err == nil && s.Size > limit {
		err = &TooLarge{limit}
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// TooLarge reports a stream with more bytes than are taken.
type TooLarge struct{ Limit int64 }

func (e *TooLarge) Error() string { return fmt.Sprintf("it is larger than %d bytes", e.Limit) }

// Close removes the temporary file.
func (s *Spool) Close() error {
	if s.file == nil {
		return nil
	}
	err := s.file.Close()
	if e := os.Remove(s.file.Name()); err == nil && !errors.Is(e, fs.ErrNotExist) {
		err = e
	}
	return err
}
