package volume

import (
	"encoding/binary"
	"fmt"
	"path"
)

// Default is the path, from the top, of the subvolume that is mounted where none is named;
// "/" is the top itself.
func (x *Btrfs) Default() (string, error) {
	found, err := x.search(
		x.root,
		btrfsKey{btrfsRootDir, btrfsDirItem, 0},
		btrfsKey{btrfsRootDir, btrfsDirItem, 1<<64 - 1},
		16,
	)
	if err != nil {
		return "", fmt.Errorf("default subvolume: %w", err)
	}
	for _, f := range found {
		to, name, _, err := x.entry(f)
		switch {
		case err != nil:
			return "", err
		case name != "default":
			continue
		case to.object == btrfsTopTree:
			return "/", nil
		}
		list, err := x.Subvolumes()
		if err != nil {
			return "", err
		}
		for path, id := range list {
			if id == to.object {
				return path, nil
			}
		}
		return "", fmt.Errorf("the default subvolume, %d, has no path", to.object)
	}
	return "/", nil
}

// Subvolumes lists the subvolumes by their paths from the top, with their numbers: the
// folder that each lies in, and its name there.
func (x *Btrfs) Subvolumes() (map[string]uint64, error) {
	list, open := map[string]uint64{"/": btrfsTopTree}, []string{"/"}
	for ; len(open) > 0; open = open[1:] {
		id := list[open[0]]
		found, err := x.search(
			x.root,
			btrfsKey{id, btrfsRootRef, 0},
			btrfsKey{id, btrfsRootRef, 1<<64 - 1},
			maxBtrfsSubvolume,
		)
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			raw, err := x.bytes(f, 18+255)
			if err != nil {
				return nil, err
			}
			if len(raw) < 18 || len(raw) < 18+int(binary.LittleEndian.Uint16(raw[16:])) {
				return nil, fmt.Errorf("the reference to subvolume %d has %d bytes", f.key.offset, len(raw))
			}
			folder, err := x.pathOf(id, binary.LittleEndian.Uint64(raw))
			if err != nil {
				return nil, err
			}
			at := path.Join(open[0], folder, string(raw[18:18+binary.LittleEndian.Uint16(raw[16:])]))
			if _, known := list[at]; known || len(list) == maxBtrfsSubvolume {
				continue
			}
			list[at] = f.key.offset
			open = append(open, at)
		}
	}
	return list, nil
}

// pathOf is the path of a folder within its subvolume, by the references of its inodes.
func (x *Btrfs) pathOf(id, object uint64) (string, error) {
	first, err := x.subvolume(id)
	if err != nil {
		return "", err
	}
	at := ""
	for range maxSymlinks * 8 {
		if object == btrfsFirstInode {
			return at, nil
		}
		key := btrfsKey{object, btrfsInodeRef, 0}
		found, err := x.search(x.trees[first>>48], key, btrfsKey{object, btrfsInodeRef, 1<<64 - 1}, 16)
		if err != nil {
			return "", err
		}
		if len(found) == 0 {
			break
		}
		raw, err := x.bytes(found[0], 10+255)
		if err != nil {
			return "", err
		}
		if len(raw) < 10 || len(raw) < 10+int(binary.LittleEndian.Uint16(raw[8:])) {
			break
		}
		at = path.Join(string(raw[10:10+binary.LittleEndian.Uint16(raw[8:])]), at)
		object = found[0].key.offset
	}
	return "", fmt.Errorf("the folder %d of subvolume %d has no path", object, id)
}
