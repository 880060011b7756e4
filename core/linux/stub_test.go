package linux_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

const (
	kernelPath = sample.FallbackPath
	rootLine   = "root=UUID=01000000-0000-0000-0000-000000000000 ro"
)

// stubDisk has a program as the fallback and beside a kernel's initial RAM disk, and a root.
func stubDisk(program diskmaker.Program) diskmaker.Disk {
	d := sample.LinuxDisk(1, 1)
	d.Partitions[0].Volume.Files = map[string][]byte{kernelPath: program.Bytes(),
		`\EFI\BOOT\initrd.img`: diskmaker.RAMDisk(), `\EFI\BOOT\ram`: diskmaker.RAMDisk(), `\EFI\BOOT\none`: {}}
	return d
}

// byEntry is a machine whose firmware starts the kernel by a boot entry with a line.
func byEntry(t *testing.T, d diskmaker.Disk, line string, open bool) machine.Machine {
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
	p := m.Drives[0].Contents.Layout.Partitions[0]
	at := diskmaker.HardDriveNode(uint32(p.Number), p.Start, p.Length, &p.GUID, 0)
	at = append(at, diskmaker.FileNode(kernelPath)...)
	entry := diskmaker.Entry{Number: 1, Description: "Linux", Options: line, Path: at}
	variables := map[string][]byte{}
	for name, value := range diskmaker.Variables([]diskmaker.Entry{entry}, []uint16{1}, nil) {
		variables[name+"-"+diskmaker.BootVariableVendor.String()] = append([]byte{7, 0, 0, 0}, value...)
	}
	entries, err := firmware.DecodeVariables(variables)
	require.NoError(t, err)
	e := entries.All[1]
	e.OptionsOpen = open
	entries.All[1] = e
	m.Firmware.Entries = entries
	return m
}

// Kernels that the firmware starts itself. The kernel's admin-guide/efi-stub; each end was
// seen in real firmware (package truth, "kernels without a boot loader").
func TestAKernelThatTheFirmwareStarts(t *testing.T) {
	kernel := diskmaker.Program{Code: append([]byte{0xEB, 0xFE}, "HdrS"...)}
	for name, c := range map[string]struct {
		line    string
		open    bool
		verdict startup.Verdict
		rule    course.Rule
	}{
		"with its line":           {`initrd=\EFI\BOOT\initrd.img ` + rootLine, false, startup.Starts, ""},
		"with slashes":            {"initrd=/EFI/BOOT/initrd.img " + rootLine, false, startup.Starts, ""},
		"with a RAM disk gone":    {`initrd=\initrd.img ` + rootLine, false, startup.Stops, "kernel-absent"},
		"with one of any name":    {`initrd=\EFI\BOOT\ram ` + rootLine, false, startup.Starts, ""},
		"with an empty one":       {`initrd=\EFI\BOOT\none ` + rootLine, false, startup.Stops, "ram-disk-hollow"},
		"with another root":       {strings.Replace(`initrd=\EFI\BOOT\initrd.img `+rootLine, "01", "02", 1), false, startup.Stops, "root-absent"},
		"with a line nobody told": {"", true, startup.Depends, "options-missing-evidence"},
		"without a RAM disk":      {rootLine, false, startup.Depends, "no-initial-ram-disk"},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(byEntry(t, stubDisk(kernel), c.line, c.open))
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			if c.rule != "" {
				assert.Contains(t, rules(trace), c.rule)
			}
		})
	}
	alone := sample.Drive(t, machine.RoleClone, stubDisk(kernel).MustBuild())
	trace := startup.Simulate(sample.Whole(firmware.UEFI, alone))
	assert.Equal(t, startup.Depends, trace.Verdict, "found by itself it is given no line: whether one is built in is not known")
}

// Kernels with their line in them: systemd-stub(7), "Description".
func TestAUnifiedKernelThatTheFirmwareStarts(t *testing.T) {
	with := func(line string) diskmaker.Program {
		p := diskmaker.Program{Sections: []diskmaker.Section{{Name: ".linux", Data: []byte("kernel")}, {Name: ".initrd", Data: []byte("disk")}}}
		if line != "" {
			p.Sections = append(p.Sections, diskmaker.Section{Name: ".cmdline", Data: []byte(line)})
		}
		return p
	}
	wrong := "root=UUID=dead-beef"
	for name, c := range map[string]struct {
		own, given string
		open       bool
		secure     fact.Of[bool]
		verdict    startup.Verdict
	}{
		"its own line":                         {rootLine, "", false, fact.Unknown[bool](), startup.Starts},
		"its own, with another root":           {wrong, "", false, fact.Unknown[bool](), startup.Stops},
		"the entry's, secure boot is off":      {wrong, rootLine, false, fact.Tell(false), startup.Starts},
		"its own, secure boot is on":           {wrong, rootLine, false, fact.Tell(true), startup.Stops},
		"which one is not known":               {wrong, rootLine, false, fact.Unknown[bool](), startup.Depends},
		"no line of its own":                   {"", rootLine, false, fact.Unknown[bool](), startup.Starts},
		"no line of its own, secure boot's on": {"", rootLine, false, fact.Tell(true), startup.Starts},
		"an entry that nobody told":            {rootLine, "", true, fact.Tell(false), startup.Depends},
		"an entry that nobody told, secure":    {rootLine, "", true, fact.Tell(true), startup.Starts},
	} {
		t.Run(name, func(t *testing.T) {
			m := byEntry(t, stubDisk(with(c.own)), c.given, c.open)
			m.Firmware.SecureBoot = c.secure
			if on, _ := c.secure.Get(); on { // whom the firmware trusts is another matter
				m.Drives[0].Contents.Volumes[0].Loaders[0].Program.Signed = true
				m.Answers = map[string]string{}
			}
			trace := startup.Simulate(m)
			if trace.Verdict == startup.Depends && c.verdict != startup.Depends {
				assert.NotContains(t, rules(trace), course.Rule("options-missing-evidence"))
				return
			}
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
		})
	}
}
