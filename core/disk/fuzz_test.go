package disk_test

import (
	"bytes"
	"testing"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// FuzzGPT and FuzzMBR feed damaged disks to the table readers. Reading must end,
// stay within the disk and place every problem. Their seeds are large, so run
// them with -fuzzminimizetime 20x.
func FuzzGPT(f *testing.F) {
	raw := seed(f, diskmaker.Disk{Sectors: 200, Style: diskmaker.GPT, GUID: disk.TypeESP})
	f.Add(raw, false)
	f.Add(raw[:40*512], true)
	f.Add([]byte("EFI PART"), false)
	f.Fuzz(readLayout)
}

func FuzzMBR(f *testing.F) {
	raw := seed(f, diskmaker.Disk{Sectors: 9000, Style: diskmaker.MBR, Signature: 7, BootCode: "classic",
		Partitions: []diskmaker.Partition{
			{MBRType: 0x0F, Start: 1, MiB: 2}, {MBRType: 7, Active: true, MiB: 1}}})[:4096]
	copy(raw[512+446:], raw[446:512]) // the first extended boot record
	f.Add(raw, false)
	f.Add(raw[:512], true)
	f.Fuzz(readLayout)
}

func seed(f *testing.F, d diskmaker.Disk) []byte {
	f.Helper()
	m := d.MustBuild()
	raw := make([]byte, m.Size)
	if _, err := m.ReadAt(raw, 0); err != nil {
		f.Fatal(err)
	}
	return raw
}

func readLayout(t *testing.T, raw []byte, large bool) {
	sectorSize := 512
	if large {
		sectorSize = 4096
	}
	d, err := disk.New(bytes.NewReader(raw), int64(len(raw)), sectorSize)
	if err != nil {
		return
	}
	l := disk.ReadLayout(d)
	if len(l.Partitions) > 8192+256 {
		t.Fatalf("%d partitions", len(l.Partitions))
	}
	for _, p := range l.Problems {
		if p.Text == "" || p.Source.Offset < 0 {
			t.Fatalf("problem without text or place: %+v", p)
		}
	}
	for _, r := range l.Regions() {
		for _, field := range r.Fields {
			field.Decode(make([]byte, field.Length))
		}
	}
}

// FuzzParseSize reads a size as a person types it.
func FuzzParseSize(f *testing.F) {
	for _, s := range []string{"465,76 GB", "1.8T", "500107862016", "1e3 TiB", "-1", ""} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, units := range []disk.Units{disk.EitherUnits, disk.DecimalUnits, disk.BinaryUnits} {
			if n, _, err := disk.ParseSize(s, units); err == nil && (n < 0 || n > disk.MaxSize) {
				t.Fatalf("%q is %d bytes", s, n)
			}
		}
		_, _ = disk.ParseGUID(s)
		disk.IsID(s)
	})
}
