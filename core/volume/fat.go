package volume

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
)

// maxDirBytes bounds a directory: at most 65,536 entries of 32 bytes. FAT
// specification 1.03, section 6.
const maxDirBytes = 65536 * 32

// minFAT32 is the least count of clusters of a FAT32 volume. FAT specification
// 1.03, section 3.5.
const minFAT32 = 65525

// maxFAT32 is how many clusters a FAT32 volume can number. FAT specification 1.03, section 4.
const maxFAT32 = 0x0FFFFFF5

// FAT is an open FAT12, FAT16 or FAT32 volume. The general-purpose libraries
// refuse a volume whose two FATs differ and follow a looping chain without end;
// firmware starts from the first, and a diagnosis must survive the second.
type FAT struct {
	Kind           Kind
	BytesPerSector int
	Cluster        int // bytes
	Clusters       uint32
	HiddenSectors  uint32 // BPB_HiddSec
	TotalSectors   uint64 // in BytesPerSector units
	Label          string
	Serial         string // XXXX-XXXX
	Unsigned       bool   // the boot sector does not end in 55 AA
	FewClusters    bool   // FAT32 by its fields, with fewer clusters than the specification asks for

	r         io.ReaderAt
	size      int64
	fatStart  int64 // byte offset of the first FAT
	rootStart int64 // byte offset of the fixed root directory (FAT12/16)
	rootLen   int64
	rootClus  uint32 // first cluster of the root directory (FAT32)
	dataStart int64
	totalIn16 bool
	boot      []byte
	fats      int64 // how many
	perFAT    int64 // bytes

	sector   []byte // the sector of the FAT read last
	sectorAt int64
}

// looksFAT reports whether a boot sector has what every FAT one has: the name of
// one, and the signature.
func looksFAT(boot []byte) bool {
	return boot[510] == 0x55 && boot[511] == 0xAA && namesFAT(boot)
}

// namesFAT reports whether a boot sector has a jump, a plausible count of FATs and
// the name of a FAT type.
func namesFAT(boot []byte) bool {
	return (boot[0] == 0xEB || boot[0] == 0xE9) && boot[16] >= 1 && boot[16] <= 2 &&
		(string(boot[54:57]) == "FAT" || string(boot[82:85]) == "FAT")
}

// describesFAT reports whether a boot sector has a jump, a count of FATs and a medium as every
// FAT one has: firmware asks for no name and for no signature (seen in edk2). FAT specification
// 1.03, section 3.1, BPB_Media.
func describesFAT(boot []byte) bool {
	return (boot[0] == 0xEB || boot[0] == 0xE9) && boot[16] >= 1 && boot[16] <= 2 && validMedium(boot[21])
}

// validMedium reports whether a medium is one that firmware takes: those of the FAT specification
// 1.03, section 3.1, BPB_Media, and 0 and 1 (seen in edk2).
func validMedium(b byte) bool { return b == 0xF0 || b >= 0xF8 || b <= 1 }

// OpenFAT reads the BIOS parameter block and works out the FAT type. FAT
// specification 1.03, sections 3.1 to 3.5.
func OpenFAT(r *io.SectionReader) (*FAT, error) {
	boot := make([]byte, 512)
	if _, err := r.ReadAt(boot, 0); err != nil {
		return nil, fmt.Errorf("boot sector: %w", err)
	}
	unsigned := boot[510] != 0x55 || boot[511] != 0xAA
	if unsigned && !namesFAT(boot) && !describesFAT(boot) {
		return nil, fmt.Errorf("boot sector ends in %02X %02X, expected 55 AA", boot[510], boot[511])
	}
	le := binary.LittleEndian
	f := &FAT{r: r, boot: boot, fats: int64(boot[16]), Unsigned: unsigned, size: r.Size(),
		BytesPerSector: int(le.Uint16(boot[11:])),
		HiddenSectors:  le.Uint32(boot[28:])}
	perCluster, reserved, fats := int(boot[13]), int64(le.Uint16(boot[14:])), int64(boot[16])
	switch {
	case f.BytesPerSector < 512 || f.BytesPerSector > 4096 || f.BytesPerSector&(f.BytesPerSector-1) != 0:
		return nil, fmt.Errorf("BPB_BytsPerSec is %d, expected 512, 1024, 2048 or 4096", f.BytesPerSector)
	case perCluster == 0 || perCluster&(perCluster-1) != 0:
		return nil, fmt.Errorf("BPB_SecPerClus is %d, expected a power of two", perCluster)
	case reserved == 0:
		return nil, errors.New("BPB_RsvdSecCnt is 0, expected at least 1")
	case fats == 0 || fats > 2:
		return nil, fmt.Errorf("BPB_NumFATs is %d, expected 1 or 2", fats)
	case !validMedium(boot[21]): // firmware refuses it (seen in edk2)
		return nil, fmt.Errorf("BPB_Media is %02X, expected F0 or F8 to FF", boot[21])
	case le.Uint16(boot[22:]) == 0 && boot[40]&0x80 != 0: // firmware refuses that, too (seen in edk2)
		return nil, fmt.Errorf("BPB_ExtFlags is %02X: one FAT alone is in use, expected both", boot[40])
	case le.Uint16(boot[22:]) == 0 && le.Uint16(boot[42:]) != 0:
		return nil, fmt.Errorf("BPB_FSVer is %04X, expected 0", le.Uint16(boot[42:]))
	}
	f.TotalSectors = uint64(le.Uint16(boot[19:]))
	f.totalIn16 = f.TotalSectors != 0
	if !f.totalIn16 {
		f.TotalSectors = uint64(le.Uint32(boot[32:]))
	}
	perFAT := int64(le.Uint16(boot[22:]))
	if perFAT == 0 {
		perFAT = int64(le.Uint32(boot[36:]))
	}
	return f, f.layOut(boot, perCluster, reserved, fats, perFAT)
}

