package volume

import (
	"errors"
	"fmt"
	"io"
	"strings"
)

// Bounds of the file readers, in bytes. Boot files and configuration are far
// smaller than maxFile.
const (
	maxFile = 512 << 20
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
	// Open returns a file's contents, at most 512 MiB of them.
	Open(f File) (*Stream, error)
}

// Stream is a file's contents.
type Stream struct {
	*io.SectionReader
	places places
}

// Place returns the byte offset on the volume at which a byte of the file lies;
// -1 where it lies nowhere.
func (s *Stream) Place(off int64) int64 {
	if off >= s.Size() {
		return -1
	}
	return s.places.of(off)
}

// Over returns the file's contents through another reader of the disk on which the volume begins at base, in bytes;
// false where they do not stand on it as they are.
func (s *Stream) Over(r io.ReaderAt, base int64) (*io.SectionReader, bool) {
	var at int64
	moved := make(places, len(s.places))
	for i, x := range s.places {
		if x.at > at {
			return nil, false // a hole, or packed
		}
		at = x.at + x.length
		moved[i] = run{x.at, x.length, x.from + base}
	}
	return io.NewSectionReader(&runReader{r, moved}, 0, s.Size()), at >= s.Size() && s.Size() > 0
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
	Short  string // by which a FAT finds it, too; "" elsewhere
	Dir    bool
	Size   int64  // bytes
	Record string // the structure that tells of it
	Offset int64  // bytes from the start of the volume
	Length int64  // bytes of the structure
	node   uint64 // first cluster, MFT record or inode number
}

// nameable reports whether a directory's entry has a name that a path can hold: one
// with a separator in it, or a name for the folder itself, would lead elsewhere.
func nameable(name string) bool {
	return name != "" && name != "." && name != ".." && !strings.ContainsAny(name, "/\\\x00")
}

// Read is a file that was read whole: its disk is not needed any more.
type Read struct {
	File
	Bytes  []byte
	places places
}

// Place returns the byte offset on the volume of a byte of the file, -1 where it
// lies nowhere.
func (r *Read) Place(off int64) int64 {
	if off >= int64(len(r.Bytes)) {
		return -1
	}
	return r.places.of(off)
}

// ReadFile reads a whole file of at most limit bytes.
func ReadFile(files Files, path string, limit int64) (*Read, error) {
	f, err := files.Lookup(path)
	if err != nil {
		return nil, err
	}
	if f.Dir {
		return nil, fmt.Errorf("%s is a directory: %w", path, ErrNotFound)
	}
	if f.Size > limit {
		return nil, fmt.Errorf("%s has %d bytes, expected at most %d", path, f.Size, limit)
	}
	s, err := files.Open(f)
	if err != nil {
		return nil, err
	}
	raw := make([]byte, s.Size())
	if _, err := s.ReadAt(raw, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return &Read{f, raw, s.places}, nil
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

// pick finds a file by its name, else by its short one, as firmware and systems do on a FAT
// volume. FAT specification 1.03, section 7.
func pick(files []File, name string) (File, bool) {
	for _, f := range files {
		if strings.EqualFold(f.Name, name) {
			return f, true
		}
	}
	for _, f := range files {
		if f.Short != "" && strings.EqualFold(f.Short, name) {
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

// places says where the bytes of a file lie, in the order of the file.
type places []run

// of returns the byte offset on the volume of a byte of the file, -1 for none.
func (p places) of(off int64) int64 {
	for _, x := range p {
		if off >= x.at && off < x.at+x.length {
			return x.from + off - x.at
		}
	}
	return -1
}

// runReader reads runs as one run of bytes.
type runReader struct {
	r    io.ReaderAt
	runs places
}

func (r *runReader) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	for _, x := range r.runs {
		from, to := max(off, x.at), min(off+int64(len(p)), x.at+x.length)
		if from >= to {
			continue
		}
		if n, err := r.r.ReadAt(p[from-off:to-off], x.from+from-x.at); err != nil &&
			(n < int(to-from) || !errors.Is(err, io.EOF)) {
			return int(from-off) + n, err
		}
	}
	return len(p), nil
}
