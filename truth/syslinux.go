package truth

import (
	"os"
	"path/filepath"
	"time"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// syslinuxModules is where Debian's package keeps the modules.
const syslinuxModules = "/usr/lib/syslinux/modules/bios/"

// syslinuxFiles are the files of a boot partition beside what is always there: "" takes one
// away.
type syslinuxFiles map[string]string

// syslinuxEntry is a label of its configuration.
func syslinuxEntry(name, kernel, root string) string {
	return "label " + name + "\n  linux " + kernel + "\n  append initrd=/initrd.img-6.1.0 root=" + root + " ro console=ttyS0 panic=1\n"
}

// syslinuxScenarios start a small Linux by Syslinux from a FAT, from a copied disk.
func syslinuxScenarios() []Scenario {
	const config = `\syslinux\syslinux.cfg`
	const kernel, right = "/vmlinuz-6.1.0", "UUID=" + rootUUID
	other := "UUID=" + otherUUID
	entries := syslinuxEntry("wrong", kernel, other) + syslinuxEntry("right", kernel, right)
	var all []Scenario
	for _, c := range []struct {
		name, shows string
		files       syslinuxFiles
	}{
		{"right names", "", nil},
		{"the default is the second", "", syslinuxFiles{config: "DEFAULT right\n" + entries}},
		{"paths from its folder", "", syslinuxFiles{config: "default l\nlabel l\n linux ../vmlinuz-6.1.0\n initrd ../initrd.img-6.1.0\n append root=" +
			right + " ro console=ttyS0 panic=1\n"}},
		{"a menu's own default", "", syslinuxFiles{config: "ui menu.c32\ntimeout 10\n" + entries + "  menu default\n",
			`\syslinux\menu.c32`: "menu.c32", `\syslinux\libutil.c32`: "libutil.c32", `\syslinux\libcom32.c32`: "libcom32.c32"}},
		{"a menu's first entry", noRootThere, syslinuxFiles{config: "ui menu.c32\ntimeout 10\n" + entries,
			`\syslinux\menu.c32`: "menu.c32", `\syslinux\libutil.c32`: "libutil.c32", `\syslinux\libcom32.c32`: "libcom32.c32"}},
		{"a menu without its module", "Failed to load COM32 file", syslinuxFiles{config: "ui menu.c32\n" + entries}},
		{"the name of extlinux before its own", noRootThere, syslinuxFiles{`\syslinux\extlinux.conf`: "default wrong\n" + entries}},
		{"the configuration at the top", "", syslinuxFiles{config: "", `\syslinux.cfg`: "default right\n" + entries}},
		{"kernel line names another file system", noRootThere, syslinuxFiles{config: "default wrong\n" + entries}},
		{"no configuration", "No configuration file found", syslinuxFiles{config: ""}},
		{"no default", "configuration directive found", syslinuxFiles{config: entries}},
		{"no kernel", "No such file", syslinuxFiles{config: "default l\n" + syslinuxEntry("l", "/vmlinuz-6.2.0", right)}},
		{"no module", "Failed to load ldlinux.c32", syslinuxFiles{`\syslinux\ldlinux.c32`: ""}},
		{"its module in another folder", "", syslinuxFiles{`\syslinux\ldlinux.c32`: "", `\boot\syslinux\ldlinux.c32`: "ldlinux.c32"}},
	} {
		was := unplugged()
		s := Scenario{Name: "Linux, Syslinux: " + c.name, Firmware: SeaBIOS, Whole: true, Limit: time.Minute, Shows: c.shows,
			Drives: []Drive{was, syslinuxDisk(c.files)}, Order: []string{"b", "a"}}
		if c.files == nil {
			s = s.smoke()
		}
		all = append(all, s)
	}
	return all
}

// noRootThere is what the small Linux says when its root is not there.
const noRootThere = "(?i)root"

func syslinuxDisk(changed syslinuxFiles) Drive { return syslinuxDiskOf(changed, names{}) }

func syslinuxDiskOf(changed syslinuxFiles, n names) Drive {
	boot := diskmaker.Partition{MBRType: 0x0C, MiB: 100, Active: true}
	root := diskmaker.Partition{Type: disk.TypeLinuxData, MBRType: 0x83, MiB: 64,
		Volume: diskmaker.Volume{Kind: "raw", Raw: make([]byte, 512)}}
	d := Drive{Name: "b", Bus: "nvme", Disk: mbrDisk(9, boot, root)}
	declared := d.Disk
	d.Make = func(dir string) (*diskmaker.Image, error) { return makeSyslinux(dir, declared, changed, n.filled()) }
	return d
}

func makeSyslinux(dir string, declared diskmaker.Disk, changed syslinuxFiles, n names) (*diskmaker.Image, error) {
	tree := filepath.Join(dir, "root")
	if err := writeTree(tree, n); err != nil {
		return nil, err
	}
	files := map[string][]byte{`\syslinux\syslinux.cfg`: []byte("default l\n" +
		syslinuxEntry("l", "/vmlinuz-6.1.0", "UUID="+rootUUID))}
	for _, name := range []string{"vmlinuz-6.1.0", "initrd.img-6.1.0"} {
		raw, err := os.ReadFile(filepath.Join(tree, "boot", name))
		if err != nil {
			return nil, err
		}
		files[`\`+name] = raw
	}
	for name, text := range changed {
		switch {
		case text == "":
			delete(files, name)
		case filepath.Ext(name) == ".c32":
			raw, err := os.ReadFile(syslinuxModules + text)
			if err != nil {
				return nil, err
			}
			files[name] = raw
		default:
			files[name] = []byte(text)
		}
	}
	files[`\syslinux\readme`] = []byte("the folder\n")
	volume := filepath.Join(dir, "root.ext4")
	if err := run("mkfs.ext4", "-q", "-F", "-U", rootUUID, "-d", tree, volume, "64M"); err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(volume)
	if err != nil {
		return nil, err
	}
	declared.Partitions = append([]diskmaker.Partition{}, declared.Partitions...)
	declared.Partitions[0].Volume = diskmaker.Volume{Kind: "fat32", Serial: 0xB007C0DE, Files: files}
	declared.Partitions[1].Volume.Raw = raw
	_, without := changed[`\syslinux\ldlinux.c32`]
	return installSyslinux(dir, declared, without)
}

// installSyslinux has its own installer put it on the first partition, with its module or
// without.
func installSyslinux(dir string, declared diskmaker.Disk, without bool) (*diskmaker.Image, error) {
	m, err := declared.Build()
	if err != nil {
		return nil, err
	}
	file := filepath.Join(dir, "disk.img")
	if err := m.WriteFile(file); err != nil {
		return nil, err
	}
	if err := run("syslinux", "--install", "--offset", "1048576", "--directory", "/syslinux", file); err != nil {
		return nil, err
	}
	if without {
		if err := run("mdel", "-i", file+"@@1M", "::/syslinux/ldlinux.c32"); err != nil {
			return nil, err
		}
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	if _, err := m.WriteAt(raw, 0); err != nil {
		return nil, err
	}
	code("mbr.bin")(m)
	return m, nil
}