func (f *FAT) layOut(boot []byte, perCluster int, reserved, fats, perFAT int64) error {
	le := binary.LittleEndian
	bps := int64(f.BytesPerSector)
	f.Cluster = perCluster * f.BytesPerSector
	f.fatStart, f.perFAT = reserved*bps, perFAT*bps
	f.rootStart = (reserved + fats*perFAT) * bps
	if le.Uint16(boot[22:]) != 0 { // FAT32 has no such place, whatever the count says (seen in edk2)
		f.rootLen = (int64(le.Uint16(boot[17:]))*32 + bps - 1) / bps * bps
	}
	f.dataStart = f.rootStart + f.rootLen
	data := int64(f.TotalSectors)*bps - f.dataStart
	if perFAT == 0 || data < int64(f.Cluster) {
		return fmt.Errorf("%d sectors with %d to a FAT leave no room for data", f.TotalSectors, perFAT)
	}
	count := data / int64(f.Cluster)
	labelAt := 43
	switch {
	// Firmware and operating systems take an empty 16-bit field for FAT32,
	// even where the specification's count of clusters says otherwise.
	case le.Uint16(boot[22:]) == 0:
		f.Kind, labelAt = KindFAT32, 71
		f.rootClus = le.Uint32(boot[44:]) // edk2 takes all 32 bits
		f.FewClusters = count < minFAT32
	case count < 4085:
		f.Kind = KindFAT12
	default:
		f.Kind = KindFAT16
	}
	if f.Kind == KindFAT16 && count >= minFAT32 {
		return fmt.Errorf("%d clusters are more than %s can number", count, f.Kind)
	}
	bits := map[Kind]int64{KindFAT12: 12, KindFAT16: 16, KindFAT32: 32}[f.Kind]
	f.Clusters = uint32(min(count, perFAT*bps*8/bits-2, maxFAT32))
	f.Label = strings.TrimRight(string(boot[labelAt:labelAt+11]), " \x00")
	f.Serial = fmt.Sprintf("%04X-%04X", le.Uint16(boot[labelAt-2:]), le.Uint16(boot[labelAt-4:]))
	return nil
}

// entry returns n bytes of the first FAT at byte offset off within it. A sector
// is read once for the many entries it holds.
func (f *FAT) entry(off int64, n int) (uint32, error) {
	size := int64(f.BytesPerSector)
	var v uint32
	for i := range n {
		at := off + int64(i)
		if start := f.fatStart + at - at%size; f.sector == nil || f.sectorAt != start {
			raw := make([]byte, size)
			if _, err := f.r.ReadAt(raw, start); err != nil {
				return 0, err
			}
			f.sector, f.sectorAt = raw, start
		}
		v |= uint32(f.sector[at%size]) << (8 * i)
	}
	return v, nil
}

// link returns what the first FAT says of a cluster, and from which value on that is the end.
func (f *FAT) link(c uint32) (v, last uint32, err error) {
	switch f.Kind {
	case KindFAT12:
		v, err = f.entry(int64(c)+int64(c/2), 2)
		if c&1 == 1 {
			v >>= 4
		}
		v, last = v&0xFFF, 0xFF8
	case KindFAT16:
		v, err = f.entry(int64(c)*2, 2)
		last = 0xFFF8
	default:
		v, err = f.entry(int64(c)*4, 4)
		v, last = v&0x0FFFFFFF, 0x0FFFFFF8
	}
	return v, last, err
}

