package volume

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"

	"latchkey/core/disk"
	"latchkey/core/fact"
)

// readNTFS reads the boot sector, its copy in the last sector, and what the
// volume says of itself. Offsets: common practice, as ntfs-3g's layout.h and the
// maker's "How NTFS Works" list them.
func readNTFS(d *disk.Disk, p disk.Partition, boot []byte, base int64) Opened {
	le := binary.LittleEndian
	v := Opened{Volume: Volume{Kind: KindNTFS, Serial: fmt.Sprintf("%016X", le.Uint64(boot[72:])),
		marks: mark("NTFS boot sector", 0, 512, ntfsFields())}}
	v.HiddenSectors = fact.Known(uint64(le.Uint32(boot[28:])), src("NTFS boot sector", "hidden sectors", base+28, 4))
	bytesPerSector, perCluster := uint64(le.Uint16(boot[11:])), uint64(boot[13])
	if perCluster > 128 { // a negative power of two
		perCluster = 1 << (256 - perCluster)
	}
	switch {
	case bytesPerSector < 256 || bytesPerSector > 4096 || bytesPerSector&(bytesPerSector-1) != 0:
		v.Problems = append(
			v.Problems,
			trouble(
				CodeNTFSBytesPerSector,
				src("NTFS boot sector", "bytes per sector", base+11,
					2),
				"256 to 4096, a power of two",
				bytesPerSector,
				"The NTFS boot sector of partition %d gives %d bytes a sector.",
				p.Number,
				bytesPerSector,
			),
		)
		return v
	case perCluster == 0 || perCluster&(perCluster-1) != 0 || perCluster*bytesPerSector > 2<<20:
		v.Problems = append(
			v.Problems,
			trouble(
				CodeNTFSCluster,
				src("NTFS boot sector", "sectors per cluster", base+13, 1),
				"a power of two, at most 2 MiB",
				perCluster,
				"The NTFS boot sector of partition %d gives %d sectors a cluster.",
				p.Number,
				perCluster,
			),
		)
		return v
	}
	// The volume's figure leaves out the copy of the boot sector that follows it.
	own := le.Uint64(boot[40:])
	v.TotalSectors = fact.Known((own+1)*bytesPerSector/uint64(d.SectorSize()),
		src("NTFS boot sector", "total sectors", base+40, 8))
	length := disk.Span(p.Length, d.SectorSize())
	v.compareBackup(d, p, boot, base, base+int64(own*bytesPerSector))
	files, err := OpenNTFS(d.Section(base, length))
	if v.FilesErr = err; err != nil {
		if !disk.IsNotCaptured(err) {
			v.Problems = append(
				v.Problems,
				trouble(CodeNTFSDamaged, src("NTFS boot sector", "$MFT cluster", base+48, 8),
					"a readable master file table", err,
					"The NTFS volume in partition %d cannot be read: %v.", p.Number, err),
			)
		}
		return v
	}
	v.Files, v.Label = files, files.Label
	v.Unclean = fact.Known(files.Dirty, fact.Source{Origin: fact.Bytes, Structure: mftRecord, Field: "$Volume",
		Offset: base + files.volumeAt, Length: files.ctx.GetRecordSize()})
	v.marks = append(v.marks, mark(mftRecord, files.volumeAt, files.ctx.GetRecordSize(), mftFields())...)
	v.countUsed(d, base, length, own/perCluster, perCluster*bytesPerSector)
	return v
}

// compareBackup holds the boot sector against its copy, which is used to repair
// it.
func (v *Volume) compareBackup(d *disk.Disk, p disk.Partition, boot []byte, base, at int64) {
	copied, err := d.Read(at, 512)
	if err != nil || at <= base {
		return
	}
	v.marks = append(v.marks, mark("NTFS boot sector (backup)", at-base, 512, ntfsFields())...)
	if !bytes.Equal(copied, boot) {
		v.Problems = append(v.Problems, trouble(CodeNTFSBackup, src("NTFS boot sector (backup)", "", at, 512),
			"the same bytes as the first sector", "other bytes",
			"The copy of the boot sector at the end of the volume in partition %d differs from the first.", p.Number))
		if string(copied[3:11]) == "NTFS    " && otherwise(boot, copied) {
			v.Spares = append(v.Spares, at)
		}
	}
}

// maxCounted bounds the volumes of a disk whose clusters are counted.
const maxCounted = 32

// bitmapCount is the name under which the used clusters of a volume are counted.
const bitmapCount = "$Bitmap"

func counted(d *disk.Disk) (n int) {
	for _, c := range d.Counts() {
		if c.Name == bitmapCount {
			n++
		}
	}
	return n
}

// countUsed counts the clusters in use. The bitmap is large and tells nothing
// else, so that a capture keeps the count and not the bytes.
func (v *Volume) countUsed(d *disk.Disk, base, length int64, clusters, clusterSize uint64) {
	used, ok := d.Counted(bitmapCount, base)
	if !ok && counted(d) >= maxCounted {
		return
	}
	if !ok {
		n, err := UsedClusters(io.NewSectionReader(d.Aside(), base, min(length, d.Size()-base)), clusters)
		if err != nil {
			return
		}
		used = n
		d.SetCount(disk.Count{Name: bitmapCount, Offset: base, Value: used})
	}
	v.Used = fact.Known(
		used*clusterSize,
		fact.Source{Origin: fact.Bytes, Structure: bitmapCount, Field: "clusters in use",
			Offset: base},
	)
}
