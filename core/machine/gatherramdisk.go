package machine

import (
	"errors"
	"path"
	"regexp"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// ramDiskFile says of which drivers the initial RAM disks of initramfs-tools are made, ramDiskFolders hold files
// that say so behind it, in this order. initramfs.conf(5); mkinitramfs.
const ramDiskFile = "/etc/initramfs-tools/initramfs.conf"

var ramDiskFolders = []string{"/usr/share/initramfs-tools/conf.d", "/etc/initramfs-tools/conf.d"}

// ramDiskName is how a file there is called that is read.
var ramDiskName = regexp.MustCompile(`^[[:alnum:]][[:alnum:]._-]*$`)

// ramDiskSettings reads what the initial RAM disks of a system in a folder are made of.
func (g *gathering) ramDiskSettings(in string) {
	read := func(name string) {
		g.read(ConfigRAMDisk, name, func(c *Config) { c.RAMDisk = loader.ParseRAMDiskSettings(c.File.Bytes) })
	}
	read(in + ramDiskFile)
	if _, err := g.files.Lookup(in + path.Dir(ramDiskFile)); errors.Is(err, volume.ErrNotFound) {
		return
	}
	for _, folder := range ramDiskFolders {
		files, err := g.files.ReadDir(in + folder)
		if errors.Is(err, volume.ErrNotFound) {
			continue
		}
		if err == nil && len(files) > maxEntries {
			err = &disk.Spent{}
		}
		if err != nil {
			g.volume.Configs = append(g.volume.Configs, Config{Kind: ConfigRAMDisk, Path: in + folder + "/*", Err: err})
			continue
		}
		slices.SortFunc(files, func(a, b volume.File) int { return strings.Compare(a.Name, b.Name) })
		for _, f := range files {
			if !f.Dir && ramDiskName.MatchString(f.Name) && !strings.Contains(f.Name, ".dpkg-") {
				read(in + folder + "/" + f.Name)
			}
		}
	}
}

// RAMDiskDrivers is the file that says which drivers the initial RAM disks of the system at a place get; nil where
// that is not in evidence, or not followed.
func (c *Contents) RAMDiskDrivers(root Address) *Config {
	var last *Config
	v := c.At(root)
	for i := range v.Configs {
		one := &v.Configs[i]
		rest, ours := strings.CutPrefix(one.Path, root.Folder)
		if one.Kind != ConfigRAMDisk || !ours || !strings.HasPrefix(rest, "/etc/initramfs-tools/") &&
			!strings.HasPrefix(rest, "/usr/share/initramfs-tools/") {
			continue
		}
		switch {
		case one.Err != nil || one.RAMDisk.Modules == "?":
			return nil
		case one.RAMDisk.Modules != "":
			last = one
		}
	}
	return last
}
