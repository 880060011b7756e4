package truth

import (
	"encoding/binary"
	"fmt"

	"latchkey/core/disk"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// Sizes of the generated disks, in bytes.
const (
	mib      = 1 << 20
	diskSize = 192 * mib
)

// Paths of programs.
const (
	fallbackX64  = `\EFI\BOOT\BOOTX64.EFI`
	fallbackIA32 = `\EFI\BOOT\BOOTIA32.EFI`
	vendorPath   = `\EFI\ferry\loader.efi`
)

func diskGUID(id byte) disk.GUID {
	g := disk.MustGUID("D15C0000-0000-4000-8000-000000000000")
	g[10] = id
	return g
}

// place says which partition of which drive something stands on.
type place struct {
	drive     string
	partition int
}

// programs are markers at paths of a volume.
func (at place) programs(paths ...string) map[string][]byte {
	files := map[string][]byte{}
	for _, p := range paths {
		files[p] = markerFor(p).Program(tag(at.drive, at.partition, p)).Bytes()
	}
	return files
}

// fat is a FAT volume with files; 512-byte sectors have room for FAT32.
func fat(files map[string][]byte) diskmaker.Volume {
	return diskmaker.Volume{Kind: "fat32", Files: files}
}

func esp(v diskmaker.Volume) diskmaker.Partition {
	return diskmaker.Partition{Type: disk.TypeESP, MBRType: disk.MBRTypeESP, MiB: 64, Volume: v}
}

func data() diskmaker.Partition {
	return diskmaker.Partition{Type: disk.TypeBasicData, MBRType: 7, Volume: diskmaker.Volume{Kind: "ntfs"}}
}

func gptDisk(id byte, parts ...diskmaker.Partition) diskmaker.Disk {
	return diskmaker.Disk{Sectors: diskSize / 512, Style: diskmaker.GPT, GUID: diskGUID(id), Partitions: parts}
}

func mbrDisk(id byte, parts ...diskmaker.Partition) diskmaker.Disk {
	return diskmaker.Disk{Sectors: diskSize / 512, Style: diskmaker.MBR, Signature: 0xD15C0000 + uint32(id),
		Partitions: parts}
}

// good is a drive that UEFI firmware starts by the fallback and by the vendor's
// path.
func good(name string, id byte) Drive {
	return Drive{Name: name, Disk: gptDisk(id, esp(fat(place{name, 1}.programs(fallbackX64, vendorPath))), data())}
}

// with returns a drive with paths only.
func with(name string, id byte, paths ...string) Drive {
	return Drive{Name: name, Disk: gptDisk(id, esp(fat(place{name, 1}.programs(paths...))), data())}
}

func (d Drive) unplugged() Drive { d.Detached = true; return d }

// roomier is a drive with 64 MiB more.
func (d Drive) roomier() Drive { d.Disk.Sectors += 64 * mib / 512; return d }

func (d Drive) on(bus string) Drive { d.Bus = bus; return d }

func (d Drive) spoiled(f func(*diskmaker.Image)) Drive {
	before := d.Spoil
	d.Spoil = func(m *diskmaker.Image) *diskmaker.Image {
		if before != nil {
			m = before(m)
		}
		f(m)
		return m
	}
	return d
}

func (d Drive) resized(size int64) Drive {
	before := d.Spoil
	d.Spoil = func(m *diskmaker.Image) *diskmaker.Image {
		if before != nil {
			m = before(m)
		}
		return m.Clone(size)
	}
	return d
}

// large gives a drive sectors of 4,096 bytes, and its boot partition the 65,525
// clusters that FAT32 asks for.
func (d Drive) large() Drive {
	d.Disk.SectorSize, d.Disk.Sectors = 4096, 2*diskSize/4096
	d.Disk.Partitions = append([]diskmaker.Partition{}, d.Disk.Partitions...)
	for i := range d.Disk.Partitions {
		if p := &d.Disk.Partitions[i]; p.Volume.Kind == "fat32" {
			p.MiB = 300
		}
	}
	return d
}

func write(m *diskmaker.Image, off int64, b ...byte) {
	if _, err := m.WriteAt(b, off); err != nil {
		panic(err)
	}
}

func read(m *diskmaker.Image, off int64, n int) []byte {
	b := make([]byte, n)
	if _, err := m.ReadAt(b, off); err != nil {
		panic(err)
	}
	return b
}

// flip inverts a byte.
func flip(off int64) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) { write(m, off, ^read(m, off, 1)[0]) }
}

// header changes a GPT header and its entries; the copy is told by its sector.
func header(lba uint64, change func(h, entries []byte)) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) { m.EditHeader(lba, change) }
}

// bothHeaders changes both copies of a GPT.
func bothHeaders(change func(h, entries []byte)) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) { m.EditGPT(change) }
}

// sector0 puts a marker into sector 0 and leaves the table there.
func sector0(drive string) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) {
		write(m, 0, MarkSector.Code(tag(drive, 0, startup.LoaderBootCode))...)
		write(m, 510, 0x55, 0xAA)
	}
}

// bootSector puts a marker into a partition's first sector and leaves the BIOS
// parameter block there. NTFS keeps a copy of it in the volume's last sector.
func bootSector(drive string, partition int, lba int64) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) {
		code := MarkSector.Code(tag(drive, partition, startup.LoaderBootSector))
		places := []int64{lba * 512}
		if boot := read(m, lba*512, 48); string(boot[3:7]) == "NTFS" {
			if end := (lba + int64(binary.LittleEndian.Uint64(boot[40:]))) * 512; end > lba*512 && end+512 <= m.Size {
				places = append(places, end)
			}
		}
		for _, at := range places {
			write(m, at, code[:3]...)
			write(m, at+90, code[90:]...)
			write(m, at+510, 0x55, 0xAA)
		}
	}
}

// entry is a boot entry by a partition's short form.
func entry(number uint16, d diskmaker.Disk, partition int, path string) diskmaker.Entry {
	e := diskmaker.Entry{Number: number, Description: fmt.Sprintf("Ferry %d", number), Path: partitionNode(d, partition, nil)}
	if path != "" {
		e.Path = append(e.Path, diskmaker.FileNode(path)...)
	}
	return e
}

// node is what a partition's short form says.
type node struct {
	number      uint32
	start, size uint64
	guid        disk.GUID
	signature   uint32
}

// partitionNode returns a partition's short form, changed.
func partitionNode(d diskmaker.Disk, partition int, change func(*node)) []byte {
	ss := uint64(max(d.SectorSize, 512))
	n := node{number: uint32(partition), start: mib / ss, size: d.Partitions[partition-1].MiB * mib / ss,
		signature: d.Signature}
	for _, p := range d.Partitions[:partition-1] {
		n.start += p.MiB * mib / ss
	}
	if d.Style == diskmaker.GPT {
		n.guid = d.PartitionGUID(partition - 1)
	}
	if change != nil {
		change(&n)
	}
	if d.Style == diskmaker.GPT {
		return diskmaker.HardDriveNode(n.number, n.start, n.size, &n.guid, 0)
	}
	return diskmaker.HardDriveNode(n.number, n.start, n.size, nil, n.signature)
}
