package repair_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

const stubKernel = `\EFI\linux\vmlinuz-6.1.efi`

// stubMachine has a kernel that the firmware starts itself by an entry with a line, "" for no entry;
// beside it lie initial RAM disks.
func stubMachine(t *testing.T, line string, ramDisks ...string) machine.Machine {
	d := sample.WithoutTools(sample.LinuxDisk(1, 1), 1, sample.DebianTools...)
	kernel := diskmaker.Program{Code: append([]byte{0xEB, 0xFE}, "HdrS"...)}
	d.Partitions[0].Volume.Files = map[string][]byte{stubKernel: kernel.Bytes()}
	for _, name := range ramDisks {
		d.Partitions[0].Volume.Files[`\EFI\linux\`+name] = diskmaker.RAMDisk()
	}
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
	m.Firmware.Entries = &firmware.Entries{All: map[uint16]firmware.Entry{}}
	if line != "" {
		p := m.Drives[0].Contents.Layout.Partitions[0]
		node := &firmware.PartitionNode{Number: 1, Start: p.Start, Size: p.Length, GUID: p.GUID}
		at := firmware.Path{File: stubKernel, Partition: node}
		m.Firmware.Entries.All[4] = firmware.Entry{Number: 4, Active: true, Path: at, Options: line}
		m.Firmware.Entries.Order = []uint16{4}
	}
	return m
}

// A kernel that the firmware starts without a boot loader needs a line: that of its entry with the
// clone's own names, else one that is made of what lies on the clone. The kernel's
// admin-guide/efi-stub.
func TestABootEntryGivesAKernelItsLine(t *testing.T) {
	const root, gone = "root=UUID=01000000-0000-0000-0000-000000000000 ro", "root=UUID=02000000-0000-0000-0000-000000000000 ro"
	for name, c := range map[string]struct {
		line  string
		disks []string
		gives string // "" is no such step
	}{
		"an entry with another root":       {gone + ` quiet initrd=\EFI\linux\initrd`, []string{"initrd"}, root + ` quiet initrd=\EFI\linux\initrd`},
		"an entry whose file is gone":      {root + ` initrd=\EFI\linux\old.img`, []string{"initrd.img-6.1"}, root + ` initrd=\EFI\linux\initrd.img-6.1`},
		"no entry":                         {"", []string{"ramdisk.img"}, root + ` initrd=\EFI\linux\ramdisk.img`},
		"no entry, one of its version":     {"", []string{"ramdisk.img", "initrd.img-6.1.efi"}, root + ` initrd=\EFI\linux\initrd.img-6.1.efi`},
		"no entry, and which of them":      {"", []string{"one.img", "two.img"}, ""},
		"an entry that holds what acts":    {gone + " x=$(reboot)", []string{"one.img", "two.img"}, ""},
		"an entry, and no RAM disk beside": {gone + ` initrd=\EFI\linux\initrd`, nil, ""},
	} {
		m := stubMachine(t, c.line, c.disks...)
		require.NotEqual(t, startup.Starts, startup.Simulate(m).Verdict, name)
		plan := repair.Find(m, repair.Linux)
		if c.gives == "" {
			for _, s := range plan.Steps {
				assert.NotEqual(t, "entry-line", s.Action, name)
			}
			continue
		}
		require.Len(t, plan.Steps, 1, "%s: %s", name, plan.Reason)
		assert.Equal(t, "entry-line", plan.Steps[0].Action, name)
		assert.Equal(t, startup.Starts, plan.Verdict, name)
		last := plan.Steps[0].Form.Commands[len(plan.Steps[0].Form.Commands)-1].Text
		_, given, _ := strings.Cut(last, "--unicode ")
		assert.Equal(t, "'"+c.gives+"'", given, name)
	}
}
