package volume

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"latchkey/core/disk"
)

// Bounds of the file readers, in bytes. Boot files and configuration are far
// smaller than maxFile.
const (
	maxFile = 64 << 20
	maxPath = 4096
)

// ErrNotFound reports that a path does not exist on a volume.
var ErrNotFound = errors.New("not found")

// Files reads the files of a volume by path. The errors are ErrNotFound, a
// *disk.NotCaptured where the evidence lacks the bytes, or what is damaged.
type Files interface {
	// Lookup finds a file or directory, with either separator.
	Lookup(path string) (File, error)
	// ReadDir lists a directory; an empty path is the root.
	ReadDir(path string) ([]File, error)
	// Open returns a reader over a file's contents, at most 64 MiB of them.
	Open(f File) (*io.SectionReader, error)
}

// The structures that tell of a file.
const (
	direntRecord = "FAT directory entry"
	mftRecord    = "MFT record"
	inodeRecord  = "ext inode"
)

// File is a file or directory found on a volume, with the place of the structure
// that tells of it.
type File struct {
	Name   string
	Dir    bool
	Size   int64  // bytes
	Record string // the structure that tells of it
	Offset int64  // bytes from the start of the volume
	Length int64  // bytes of the structure
	node   uint64 // first cluster, MFT record or inode number
}

// ReadFile reads a whole file of at most limit bytes.
func ReadFile(files Files, path string, limit int64) ([]byte, File, error) {
	f, err := files.Lookup(path)
	if err != nil {
		return nil, f, err
	}
	if f.Dir {
		return nil, f, fmt.Errorf("%s is a directory: %w", path, ErrNotFound)
	}
	if f.Size > limit {
		return nil, f, fmt.Errorf("%s has %d bytes, expected at most %d", path, f.Size, limit)
	}
	r, err := files.Open(f)
	if err != nil {
		return nil, f, err
	}
	raw := make([]byte, r.Size())
	if _, err := r.ReadAt(raw, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, f, err
	}
	return raw, f, nil
}

func splitPath(path string) []string {
	if len(path) > maxPath {
		path = path[:maxPath]
	}
	return strings.FieldsFunc(path, func(r rune) bool { return r == '\\' || r == '/' })
}

// lookup finds a path by listing its directory; names in any case.
func lookup(files Files, path string) (File, error) {
	names := splitPath(path)
	if len(names) == 0 {
		return File{}, fmt.Errorf("empty path: %w", ErrNotFound)
	}
	dir, err := files.ReadDir(strings.Join(names[:len(names)-1], "/"))
	if err != nil {
		return File{}, err
	}
	if found, ok := pick(dir, names[len(names)-1]); ok {
		return found, nil
	}
	return File{}, fmt.Errorf("%s: %w", path, ErrNotFound)
}

func pick(files []File, name string) (File, bool) {
	for _, f := range files {
		if strings.EqualFold(f.Name, name) {
			return f, true
		}
	}
	return File{}, false
}

// run is a stretch of a file's bytes on its volume; a hole reads as zeros.
type run struct {
	at     int64 // byte offset in the file
	length int64 // bytes
	from   int64 // byte offset on the volume
}

// runReader reads runs, in the order of the file, as one run of bytes.
type runReader struct {
	r    io.ReaderAt
	runs []run
}

func (r *runReader) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	for _, x := range r.runs {
		from, to := max(off, x.at), min(off+int64(len(p)), x.at+x.length)
		if from >= to {
			continue
		}
		if n, err := r.r.ReadAt(p[from-off:to-off], x.from+from-x.at); err != nil && (n < int(to-from) || !errors.Is(err, io.EOF)) {
			return int(from-off) + n, err
		}
	}
	return len(p), nil
}

// guard stands between a general-purpose decoder and the disk: it remembers the
// first range that the evidence lacks, and refuses to go on past a budget, so
// that damage cannot make a decoder read without end.
type guard struct {
	r       io.ReaderAt
	left    int64 // bytes that may still be read
	missing error
}

// errBudget reports that a damaged structure made a decoder read too much.
var errBudget = errors.New("more had to be read than a sound volume needs")

func (g *guard) ReadAt(p []byte, off int64) (int, error) {
	if g.left -= int64(len(p)); g.left < 0 {
		return 0, errBudget
	}
	n, err := g.r.ReadAt(p, off)
	if disk.IsNotCaptured(err) && g.missing == nil {
		g.missing = err
	}
	return n, err
}

// within runs an operation of a decoder on a fresh budget. A panic is damage; a
// failure after a range that the evidence lacks is that lack.
func (g *guard) within(budget int64, what string, do func() error) (err error) {
	g.left, g.missing = budget, nil
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%s is damaged: %v", what, p)
		}
		if err != nil && g.missing != nil {
			err = g.missing
		}
		if err == nil && g.left < 0 {
			err = errBudget
		}
	}()
	return do()
}
