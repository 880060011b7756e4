package volume

import (
	"io"

	"latchkey/core/disk"
	"latchkey/core/fact"
)

// readExt reads an ext2, ext3 or ext4 volume.
func readExt(d *disk.Disk, section *io.SectionReader, base int64) (Opened, bool) {
	x, err := OpenExt(section)
	if x == nil {
		return Opened{}, false
	}
	at := func(field string, rel, n int64) fact.Source {
		return src("ext superblock", field, base+extSuperblockOff+rel, n)
	}
	v := Opened{Volume: Volume{Kind: KindExt, Label: x.Label, Serial: x.UUID, FilesErr: err, ExtFeatures: x.Incompat,
		marks: mark("ext superblock", extSuperblockOff, 1024, extFields())}}
	v.TotalSectors = fact.Known(x.Blocks*uint64(x.blockSize)/uint64(d.SectorSize()), at("s_blocks_count_lo", 4, 4))
	if x.Free <= x.Blocks {
		v.Used = fact.Known((x.Blocks-x.Free)*uint64(x.blockSize), at("s_free_blocks_count_lo", 0xC, 4))
	}
	v.Unclean = fact.Known(!x.Clean, at("s_state", 0x3A, 2))
	if x.HasErrors {
		v.Problems = append(v.Problems, trouble(CodeExtErrors, at("s_state", 0x3A, 2), 1, "errors found",
			"The ext file system %s is marked as having errors: it is checked at the next start.", x.UUID))
	}
	if err == nil {
		v.Files = x
	}
	return v, true
}

// readFiles opens what was recognised and whose files are read, too.
func readFiles(v Opened, d *disk.Disk, section *io.SectionReader, base int64) Opened {
	switch v.Kind {
	case KindXFS:
		return readXFS(v, d, section, base)
	case KindBtrfs:
		x, err := OpenBtrfs(section)
		if v.FilesErr = err; err == nil {
			v.Files, v.Btrfs = x, x
			v.TotalSectors = fact.Known(x.Total/uint64(d.SectorSize()), src("Btrfs superblock", "dev_item.total_bytes", base+64<<10+btrfsTotal, 8))
		}
	}
	return v
}

func readXFS(v Opened, d *disk.Disk, section *io.SectionReader, base int64) Opened {
	x, err := OpenXFS(section)
	if v.FilesErr = err; err != nil {
		return v
	}
	v.Files, v.Newer = x, x.Newer
	v.TotalSectors = fact.Known(
		x.Blocks*uint64(x.blockSize)/uint64(d.SectorSize()),
		src("XFS superblock", "sb_dblocks", base+8, 8),
	)
	if x.Free <= x.Blocks {
		v.Used = fact.Known((x.Blocks-x.Free)*uint64(x.blockSize), src("XFS superblock", "sb_fdblocks", base+144, 8))
	}
	return v
}
