package machine

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"latchkey/core/loader"
)

// EntryLine is what a boot entry of the firmware is to give to a kernel of the EFI system partition:
// line, with what it names and the disk does not carry called as it is there; for "" one that names
// the root and the initial RAM disk that lies beside the kernel. The kernel's admin-guide/efi-stub.
// ok is false where it cannot be told, or would hold what no such line needs.
func (d *Drive) EntryLine(n Names, original *Contents, kernel, line string) (new string, ok bool) {
	if line == "" {
		new, ok = d.Contents.lineFor(n, kernel)
	} else {
		r := &renaming{drive: d, c: d.Contents, original: original, names: n}
		r.names.Menus, r.names.Types = nil, nil
		r.line(loader.RootOf(line), line)
		for _, t := range r.names.Types {
			line = t.In(line)
		}
		new, ok = renamedOptions(line, r.names.Menus), true
	}
	return new, ok && plainLine.MatchString(new)
}

// plainLine is a kernel line that every program hands on as it is.
var plainLine = regexp.MustCompile(`^[A-Za-z0-9 @%._/,=:;+\\-]+$`)

// lineFor makes a line for a kernel of the boot partition.
func (c *Contents) lineFor(n Names, kernel string) (line string, ok bool) {
	root, named := c.NameOf(n.Root)
	disks, told := c.Volumes[n.Boot].besideKernel(strings.ReplaceAll(kernel, `\`, "/"))
	if n.Within != nil || !named || !told {
		return "", false
	}
	line = "root=" + DeviceText(root)
	if n.Root.Folder != "" {
		line += " rootflags=subvol=" + strings.TrimPrefix(n.Root.Folder, "/")
	}
	line += " ro"
	for _, file := range disks {
		line += " initrd=" + strings.ReplaceAll(file, "/", `\`)
	}
	return line, true
}

// besideKernel is the initial RAM disk that belongs to a kernel: that of its version, else the only
// one in its folder. Of several it is not told which.
func (v *Volume) besideKernel(kernel string) (files []string, told bool) {
	if files = v.ramDisksOf(kernel); len(files) > 0 {
		return files, true
	}
	for key, p := range v.payloads {
		beside := path.Dir(key) == strings.ToLower(path.Dir(kernel)) && likeRAMDisk(path.Base(p.name))
		if beside && p.err == nil && p.NoRAMDisk() == "" {
			files = append(files, p.name)
		}
	}
	slices.Sort(files)
	return files, len(files) < 2
}