// ends reports an error where the chain of a folder from a cluster comes to no end, or to a
// cluster that is marked as free or bad: firmware then takes the folder for empty. A link out of the
// volume is an end; the first number, which is no cluster, is gone through like any (seen in edk2).
func (f *FAT) ends(first uint32) error {
	if first < 2 || first >= f.Clusters+2 {
		return fmt.Errorf("first cluster is %d, expected 2 to %d", first, f.Clusters+1)
	}
	seen := map[uint32]bool{}
	for c := first; c < f.Clusters+2; {
		if seen[c] {
			return fmt.Errorf("the chain from cluster %d returns to cluster %d: it loops", first, c)
		}
		seen[c] = true
		v, last, err := f.link(c)
		if err != nil {
			return err
		}
		if v == 0 || v == last-1 {
			return fmt.Errorf("the chain from cluster %d goes on behind %d with a cluster that is free or bad", first, c)
		}
		if v >= last || len(seen) > maxDirBytes/f.Cluster {
			return nil
		}
		c = v
	}
	return nil
}

// next returns the cluster after c, and false at the end of the chain.
func (f *FAT) next(c uint32) (uint32, bool, error) {
	v, last, err := f.link(c)
	switch {
	case err != nil:
		return 0, false, err
	case v >= last:
		return 0, false, nil
	case v < 2 || v >= f.Clusters+2:
		return 0, false, fmt.Errorf("cluster %d links to %d, expected 2 to %d or an end mark", c, v, f.Clusters+1)
	}
	return v, true, nil
}

// chain returns the clusters of a file or directory of at most limit bytes. A
// loop is an error once the chain is longer than the limit allows.
func (f *FAT) chain(first uint32, limit int64) ([]uint32, error) {
	if first < 2 || first >= f.Clusters+2 {
		return nil, fmt.Errorf("first cluster is %d, expected 2 to %d", first, f.Clusters+1)
	}
	most := (limit + int64(f.Cluster) - 1) / int64(f.Cluster)
	clusters := []uint32{first}
	seen := map[uint32]bool{first: true}
	for c := first; int64(len(clusters)) < most; {
		n, more, err := f.next(c)
		if err != nil || !more {
			return clusters, err
		}
		if seen[n] {
			return clusters, fmt.Errorf("the chain from cluster %d returns to cluster %d: it loops", first, n)
		}
		seen[n] = true
		clusters = append(clusters, n)
		c = n
	}
	return clusters, nil
}

func (f *FAT) clusterOffset(c uint32) int64 { return f.dataStart + int64(c-2)*int64(f.Cluster) }

// ReadDir lists a directory. An empty path is the root.
func (f *FAT) ReadDir(path string) ([]File, error) {
	files, err := f.rootEntries()
	if err != nil {
		return nil, fmt.Errorf("root directory: %w", err)
	}
	for _, name := range splitPath(path) {
		found, ok := pick(files, name)
		if !ok || !found.Dir {
			return nil, fmt.Errorf("%s: %w", name, ErrNotFound)
		}
		if files, err = f.chainEntries(uint32(found.node)); err != nil {
			return nil, fmt.Errorf("directory %s: %w", name, err)
		}
	}
	return files, nil
}

// Lookup finds a file or directory by path, with either separator, in any case.
func (f *FAT) Lookup(path string) (File, error) { return lookup(f, path) }

// Open implements Files.
func (f *FAT) Open(file File) (*Stream, error) {
	size := min(file.Size, maxFile)
	if size == 0 {
		return &Stream{SectionReader: io.NewSectionReader(strings.NewReader(""), 0, 0)}, nil
	}
	clusters, err := f.chain(uint32(file.node), size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file.Name, err)
	}
	if have := int64(len(clusters)) * int64(f.Cluster); have < size {
		return nil, fmt.Errorf("%s: its chain holds %d bytes, its directory entry says %d", file.Name, have, file.Size)
	}
	r := &runReader{r: f.r}
	for i, c := range clusters {
		at, from := int64(i)*int64(f.Cluster), f.clusterOffset(c)
		if n := len(r.runs); n > 0 && r.runs[n-1].from+r.runs[n-1].length == from {
			r.runs[n-1].length += int64(f.Cluster)
		} else {
			r.runs = append(r.runs, run{at, int64(f.Cluster), from})
		}
	}
	return &Stream{io.NewSectionReader(r, 0, size), r.runs}, nil
}
