package fit_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/fit"
	"latchkey/core/machine"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// crowded is a disk with as many partitions as a table commonly has, each a boot partition
// with a loader, or a Windows of its own.
func crowded(tb testing.TB) machine.Machine {
	d := diskmaker.Disk{Sectors: 1 << 24, Style: diskmaker.GPT, GUID: disk.MustGUID("AAAAAAAA-0000-4000-8000-000000000000")}
	for i := range 100 {
		p := diskmaker.Partition{Type: disk.TypeESP, MiB: 40, Name: fmt.Sprint(i),
			Volume: diskmaker.Volume{Kind: "fat32", Files: map[string][]byte{`\EFI\debian\grubx64.efi`: sample.X64()}}}
		if i%2 == 1 {
			p.Type, p.Volume = disk.TypeBasicData, diskmaker.Volume{Kind: "ntfs", Files: map[string][]byte{`\Windows\System32\winload.efi`: sample.X64()}}
		}
		d.Partitions = append(d.Partitions, p)
	}
	return fit.Planned(sample.Whole(firmware.UEFI, sample.Drive(tb, machine.RoleOriginal, d.MustBuild()),
		machine.Drive{Name: "clone", Role: machine.RoleClone}), "sata", true, fact.Unknown[bool]())
}

// BenchmarkPreparingACrowdedDisk is the worst that a request is asked for.
func BenchmarkPreparingACrowdedDisk(b *testing.B) {
	m := crowded(b)
	c := m.Drives[0].Contents
	require.Len(b, c.Layout.Partitions, 100)
	require.Equal(b, volume.KindNTFS, c.Volumes[1].Kind)
	size, _ := c.Size()
	for b.Loop() {
		parts, t := fit.Parts(c), target(size*2)
		for _, w := range fit.WaysOf(c) {
			fit.Predict(m, w, parts, fit.Lay(parts, c.Layout.Style, t, fit.Main, nil), t)
		}
	}
}
