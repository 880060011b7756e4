package truth

import (
	"os"
	"path/filepath"
)

// fewModules are what a GRUB has built in that its own installer puts on a disk: what it needs to come
// to its folder, where the others lie.
var fewModules = []string{"part_gpt", "part_msdos", "ext2", "fat", "search_fs_uuid"}

// moduleScenarios start a small Linux by a GRUB whose modules lie in its folder.
func moduleScenarios() (all []Scenario) {
	for _, f := range []Firmware{OVMF, SeaBIOS} {
		for _, c := range []struct {
			name, shows string
			lacks       []string
		}{
			{"in its folder", "", []string{}},
			{"the folder is gone", rescue, []string{""}},
			{"normal is gone", rescue, []string{"normal.mod"}},
			{"what normal needs is gone", rescue, []string{"gettext.mod"}},
			{"what loads a kernel is gone", "can't find command|not found", []string{"linux.mod"}},
			{"what that needs is gone", "can't find command|not found", []string{"relocator.mod"}},
			{"the list of what they need is gone", "", []string{"moddep.lst"}},
			{"one that nothing needs is gone", "", []string{"play.mod", "hello.mod"}},
		} {
			s := linuxScenario(f, "GRUB's modules: "+c.name, names{lacks: c.lacks})
			s.Shows = c.shows
			all = append(all, s)
		}
	}
	return all
}

// modulesInto puts GRUB's modules into its folder, but for those that are not to be there; "" is all.
func (n names) modulesInto(tree string, f Firmware) error {
	if n.lacks == nil {
		return nil
	}
	platform := "i386-pc"
	if f.UEFI() {
		platform = "x86_64-efi"
	}
	folder := filepath.Join(tree, "boot/grub", platform)
	if err := os.Mkdir(folder, 0o755); err != nil {
		return err
	}
	for _, end := range []string{"*.mod", "*.lst"} {
		files, err := filepath.Glob(filepath.Join("/usr/lib/grub", platform, end))
		if err != nil {
			return err
		}
		if err := run("cp", append(files, folder)...); err != nil {
			return err
		}
	}
	for _, name := range n.lacks {
		if err := os.RemoveAll(filepath.Join(folder, name)); err != nil {
			return err
		}
	}
	return nil
}
