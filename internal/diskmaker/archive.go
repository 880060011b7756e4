package diskmaker

import (
	"bytes"
	"fmt"
)

// Archive is a cpio archive of the new form in the making, as a kernel unpacks. The kernel's
// driver-api/early-userspace/buffer-format.
type Archive struct {
	b    bytes.Buffer
	dirs map[string]bool
}

// Folder is the mode of a folder that everybody may read.
const Folder = 0o40755

// Add adds a file or a folder, by its mode; a folder once alone.
func (a *Archive) Add(name string, mode int, content []byte) {
	if mode == Folder {
		if a.dirs[name] {
			return
		}
		if a.dirs == nil {
			a.dirs = map[string]bool{}
		}
		a.dirs[name] = true
	}
	fmt.Fprintf(&a.b, "070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X", a.b.Len()+1, mode, 0, 0, 1, 0,
		len(content), 0, 0, 0, 0, len(name)+1, 0)
	a.b.WriteString(name + "\x00")
	a.pad()
	a.b.Write(content)
	a.pad()
}

// AddAt adds a file with the folders above it.
func (a *Archive) AddAt(path string, mode int, content []byte) {
	for i, sign := range path {
		if sign == '/' {
			a.Add(path[:i], Folder, nil)
		}
	}
	a.Add(path, mode, content)
}

// Bytes ends the archive, and returns it.
func (a *Archive) Bytes() []byte {
	a.Add("TRAILER!!!", 0, nil)
	return a.b.Bytes()
}

func (a *Archive) pad() { a.b.Write(make([]byte, -a.b.Len()&3)) }
