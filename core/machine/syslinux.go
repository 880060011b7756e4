package machine

import (
	"path"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// SyslinuxStage is Syslinux' second stage on a volume.
type SyslinuxStage struct {
	loader.Syslinux
	Path   string
	Offset int64 // of its first byte, from the start of the partition
}

// syslinuxFolders are where it is installed by habit. Common practice.
var syslinuxFolders = []string{"/boot/extlinux", "/extlinux", "/boot/syslinux", "/syslinux", "/boot", "/"}

// SyslinuxElsewhere are the folders in which it looks beside its own: for its module, and of
// those the last three for its configuration. As version 6.04 does, seen when it ran.
var SyslinuxElsewhere = []string{"/boot/isolinux", "/isolinux", "/boot/syslinux", "/syslinux", "/"}

// syslinux looks for its second stage, and reads the configuration that it goes by.
func (g *gathering) syslinux() {
	if g.volume.Kind == volume.KindBtrfs {
		return // its boot sector reads a subvolume that is not told
	}
	for _, folder := range syslinuxFolders {
		name := path.Join(folder, loader.SyslinuxStage)
		f, err := volume.ReadFile(g.files, name, loader.MaxSyslinuxStage)
		if err != nil {
			continue
		}
		s, ok := loader.ReadSyslinux(f.Bytes)
		if !ok {
			continue
		}
		g.volume.Syslinux = &SyslinuxStage{Syslinux: s, Path: name, Offset: f.Place(0)}
		for _, at := range append([]string{folder}, SyslinuxElsewhere...) {
			g.look(path.Join(at, loader.SyslinuxModule))
		}
		g.syslinuxMenu(folder)
		return
	}
}

// syslinuxMenu reads the first configuration that there is.
func (g *gathering) syslinuxMenu(folder string) {
	for _, at := range append([]string{folder}, SyslinuxElsewhere[2:]...) {
		for _, name := range []string{"extlinux.conf", "syslinux.cfg"} {
			had := len(g.volume.Configs)
			g.read(ConfigSyslinux, path.Join(at, name), func(c *Config) {
				c.Syslinux = loader.ParseSyslinux(c.File.Bytes, at)
				c.Entry = &c.Syslinux.Entry
				for _, file := range append([]string{c.Entry.Linux}, c.Entry.Initrds...) {
					if file != "" {
						g.payload(file)
					}
				}
				for _, file := range c.Syslinux.Modules {
					g.look(file)
				}
			})
			if len(g.volume.Configs) > had {
				return
			}
		}
	}
}

// SyslinuxMenu is the configuration that Syslinux goes by; nil where there is none.
func (v *Volume) SyslinuxMenu() *Config {
	for i := range v.Configs {
		if v.Configs[i].Kind == ConfigSyslinux {
			return &v.Configs[i]
		}
	}
	return nil
}
