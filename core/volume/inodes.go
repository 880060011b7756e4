package volume

import (
	"fmt"
	"io"
	"strings"
)

// maxSymlinks bounds the links that lead on to each other.
const maxSymlinks = 8

// inode is what an index node tells.
type inode struct {
	mode, flags uint32
	size        int64
	block       []byte // of ext i_block, of XFS the data fork
	offset      int64  // bytes from the start of the volume
	number      uint64
	elsewhere   bool   // its contents lie on another device
	seed        uint32 // of ext: what the checksums of what belongs to it begin with
}

func (n *inode) is(kind uint32) bool { return n.mode&0xF000 == kind }

// The kinds of files by their mode. inode(7).
const (
	modeDir  = 0x4000
	modeFile = 0x8000
	modeLink = 0xA000
)

// inodes is a file system whose directories lead to numbered index nodes.
type inodes interface {
	inode(number uint64) (*inode, error)
	list(n *inode) ([]File, error)
	contents(n *inode, limit int64) (*Stream, error)
}

// inodeFiles reads files by path from a file system of index nodes: names are told apart
// by case, and links are followed.
type inodeFiles struct {
	fs     inodes
	root   uint64
	record string   // what an index node is called
	length int64    // of it, bytes
	within []string // where links begin, and lead not out of: the folder that stands for a root
}

// Within is the files of a system whose root a folder of the volume is: its links lead nowhere out of it.
func Within(files Files, folder string) Files {
	if x, ok := files.(interface{ rooted(names []string) Files }); ok {
		return x.rooted(splitPath(folder))
	}
	return files
}

func (x inodeFiles) rooted(names []string) Files {
	x.within = names
	return x
}

// walk follows a path, and links up to maxSymlinks of them.
func (x inodeFiles) walk(names []string, links int) (*inode, error) {
	n, err := x.fs.inode(x.root)
	if err != nil {
		return nil, err
	}
	for i, name := range names {
		if !n.is(modeDir) {
			return nil, fmt.Errorf("%s: %w", name, ErrNotFound)
		}
		files, err := x.fs.list(n)
		if err != nil {
			return nil, fmt.Errorf("directory before %s: %w", name, err)
		}
		at := uint64(0)
		for _, f := range files {
			if f.Name == name {
				at = f.node
				break
			}
		}
		if at == 0 {
			return nil, fmt.Errorf("%s: %w", name, ErrNotFound)
		}
		if n, err = x.fs.inode(at); err != nil {
			return nil, err
		}
		if n.is(modeLink) {
			return x.follow(n, names[:i], names[i+1:], links)
		}
	}
	return n, nil
}

func (x inodeFiles) follow(n *inode, before, after []string, links int) (*inode, error) {
	if links >= maxSymlinks {
		return nil, fmt.Errorf("more than %d links lead on to each other", maxSymlinks)
	}
	r, err := x.fs.contents(n, maxPath)
	if err != nil {
		return nil, err
	}
	target, err := io.ReadAll(r.SectionReader)
	if err != nil {
		return nil, err
	}
	names := append([]string{}, before...)
	if strings.HasPrefix(string(target), "/") {
		names = append([]string{}, x.within...)
	}
	for _, part := range strings.Split(string(target), "/") {
		switch part {
		case "", ".":
		case "..":
			names = names[:max(min(len(x.within), len(names)), len(names)-1)]
		default:
			names = append(names, part)
		}
	}
	return x.walk(append(names, after...), links+1)
}

// ReadDir implements Files.
func (x inodeFiles) ReadDir(path string) ([]File, error) {
	n, err := x.walk(splitPath(path), 0)
	if err != nil {
		return nil, err
	}
	if !n.is(modeDir) {
		return nil, fmt.Errorf("%s: %w", path, ErrNotFound)
	}
	files, err := x.fs.list(n)
	kept := files[:0]
	for _, f := range files {
		if nameable(f.Name) {
			kept = append(kept, f)
		}
	}
	return kept, err
}

// Lookup implements Files.
func (x inodeFiles) Lookup(path string) (File, error) {
	names := splitPath(path)
	if len(names) == 0 {
		return File{}, fmt.Errorf("empty path: %w", ErrNotFound)
	}
	n, err := x.walk(names, 0)
	if err != nil {
		return File{}, err
	}
	return File{Name: names[len(names)-1], Dir: n.is(modeDir), Size: n.size, Record: x.record, Offset: n.offset,
		Length: x.length, node: n.number}, nil
}

// Open implements Files.
func (x inodeFiles) Open(f File) (*Stream, error) {
	n, err := x.fs.inode(f.node)
	if err != nil {
		return nil, err
	}
	if !n.is(modeFile) {
		return nil, fmt.Errorf("%s is no regular file: %w", f.Name, ErrNotFound)
	}
	return x.fs.contents(n, maxFile)
}
