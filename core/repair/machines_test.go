package repair_test

import (
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/internal/diskmaker"
)

func machineOf(t testing.TB, mode firmware.Mode, m *diskmaker.Image) machine.Machine {
	t.Helper()
	return machineOn(t, mode, m, m.Size)
}

// fromFile is the machine with a disk as it stands in a file.
func fromFile(t testing.TB, mode firmware.Mode, path string) machine.Machine {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	return machineOn(t, mode, f, info.Size())
}

func machineOn(t testing.TB, mode firmware.Mode, r io.ReaderAt, size int64) machine.Machine {
	t.Helper()
	b, _ := firmware.Named(map[firmware.Mode]string{firmware.UEFI: "edk2", firmware.Legacy: "seabios"}[mode])
	on, err := disk.New(r, size, 512)
	require.NoError(t, err)
	return machine.Machine{Until: machine.UntilLoader, DeviceOrder: []string{"b"},
		Drives: []machine.Drive{{Name: "b", Role: machine.RoleClone, Bus: fact.Tell("sata"), Attached: fact.Tell(true),
			Contents: machine.Examine(on)}},
		Firmware: firmware.Settings{Mode: fact.Tell(mode), Arch: fact.Tell(firmware.X64),
			SecureBoot: fact.Tell(false), Behaviour: b,
			Entries: &firmware.Entries{All: map[uint16]firmware.Entry{}}}}
}

func windows(guid byte) diskmaker.Disk {
	d := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.GPT, GUID: disk.MustGUID("D15C0000-0000-4000-8000-000000000000"),
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, MiB: 64,
				Volume: diskmaker.Volume{Kind: "fat32", Files: map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}}},
			{Type: disk.TypeBasicData, Volume: diskmaker.Volume{Kind: "ntfs", UsedMiB: 10,
				Files: map[string][]byte{`\Windows\System32\winload.efi`: diskmaker.Program{}.Bytes()}}}}}
	d.GUID[15] = guid
	return d
}

func legacyDisk(active ...int) diskmaker.Disk {
	d := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.MBR, Signature: 0xCAFE, BootCode: "classic",
		Partitions: []diskmaker.Partition{
			{MBRType: 7, MiB: 100, Volume: diskmaker.Volume{Kind: "ntfs"}},
			{MBRType: 7, Volume: diskmaker.Volume{Kind: "ntfs"}}}}
	for _, i := range active {
		d.Partitions[i].Active = true
	}
	return d
}

func spoiled(d diskmaker.Disk, off int64, b ...byte) *diskmaker.Image {
	m := d.MustBuild()
	if off < 0 {
		off += m.Size
	}
	if _, err := m.WriteAt(b, off); err != nil {
		panic(err)
	}
	return m
}

// leftBehind are disks that a copy left incomplete, by what is wrong.
func leftBehind() map[string]diskmaker.Disk {
	noBoot := windows(2)
	noBoot.Partitions = noBoot.Partitions[1:]
	unformatted := windows(3)
	unformatted.Partitions[0].Volume = diskmaker.Volume{}
	vendor := windows(4)
	vendor.Partitions[0].Volume.Files = map[string][]byte{`\EFI\debian\grubx64.efi`: diskmaker.Program{}.Bytes()}
	noFiles := windows(5)
	noFiles.Partitions[0].Volume.Files = nil
	codeless := legacyDisk(0)
	codeless.BootCode = ""
	return map[string]diskmaker.Disk{"no boot partition": noBoot, "not formatted": unformatted, "vendor's path": vendor, "no files": noFiles, "no boot code": codeless}
}

// broken are machines that do not start, each with the actions that put it right.
func broken() map[string]struct {
	mode  firmware.Mode
	image *diskmaker.Image
	plan  []string
} {
	left := leftBehind()
	return map[string]struct {
		mode  firmware.Mode
		image *diskmaker.Image
		plan  []string
	}{
		"primary table damaged":     {firmware.UEFI, spoiled(windows(6), 512+16, 0xEE), nil}, // this firmware uses the backup
		"no protective MBR":         {firmware.UEFI, spoiled(windows(7), 446, make([]byte, 66)...), []string{"protective-mbr"}},
		"boot partition left out":   {firmware.UEFI, left["no boot partition"].MustBuild(), []string{"create-esp", "windows-boot-files"}},
		"boot partition not FAT":    {firmware.UEFI, left["not formatted"].MustBuild(), []string{"format-esp", "windows-boot-files"}},
		"only the vendor's path":    {firmware.UEFI, left["vendor's path"].MustBuild(), []string{"add-entry"}},
		"boot partition empty":      {firmware.UEFI, left["no files"].MustBuild(), []string{"windows-boot-files"}},
		"legacy mode, GPT":          {firmware.Legacy, windows(8).MustBuild(), []string{"set-mode", "add-entry"}},
		"UEFI mode, MBR":            {firmware.UEFI, legacyDisk(0).MustBuild(), []string{"set-mode"}},
		"no active partition":       {firmware.Legacy, legacyDisk().MustBuild(), []string{"set-active"}},
		"two active partitions":     {firmware.Legacy, legacyDisk(0, 1).MustBuild(), []string{"set-active"}},
		"no boot code":              {firmware.Legacy, left["no boot code"].MustBuild(), []string{"boot-code"}},
		"moved, not corrected":      {firmware.Legacy, spoiled(legacyDisk(0), 1<<20+28, 1, 2, 3, 0), []string{"hidden-sectors"}},
		"both copies of it damaged": {firmware.UEFI, spoiledTwice(windows(9)), []string{"rebuild-table"}},
	}
}

func spoiledTwice(d diskmaker.Disk) *diskmaker.Image {
	m := spoiled(d, 512+16, 0xEE)
	if _, err := m.WriteAt([]byte{0xEE}, m.Size-512+16); err != nil {
		panic(err)
	}
	return m
}

func script(p repair.Plan, t repair.Toolbox) string {
	text, _ := repair.Script(p, t)
	return text
}

func actionsOf(p repair.Plan) []string {
	var actions []string
	for _, s := range p.Steps {
		actions = append(actions, s.Action)
	}
	return actions
}
