package volume

import (
	"encoding/binary"
	"fmt"
	"path"
	"slices"
)

// Default is the number of the subvolume that is mounted where none is named.
func (x *Btrfs) Default() (uint64, error) {
	found, err := x.search(
		x.root,
		btrfsKey{btrfsRootDir, btrfsDirItem, 0},
		btrfsKey{btrfsRootDir, btrfsDirItem, 1<<64 - 1},
		16,
	)
	if err != nil {
		return 0, fmt.Errorf("default subvolume: %w", err)
	}
	for _, f := range found {
		if to, name, _, err := x.entry(f); err != nil || name == "default" {
			return to.object, err
		}
	}
	return btrfsTopTree, nil
}

// Subvolumes lists the subvolumes by their paths from the top, with their numbers: the
// folder that each lies in, and its name there. Whole is set when none is left out: some
// could not be read, or there are more than 4,096.
func (x *Btrfs) Subvolumes() (list map[string]uint64, whole bool) {
	list, whole = map[string]uint64{"/": btrfsTopTree}, true
	for open := []string{"/"}; len(open) > 0; open = open[1:] {
		id := list[open[0]]
		found, err := x.search(
			x.root,
			btrfsKey{id, btrfsRootRef, 0},
			btrfsKey{id, btrfsRootRef, 1<<64 - 1},
			maxBtrfsSubvolume,
		)
		whole = whole && err == nil
		for _, f := range found {
			below, err := x.named(id, f)
			if at := path.Join(open[0], below); err != nil || len(list) == maxBtrfsSubvolume {
				whole = false
			} else if _, known := list[at]; !known {
				list[at] = f.key.offset
				open = append(open, at)
			}
		}
	}
	return list, whole
}

// named is the path of a subvolume within the one that it lies in, by a reference to it.
func (x *Btrfs) named(in uint64, f btrfsFound) (string, error) {
	raw, err := x.bytes(f, 18+255)
	if err != nil {
		return "", err
	}
	if len(raw) < 18 || len(raw) < 18+int(binary.LittleEndian.Uint16(raw[16:])) {
		return "", fmt.Errorf("the reference to subvolume %d has %d bytes", f.key.offset, len(raw))
	}
	folder, err := x.pathOf(in, binary.LittleEndian.Uint64(raw))
	return path.Join(folder, string(raw[18:18+binary.LittleEndian.Uint16(raw[16:])])), err
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

// subvolume opens a subvolume, and returns the number of its first folder.
func (x *Btrfs) subvolume(id uint64) (uint64, error) {
	at := slices.IndexFunc(x.trees, func(t btrfsTree) bool { return t.id == id })
	if at < 0 {
		found, err := x.search(x.root, btrfsKey{id, btrfsRootItem, 0}, btrfsKey{id, btrfsRootItem, 1<<64 - 1}, 64)
		switch {
		case err != nil:
			return 0, fmt.Errorf("subvolume %d: %w", id, err)
		case len(found) == 0:
			return 0, fmt.Errorf("subvolume %d: %w", id, ErrNotFound)
		case len(x.trees) == maxBtrfsTrees:
			return 0, fmt.Errorf("more than %d subvolumes", maxBtrfsTrees)
		}
		raw, err := x.bytes(found[0], 239)
		if err != nil {
			return 0, err
		}
		if len(raw) < 239 {
			return 0, fmt.Errorf("the item of subvolume %d has %d bytes, expected 239", id, len(raw))
		}
		x.trees, at = append(x.trees, btrfsTree{id, binary.LittleEndian.Uint64(raw[176:]), raw[238]}), len(x.trees)
	}
	return uint64(at)<<48 | btrfsFirstInode, nil
}
