package machine

import (
	"errors"
	"path"
	"slices"

	"latchkey/core/fact"
	"latchkey/core/volume"
)

// Tool is what a repair calls of the Linux on a disk: a program by its name, or the modules of GRUB
// for a platform by ModulesFor.
type Tool string

// ModulesFor is what GRUB needs to be installed for a platform, such as x86_64-efi. The manual of
// GNU GRUB, "Invoking grub-install".
func ModulesFor(platform string) Tool { return Tool("modules for " + platform) }

// The programs that a repair calls: grub-install(8), update-grub(8), grub-mkconfig(8),
// update-initramfs(8), dracut(8), mkinitcpio(8).
const (
	GRUBInstall     Tool = "grub-install"
	GRUB2Install    Tool = "grub2-install"
	UpdateGRUB      Tool = "update-grub"
	GRUBMkconfig    Tool = "grub-mkconfig"
	GRUB2Mkconfig   Tool = "grub2-mkconfig"
	UpdateInitramfs Tool = "update-initramfs"
	Dracut          Tool = "dracut"
	Mkinitcpio      Tool = "mkinitcpio"
)

var (
	programs = []Tool{GRUBInstall, GRUB2Install, UpdateGRUB, GRUBMkconfig, GRUB2Mkconfig, UpdateInitramfs, Dracut,
		Mkinitcpio}
	// programFolders are where the programs of an administrator lie. Filesystem Hierarchy Standard
	// 3.0, sections 3.4, 3.16, 4.4, 4.9 and 4.10.
	programFolders = []string{"/usr/sbin", "/usr/bin", "/sbin", "/bin", "/usr/local/sbin", "/usr/local/bin"}
	// grubFolders are where the families keep GRUB's modules. Common practice, no source.
	grubFolders   = []string{"/usr/lib/grub", "/usr/share/grub2", "/usr/lib/grub2"}
	grubPlatforms = []string{"i386-pc", "x86_64-efi", "i386-efi", "arm64-efi"}
)

// Tools are those of a Linux on a volume.
type Tools struct {
	In  string // the folder that stands for its root
	Has []Tool
	// Whole is set where everything was looked at: what Has does not list is not there.
	Whole bool
}

// tools looks for what a repair would call of a Linux in a folder that stands for its root.
func (g *gathering) tools(in string) {
	t := Tools{In: in, Whole: true}
	inUsr := false
	for _, folder := range programFolders {
		files, err := g.files.ReadDir(in + folder)
		t.Whole = t.Whole && (err == nil || errors.Is(err, volume.ErrNotFound))
		inUsr = inUsr || err == nil && path.Dir(folder) == "/usr" && len(files) > 0
		for _, f := range files {
			if !f.Dir && slices.Contains(programs, Tool(f.Name)) {
				t.Has = append(t.Has, Tool(f.Name))
			}
		}
	}
	for _, folder := range grubFolders {
		for _, platform := range grubPlatforms {
			_, err := g.files.Lookup(in + path.Join(folder, platform, "modinfo.sh"))
			t.Whole = t.Whole && (err == nil || errors.Is(err, volume.ErrNotFound))
			if err == nil {
				t.Has = append(t.Has, ModulesFor(platform))
			}
		}
	}
	if _, err := g.files.Lookup(in + "/usr"); err == nil && !inUsr {
		t.Whole = false // another volume is mounted there
	}
	g.volume.Tools = append(g.volume.Tools, t)
}

// Tool tells whether the Linux at a place has a program or GRUB's modules; not known where a part
// of its folders is not in evidence, or lies on a volume of its own.
func (c *Contents) Tool(root Address, tool Tool) fact.Of[bool] {
	for _, t := range c.At(root).Tools {
		if t.In != root.Folder {
			continue
		}
		if slices.Contains(t.Has, tool) {
			return fact.Known(true, fact.Source{Origin: fact.Bytes, Structure: "directory", Field: string(tool)})
		}
		if t.Whole && len(c.Mounts(root, "/usr")) == 0 {
			return fact.Known(false, fact.Source{Origin: fact.Bytes, Structure: "directory", Field: string(tool)})
		}
	}
	return fact.Of[bool]{}
}
