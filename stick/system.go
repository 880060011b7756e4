package stick

import (
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"

	"latchkey/core/command"
)

// System is what the machine says of itself, as far as the kernel tells it.
type System struct {
	Mode       string // "uefi" or "legacy": how the stick was started
	Arch       string // of the firmware; "" where that is not told
	SecureBoot *bool
	Storage    string // mode of the storage controller: "ahci", "raid" or ""
	// Behaviour is the firmware's, where it is one of which the choices are known.
	Behaviour string
	Model     string
	Serial    string
}

// secureBoot is the variable, of which the value follows four bytes of attributes. UEFI
// Specification 2.10, table 3.3; kernel documentation, filesystems/efivarfs.
const secureBoot = "SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c"

// ReadSystem asks the kernel below a folder, which is "/" but in tests. Kernel documentation,
// ABI/testing/sysfs-firmware-dmi-entries, sysfs-firmware-efi, sysfs-bus-pci.
func ReadSystem(top string) System {
	text := func(name string) string {
		raw, _ := os.ReadFile(filepath.Join(top, "sys", name))
		return command.Clean(string(raw)) // what the firmware says is shown, and not acted on
	}
	s := System{Mode: "legacy", Model: text("class/dmi/id/product_name"), Serial: text("class/dmi/id/product_serial")}
	if vendor := text("class/dmi/id/sys_vendor"); vendor != "" && !strings.HasPrefix(s.Model, vendor) {
		s.Model = strings.TrimSpace(vendor + " " + s.Model)
	}
	if _, err := os.Stat(filepath.Join(top, "sys/firmware/efi")); err == nil {
		s.Mode = "uefi"
		s.Arch = map[string]string{"64": "x64", "32": "ia32"}[text("firmware/efi/fw_platform_size")]
		if s.Arch == "x64" && runtime.GOARCH == "arm64" {
			s.Arch = "arm64"
		}
		if raw, err := os.ReadFile(filepath.Join(top, "sys/firmware/efi/efivars", secureBoot)); err == nil &&
			len(raw) == 5 {
			on := raw[4] == 1
			s.SecureBoot = &on
		} else if names, _ := os.ReadDir(filepath.Join(top, "sys/firmware/efi/efivars")); os.IsNotExist(err) && len(names) > 0 {
			off := false // a firmware without the variable has no secure boot
			s.SecureBoot = &off
		}
	}
	for words, name := range map[string]string{"EDK II": "edk2", "EFI Development Kit II": "edk2", "SeaBIOS": "seabios"} {
		// Makers of machines build theirs of edk2, too, and change it: known is QEMU's alone.
		if strings.Contains(text("class/dmi/id/bios_vendor"), words) && text("class/dmi/id/sys_vendor") == "QEMU" {
			s.Behaviour = name
		}
	}
	s.Storage = storageMode(filepath.Join(top, "sys/bus/pci/devices"))
	return s
}

// storageMode goes by the class of the controllers: 0106 is SATA, 0104 RAID; both tell
// nothing. PCI Code and ID Assignment Specification, base class 01.
func storageMode(devices string) string {
	var seen []string
	files, _ := filepath.Glob(filepath.Join(devices, "*", "class"))
	for _, f := range files {
		raw, _ := os.ReadFile(f)
		class := strings.TrimSpace(string(raw))
		for prefix, mode := range map[string]string{"0x0106": "ahci", "0x0104": "raid"} {
			if strings.HasPrefix(class, prefix) && !slices.Contains(seen, mode) {
				seen = append(seen, mode)
			}
		}
	}
	if len(seen) == 1 {
		return seen[0]
	}
	return ""
}

var notInName = regexp.MustCompile(`[^A-Za-z0-9]+`)

// folderName is how the folder of a machine begins.
func (s System) folderName() string {
	name := strings.Trim(notInName.ReplaceAllString(s.Model, "-"), "-")
	if name == "" {
		name = "machine"
	}
	return name[:min(len(name), 40)]
}
