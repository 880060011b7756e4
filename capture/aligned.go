package capture

import "io"

// alignment is a multiple of every sector size in use, in bytes.
const alignment = 4096

// aligned reads whole blocks, as systems ask for that give raw access to a disk
// by sectors only.
type aligned struct{ r io.ReaderAt }

func (a *aligned) ReadAt(p []byte, off int64) (int, error) {
	from := off - off%alignment
	to := (off + int64(len(p)) + alignment - 1) / alignment * alignment
	block := make([]byte, to-from)
	n, err := a.r.ReadAt(block, from)
	if int64(n) <= off-from {
		if err == nil {
			err = io.ErrUnexpectedEOF
		}
		return 0, err
	}
	done := copy(p, block[off-from:n])
	if done == len(p) {
		return done, nil
	}
	if err == nil {
		err = io.ErrUnexpectedEOF
	}
	return done, err
}
