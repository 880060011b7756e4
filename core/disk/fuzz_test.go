package disk_test

import (
	"bytes"
	"testing"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// FuzzLayout feeds damaged heads of disks to both table readers. Reading must
// end, stay within the disk and place every problem.
func FuzzLayout(f *testing.F) {
	for _, style := range []diskmaker.Style{diskmaker.GPT, diskmaker.MBR} {
		m := diskmaker.Disk{Sectors: 200, Style: style, Signature: 7, GUID: disk.TypeESP, BootCode: "classic"}.MustBuild()
		raw := make([]byte, m.Size)
		if _, err := m.ReadAt(raw, 0); err != nil {
			f.Fatal(err)
		}
		f.Add(raw, false)
		f.Add(raw[:40*512], true)
	}
	f.Add([]byte("EFI PART"), false)
	f.Fuzz(func(t *testing.T, raw []byte, large bool) {
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
	})
}
