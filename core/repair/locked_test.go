package repair_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

func lockedMachine(t *testing.T, d diskmaker.Disk, bus string) machine.Machine {
	t.Helper()
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
	m.Drives[0].Bus = fact.Tell(bus)
	return m
}

// What runs the encrypted system's own programs opens it, under the name that the system itself
// gives it, and closes it again.
func TestAnEncryptedLinuxIsRepairedFromWithin(t *testing.T) {
	for _, root := range []string{"/dev/mapper/kiosk--vg-root", "/dev/mapper/root_crypt", "UUID=abcdef00-0000-4000-8000-000000000000"} {
		d := sample.EncryptedLinuxDisk(root)
		for path := range d.Partitions[0].Volume.Files {
			d = sample.With(d, 0, path, "")
		}
		p := repair.Find(lockedMachine(t, d, "nvme"), repair.Linux)
		require.Equal(t, startup.Starts, p.Verdict, p.Reason)
		require.Equal(t, []string{"linux-boot-files", "initial-ram-disk"}, actionsOf(p), "the step shows that it opens")
		script, _ := repair.Script(p, repair.Linux)
		order := []string{"cryptsetup open", "vgchange -ay", "crypttab", "dmsetup rename clone-inside", "mount -o rw", "grub-install", "update-grub", "umount -R /mnt/clone", "vgchange -an", "cryptsetup close"}
		for _, want := range order {
			_, after, found := strings.Cut(script, want)
			require.True(t, found, "%s in its place: %s", want, root)
			script = after
		}
	}
}

// What names no root, or one that no name reaches, is left alone.
func TestAnEncryptedLinuxWhoseRootIsNotTold(t *testing.T) {
	for _, root := range []string{"/dev/nvme0n1p4", "LABEL=root", "/dev/mapper/root rootflags=subvol=a,loop", "/dev/mapper/$(x)"} {
		d := sample.With(sample.EncryptedLinuxDisk(root), 0, sample.FallbackPath, "")
		p := repair.Find(lockedMachine(t, d, "nvme"), repair.Linux)
		assert.NotContains(t, actionsOf(p), "linux-boot-files", root)
	}
}

// The name that a table of encrypted volumes gives: of the UUID, of the only line, and none
// that is more than a name.
func TestTheNameOfAnEncryptedVolume(t *testing.T) {
	program, err := os.ReadFile("crypttab.awk")
	require.NoError(t, err)
	t.Setenv("uuid", "AAAAAAAA-0000-4000-8000-000000000001")
	t.Setenv("else", "clone-inside")
	for table, want := range map[string]string{
		"# name device\nswap /dev/sda5 /dev/urandom swap\nroot_crypt UUID=aaaaaaaa-0000-4000-8000-000000000001 none luks\n": "root_crypt",
		"nvme0n1p3_crypt /dev/nvme0n1p3 none luks,discard\n":                                                                "nvme0n1p3_crypt",
		"a /dev/sda5 none luks\nb /dev/sda6 none luks\n":                                                                    "clone-inside",
		"": "clone-inside", "x\n": "clone-inside",
		"-f UUID=aaaaaaaa-0000-4000-8000-000000000001 none\n": "clone-inside",
		"a\"],b UUID=aaaaaaaa-0000-4000-8000-000000000001\n":  "clone-inside",
	} {
		assert.Equal(t, want, strings.TrimSpace(reference.Run(t, table, "awk", string(program))), table)
	}
}
