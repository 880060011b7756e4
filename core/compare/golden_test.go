package compare_test

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"latchkey/core/compare"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

var update = flag.Bool("update", false, "write the comparisons anew")

// pair is an original and its clone, with what is different about them.
type pair struct {
	mode            firmware.Mode
	original, clone diskmaker.Disk
	change          func(m *machine.Machine)
}

// on is the drive of a role.
func on(m *machine.Machine, role machine.Role) *machine.Drive {
	return &m.Drives[slices.IndexFunc(m.Drives, func(d machine.Drive) bool { return d.Role == role })]
}

// listed is what a system's own listing would tell of a disk.
func listed(style disk.Style, c *machine.Contents) *machine.Contents {
	size, _ := c.Size()
	d := machine.Described{Size: size, Style: style, Source: fact.Source{Origin: fact.Text}}
	for i, p := range c.Layout.Partitions {
		d.Partitions = append(d.Partitions, machine.DescribedPartition{Number: p.Number, Type: p.TypeGUID,
			Start: int64(p.Start) * 512, Length: int64(p.Length) * 512, Kind: c.Volumes[i].Kind})
	}
	return d.Contents()
}

// different lists pairs, each with something else that a copy leaves behind.
func different() map[string]pair {
	windows, linux := sample.WindowsDisk(1, 1), sample.LinuxDisk(1, 1)
	larger := sample.WindowsDisk(1, 1)
	larger.Sectors = 1 << 22
	smaller := sample.WindowsDisk(1, 1)
	smaller.Sectors, smaller.Partitions[1].MiB = 1<<20, 300
	large := sample.WindowsDisk(1, 1)
	large.SectorSize, large.Sectors, large.Partitions[0].MiB = 4096, 1<<18, 300
	lost := sample.WindowsDisk(2, 1)
	lost.Partitions = lost.Partitions[1:]
	recovery := sample.WindowsDisk(1, 1)
	recovery.Partitions[1].MiB = 500
	recovery.Partitions = append(slices.Clone(recovery.Partitions), diskmaker.Partition{Type: disk.TypeWinRE,
		MiB: 100, Volume: diskmaker.Volume{Kind: "ntfs"}})
	clone := func(change func(d *machine.Drive)) func(m *machine.Machine) {
		return func(m *machine.Machine) { change(on(m, machine.RoleClone)) }
	}
	return map[string]pair{
		"a raw copy":                     {firmware.UEFI, windows, windows, nil},
		"new identifiers":                {firmware.UEFI, windows, sample.WindowsDisk(0x21, 0x21), nil},
		"new identifiers, the old store": {firmware.UEFI, windows, sample.WindowsDisk(0x21, 1), nil},
		"a larger drive":                 {firmware.UEFI, windows, larger, nil},
		"a smaller drive":                {firmware.UEFI, windows, smaller, nil},
		"larger sectors":                 {firmware.UEFI, windows, large, nil},
		"the boot partition left behind": {firmware.UEFI, windows, lost, nil},
		"the recovery tools left behind": {firmware.UEFI, recovery, windows, nil},
		"another style":                  {firmware.UEFI, windows, sample.LegacyWindowsDisk(true), nil},
		"another style, legacy":          {firmware.Legacy, sample.LegacyWindowsDisk(true), windows, nil},
		"legacy": {firmware.Legacy, sample.LegacyWindowsDisk(true), sample.LegacyWindowsDisk(true),
			nil},
		"legacy, another loader":          {firmware.Legacy, sample.LegacyWindowsDisk(true), sample.LegacyWindowsDisk(false), nil},
		"no active partition":             {firmware.Legacy, sample.LegacyWindowsDisk(true), sample.MBRDisk("classic"), nil},
		"two active partitions":           {firmware.Legacy, sample.LegacyWindowsDisk(true), sample.MBRDisk("classic", 0, 1), nil},
		"no boot code":                    {firmware.Legacy, sample.LegacyWindowsDisk(true), sample.MBRDisk("", 0), nil},
		"Linux":                           {firmware.UEFI, linux, linux, nil},
		"Linux with new identifiers":      {firmware.UEFI, linux, sample.LinuxDisk(0x21, 0x21), nil},
		"Linux that names the other disk": {firmware.UEFI, linux, sample.LinuxDisk(0x21, 1), nil},
		"a blank clone":                   {firmware.UEFI, windows, diskmaker.Disk{Sectors: 1 << 21}, nil},
		"the mode is not known": {firmware.UEFI, windows, windows, func(m *machine.Machine) {
			m.Firmware.Mode = fact.Unknown[firmware.Mode]()
		}},
		"compatibility support": {firmware.UEFICSM, windows, sample.LegacyWindowsDisk(true), nil},
		"nothing of the clone":  {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) { d.Contents = nil })},
		"nothing of the original": {firmware.UEFI, windows, windows, func(m *machine.Machine) {
			on(m, machine.RoleOriginal).Contents = nil
		}},
		"the clone alone": {firmware.UEFI, windows, windows, func(m *machine.Machine) {
			on(m, machine.RoleOriginal).Attached = fact.Tell(false)
		}},
		"the clone detached":     {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) { d.Attached = fact.Tell(false) })},
		"the clone second":       {firmware.UEFI, windows, windows, func(m *machine.Machine) { m.DeviceOrder = []string{"original", "clone"} }},
		"no order":               {firmware.UEFI, windows, windows, func(m *machine.Machine) { m.DeviceOrder = nil }},
		"another bus":            {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) { d.Bus = fact.Tell("nvme") })},
		"a bus that is not told": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) { d.Bus = fact.Unknown[string]() })},
		"another controller mode": {firmware.UEFI, windows, windows, func(m *machine.Machine) {
			m.Firmware.StorageMode, m.Firmware.StorageModeBefore = fact.Tell("ahci"), fact.Tell("raid")
		}},
		"a type that was changed": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			*d.Contents = *d.Contents.WithType(0, disk.TypeBasicData)
		})},
		"a volume that is not in evidence": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			d.Contents.Volumes[1] = machine.Volume{Volume: volume.Volume{Kind: volume.NotCaptured}}
		})},
		"a sleeping system": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			d.Contents.Volumes[1].Hibernated, d.Contents.Volumes[1].Unclean = fact.Tell(true), fact.Tell(true)
		})},
		"other programs": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			d.Contents.Volumes[0].Loaders = nil
		})},
		"a damaged store": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			c := &d.Contents.Volumes[0].Configs[0]
			c.Err, c.Store = errors.New("no hive"), nil
		})},
		"a store that is not in evidence": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			c := &d.Contents.Volumes[0].Configs[0]
			c.Err, c.Store = &disk.NotCaptured{}, nil
		})},
		"boot entries of both": {firmware.UEFI, windows, sample.WindowsDisk(0x21, 0x21), func(m *machine.Machine) {
			entry := func(n uint16, d *machine.Drive, path string) firmware.Entry {
				p := d.Contents.Layout.Partitions[0]
				return firmware.Entry{Number: n, Active: true, Description: d.Name, Path: firmware.Path{File: path,
					Partition: &firmware.PartitionNode{Number: uint32(p.Number), Start: p.Start, Size: p.Length,
						GUID: p.GUID}}}
			}
			m.Firmware.Entries = &firmware.Entries{Order: []uint16{1, 2}, All: map[uint16]firmware.Entry{
				1: entry(1, on(m, machine.RoleOriginal), sample.FallbackPath),
				2: entry(2, on(m, machine.RoleClone), sample.FallbackPath)}}
		}},
		"a listing of both": {firmware.UEFI, windows, windows, func(m *machine.Machine) {
			for i := range m.Drives {
				m.Drives[i].Contents = listed(disk.StyleGPT, m.Drives[i].Contents)
			}
		}},
		"a listing of the clone": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			d.Contents = listed(disk.StyleGPT, d.Contents)
		})},
		"the clone's style alone": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			d.Contents = (&machine.Described{Style: disk.StyleGPT}).Contents()
		})},
		"the clone's size alone": {firmware.Legacy, sample.LegacyWindowsDisk(true), windows, clone(func(d *machine.Drive) {
			d.Contents = (&machine.Described{Size: 1 << 30}).Contents()
		})},
		"the clone's table not captured": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			l := &d.Contents.Layout
			l.GPT = &disk.GPT{Primary: disk.GPTCopy{Which: "primary", State: disk.CopyNotCaptured},
				Backup: disk.GPTCopy{Which: "backup", State: disk.CopyNotCaptured}}
			l.Partitions, d.Contents.Volumes = nil, nil
		})},
		"a damaged table": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			l := &d.Contents.Layout
			l.GPT = &disk.GPT{Primary: disk.GPTCopy{Which: "primary", State: disk.CopyDamaged},
				Backup: disk.GPTCopy{Which: "backup", State: disk.CopyAbsent}}
			l.Partitions, d.Contents.Volumes = nil, nil
		})},
		"a boot partition of another kind": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			d.Contents.Volumes[0] = machine.Volume{Volume: volume.Volume{Kind: volume.KindNTFS, Readable: true}}
		})},
		"a damaged program": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			d.Contents.Volumes[0].Loaders[0].Err = errors.New("no PE header")
		})},
		"a program that is not in evidence": {firmware.UEFI, windows, windows, clone(func(d *machine.Drive) {
			d.Contents.Volumes[0].Loaders[0].Err = &disk.NotCaptured{}
		})},
		"an entry of the original alone": {firmware.UEFI, windows, sample.WindowsDisk(0x21, 0x21), func(m *machine.Machine) {
			p := on(m, machine.RoleOriginal).Contents.Layout.Partitions[0]
			m.Firmware.Entries = &firmware.Entries{Order: []uint16{1},
				All: map[uint16]firmware.Entry{1: {Number: 1, Active: true,
					Path: firmware.Path{File: loader.WindowsPath, Partition: &firmware.PartitionNode{Number: 1,
						Start: p.Start, Size: p.Length, GUID: p.GUID}}}}}
		}},
	}
}

