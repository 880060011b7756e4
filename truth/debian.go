package truth

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// DebianFolder holds a small real Debian, made by scripts/debian; "" where there is
// none. Repairs run its own programs, grub-install and update-grub among them.
func DebianFolder() string { return os.Getenv("LATCHKEY_DEBIAN") }

const (
	debianSectors = 1 << 21 // 1 GiB
	debianMiB     = 560     // of the root; behind it is room for a boot partition
)

// debianRepairs are copied Debians that do not start, for plans that need programs
// of the system on the disk.
func debianRepairs() []Scenario {
	root := diskmaker.Partition{Type: disk.TypeLinuxData, MBRType: 0x83, MiB: debianMiB,
		Volume: diskmaker.Volume{Kind: "raw", Raw: make([]byte, 512)}}
	empty, unformatted := esp(diskmaker.Volume{Kind: "fat32", Serial: 0xB007C0DE}), esp(diskmaker.Volume{})
	kernels := diskmaker.Partition{Type: disk.TypeLinuxData, MiB: 128,
		Volume: diskmaker.Volume{Kind: "raw", Raw: make([]byte, 512)}}
	biosBoot := diskmaker.Partition{Type: disk.TypeBIOSBoot, MiB: 1}
	var all []Scenario
	for _, c := range []struct {
		name     string
		firmware Firmware
		style    diskmaker.Style
		parts    []diskmaker.Partition
	}{
		{"boot partition left out", OVMF, diskmaker.GPT, []diskmaker.Partition{root}},
		{"boot partition not formatted", OVMF, diskmaker.GPT, []diskmaker.Partition{unformatted, root}},
		{"boot partition empty", OVMF, diskmaker.GPT, []diskmaker.Partition{empty, root}},
		{"boot partition empty, /boot by itself", OVMF, diskmaker.GPT, []diskmaker.Partition{empty, kernels, root}},
		{"boot code left out", SeaBIOS, diskmaker.MBR, []diskmaker.Partition{root}},
		{"boot code left out, GPT", SeaBIOS, diskmaker.GPT, []diskmaker.Partition{biosBoot, root}},
	} {
		declared := gptDisk(9, c.parts...)
		if c.style == diskmaker.MBR {
			declared = mbrDisk(9, c.parts...)
		}
		declared.Sectors = debianSectors
		clone := Drive{Name: "b", Bus: "nvme", Disk: declared}
		clone.Make = func(dir string) (*diskmaker.Image, error) { return makeDebian(dir, declared) }
		was := unplugged()
		all = append(all, Scenario{Name: "Debian, " + c.name, Firmware: c.firmware, Whole: true, Limit: 4 * time.Minute,
			Drives: []Drive{was, clone}, Order: []string{"b", "a"}})
	}
	return all
}

// makeDebian builds the disk with the system on its last partition.
func makeDebian(dir string, declared diskmaker.Disk) (*diskmaker.Image, error) {
	tree := filepath.Join(dir, "debian")
	if out, err := exec.Command("cp", "-a", DebianFolder(), tree).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	defer os.RemoveAll(tree)
	declared.Partitions = append([]diskmaker.Partition{}, declared.Partitions...)
	fstab := fmt.Sprintf("UUID=%s / ext4 errors=remount-ro 0 1\nUUID=0BAD-C0DE /boot/efi vfat umask=0077 0 1\n", rootUUID)
	last := len(declared.Partitions) - 1
	if last == 2 { // the kernels have a partition of their own
		fstab += fmt.Sprintf("UUID=%s /boot ext4 defaults 0 2\n", otherUUID)
		boot := filepath.Join(tree, "boot")
		var err error
		if declared.Partitions[1].Volume.Raw, err = ext4(dir, boot, otherUUID, 128); err != nil {
			return nil, err
		}
		if err := errors.Join(os.RemoveAll(boot), os.Mkdir(boot, 0o755)); err != nil {
			return nil, err
		}
	}
	for name, text := range map[string]string{"etc/fstab": fstab, "etc/drive": "b"} {
		if err := os.WriteFile(filepath.Join(tree, name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	var err error
	if declared.Partitions[last].Volume.Raw, err = ext4(dir, tree, rootUUID, debianMiB); err != nil {
		return nil, err
	}
	return declared.Build()
}

// ext4 is a file system with the files of a folder.
func ext4(dir, tree, uuid string, size int) ([]byte, error) {
	volume := filepath.Join(dir, "volume.ext4")
	if err := run("mkfs.ext4", "-q", "-F", "-U", uuid, "-d", tree, volume, fmt.Sprintf("%dM", size)); err != nil {
		return nil, err
	}
	defer os.Remove(volume)
	return os.ReadFile(volume)
}
