package field

import (
	"maps"
	"testing"

	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// lostFiles are disks whose boot partition lacks one file of the chain from the shim to the menu: a copy that left out
// what was open, or a file system check that took it.
func lostFiles(*testing.T) (all []Met) {
	for _, f := range []struct {
		name, folder string
		was          disks
	}{
		{"Fedora", "fedora", func(t *testing.T) diskmaker.Disk { return fedora(t, 1, one, one) }},
		{"Red Hat 9", "redhat", func(t *testing.T) diskmaker.Disk { return redHat(t, 1, 9, one, one, "rhel", "rhel") }},
		{"Ubuntu's server", "ubuntu", func(t *testing.T) diskmaker.Disk { return ubuntuServer(t, 1, one, one) }},
		{"openSUSE", "opensuse", func(t *testing.T) diskmaker.Disk { return suse(t, 1, one, one) }},
	} {
		at := `\EFI\` + f.folder + `\`
		lacks := func(file string, holds []byte) disks {
			return func(t *testing.T) diskmaker.Disk {
				d := f.was(t)
				files := maps.Clone(d.Partitions[0].Volume.Files)
				if files[file] = holds; holds == nil {
					delete(files, file)
				}
				d.Partitions[0].Volume.Files = files
				return d
			}
		}
		menu, grub, shim := at+"grub.cfg", at+"grubx64.efi", at+"shimx64.efi"
		of := func(is disks) func(*testing.T) machine.Machine { return alone(f.name, f.was, shim, "sata", is) }
		with := func(is disks) func(*testing.T) machine.Machine { // the original lies there, and is larger
			return func(t *testing.T) machine.Machine {
				d := f.was(t)
				d.Sectors += 1 << 20 / 512
				original := on(t, machine.RoleOriginal, "sata", d)
				original.Attached = fact.Tell(false)
				m := of(is)(t)
				m.Drives = append(m.Drives, original)
				return m
			}
		}
		prompt := "GRUB's prompt: the first menu only has to find the one on the disk. Three lines put it back: search, prefix, configfile."
		gone := "The entry leads to a file that is gone, and so does the list of the fallback. EFI/BOOT/BOOTX64.EFI is the same shim: copy it there."
		copied := "The shim says that it failed to open grubx64.efi: copy it from the old drive, it is the same package."
		stops := func(lost string, at func(*testing.T) machine.Machine, says, words, first string) Met {
			return Met{Name: f.name + ", " + lost, At: at, Says: says, Verdict: startup.Stops, Stage: "configuration",
				Words: words, First: first}
		}
		all = append(all,
			stops("no first menu", of(lacks(menu, nil)), prompt, "grub.cfg", "first-menu"),
			stops("an empty first menu", of(lacks(menu, []byte{})), prompt, "grub.cfg", "first-menu"),
			stops("no shim in its folder", of(lacks(shim, nil)), gone, "shimx64.efi", "vendor-path"),
			stops("no GRUB, with the old drive", with(lacks(grub, nil)), copied, "grubx64.efi", "copy-loaded"),
			stops("a GRUB of zeros, with the old drive", with(lacks(grub, make([]byte, 8192))), copied, "grubx64.efi",
				"copy-loaded"),
		)
	}
	return all
}