// TestComparisons holds every row of every pair against the file of them, so that a
// change of what is said is seen in its diff.
func TestComparisons(t *testing.T) {
	const path = "testdata/comparisons.txt"
	pairs := different()
	var text strings.Builder
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for name := range pairs {
			if !yield(name) {
				return
			}
		}
	}) {
		p := pairs[name]
		m := sample.Whole(p.mode, sample.Drive(t, machine.RoleClone, p.clone.MustBuild()),
			sample.Drive(t, machine.RoleOriginal, p.original.MustBuild()))
		if p.change != nil {
			p.change(&m)
		}
		c := compare.Compare(m, on(&m, machine.RoleOriginal), on(&m, machine.RoleClone), startup.Pins(m, "original"),
			startup.Pins(m, "clone"))
		fmt.Fprintf(&text, "== %s\ncause: %s\npairs: %v\n", name, c.Cause, c.Pairs)
		for _, d := range compare.Doubts(on(&m, machine.RoleOriginal), on(&m, machine.RoleClone), "Corvane S210", "Ostra N3") {
			fmt.Fprintf(&text, "doubt: %s\n", d.Kind)
		}
		for _, r := range c.Rows {
			fmt.Fprintf(&text, "%s: %s | %s | %s | %s: %s", r.Group, r.Label, r.Original, r.Clone, r.Matter, r.Meaning)
			for _, f := range r.Facts {
				fmt.Fprintf(&text, " [%s %s %s %d+%d]", f.Source.Drive, f.Label, f.Source.Field, f.Source.Offset, f.Source.Length)
			}
			text.WriteString("\n")
		}
	}
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text.String()), 0o644))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	wanted, got := strings.Split(string(want), "\n"), strings.Split(text.String(), "\n")
	for i := range min(len(wanted), len(got)) {
		require.Equal(t, wanted[i], got[i], "line %d (go test ./core/compare -run Comparisons -update writes what is said now)", i+1)
	}
	require.Len(t, got, len(wanted))
}
