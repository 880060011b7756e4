package startup_test

import (
	"io"
	"os"
	"path/filepath"
	"testing"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// counting counts what is read of a disk.
type counting struct {
	r     io.ReaderAt
	bytes int64
	reads int64
}

func (c *counting) ReadAt(p []byte, off int64) (int, error) {
	c.bytes += int64(len(p))
	c.reads++
	return c.r.ReadAt(p, off)
}

// BenchmarkExaminePair reads both tables, the volumes and the boot partitions of
// a pair of 1 TB sparse image files.
func BenchmarkExaminePair(b *testing.B) {
	var files []*os.File
	for i := range 2 {
		decl := sample.GPTDisk(byte(i), map[string][]byte{
			sample.FallbackPath:                diskmaker.Program{Size: 1_500_672}.Bytes(),
			`\EFI\Microsoft\Boot\bootmgfw.efi`: diskmaker.Program{Size: 1_500_672}.Bytes()})
		decl.Sectors = uint64(disk.AdvertisedSectors(1000))
		path := filepath.Join(b.TempDir(), "disk.img")
		if err := decl.MustBuild().WriteFile(path); err != nil {
			b.Fatal(err)
		}
		f, err := os.Open(path)
		if err != nil {
			b.Fatal(err)
		}
		defer f.Close()
		files = append(files, f)
	}
	var read, reads int64
	for b.Loop() {
		for _, f := range files {
			c := &counting{r: f}
			d, err := disk.New(c, disk.AdvertisedSectors(1000)*512, 512)
			if err != nil {
				b.Fatal(err)
			}
			if len(machine.Examine(d).Volumes) != 2 {
				b.Fatal("the partitions were not found")
			}
			read, reads = read+c.bytes, reads+c.reads
		}
	}
	b.ReportMetric(float64(read)/float64(b.N), "bytes-read/op")
	b.ReportMetric(float64(reads)/float64(b.N), "reads/op")
}

func benchmarkMachine(b *testing.B) machine.Machine {
	image := sample.GPTDisk(1, map[string][]byte{sample.FallbackPath: sample.X64()}).MustBuild()
	d, err := disk.New(image, image.Size, 512)
	if err != nil {
		b.Fatal(err)
	}
	c := machine.Examine(d)
	behaviour, _ := firmware.Named("edk2")
	m := machine.Machine{DeviceOrder: []string{"b", "a"}, Firmware: firmware.Settings{
		Mode: fact.Tell(firmware.UEFI), Arch: fact.Tell(firmware.X64), SecureBoot: fact.Tell(false),
		Behaviour: behaviour}}
	for name, role := range map[string]machine.Role{"a": machine.RoleOriginal, "b": machine.RoleClone} {
		m.Drives = append(m.Drives, machine.Drive{Name: name, Role: role, Attached: fact.Tell(true),
			Bus: fact.Tell("nvme"), Contents: c})
	}
	return m
}

func BenchmarkSimulateKnown(b *testing.B) {
	m := benchmarkMachine(b)
	for b.Loop() {
		startup.Simulate(m)
	}
}

func BenchmarkSimulateUnknown(b *testing.B) {
	m := benchmarkMachine(b)
	m.Firmware, m.DeviceOrder = firmware.Settings{}, nil
	for i := range m.Drives {
		m.Drives[i].Attached = fact.Unknown[bool]()
	}
	var worlds int
	for b.Loop() {
		worlds = startup.Simulate(m).Worlds
	}
	b.ReportMetric(float64(worlds), "worlds")
}
