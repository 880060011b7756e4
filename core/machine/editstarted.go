package machine

import (
	"bytes"
	"errors"
	"path"
	"slices"
	"strings"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// LacksStarted lists the programs that firmware and boot loaders start and the configurations that these go by which
// are not on a volume, or not what they should be, where another volume has them as they should be.
func (v *Volume) LacksStarted(other *Volume) (files []string) {
	for i := range other.Loaders {
		f := &other.Loaders[i]
		if f.Err != nil || !f.Program.Application() {
			continue
		}
		if v.LacksProgram(f.Path) {
			files = append(files, f.Path)
		}
	}
	for i := range other.Configs {
		c := &other.Configs[i]
		if c.Err != nil || c.hollow() {
			continue
		}
		if v.LacksConfig(c.Kind, c.Path) {
			files = append(files, c.Path)
		}
	}
	slices.Sort(files)
	return files
}

// LacksConfig reports whether a configuration is known not to be there, or to tell nothing.
func (v *Volume) LacksConfig(kind ConfigKind, name string) bool {
	own := v.Config(kind, name)
	switch {
	case own != nil:
		return own.Err == nil && own.hollow()
	case kind == ConfigEntry: // its folder was read whole
		return v.Readable && !v.Told && v.Config(kind, path.Dir(name)+"/*.conf") == nil
	case kind == ConfigFstab: // it is looked for wherever a root may lie
		return v.Readable && !v.Told && name == fstabFile
	}
	return v.Gone(name)
}

// LacksProgram reports whether a program of the firmware's is known not to be there, or to be none.
func (v *Volume) LacksProgram(name string) bool {
	own, there := v.Loader(name)
	return there && own.Err != nil && !own.Missing() || !there && v.Gone(name)
}

// Gone reports whether it is known that a file is not there.
func (v *Volume) Gone(name string) bool {
	if errors.Is(v.looked[strings.ToLower(name)], volume.ErrNotFound) {
		return true
	}
	if there, known := v.Holds(name); known {
		return !there
	}
	if !v.Readable || v.Told {
		return false
	}
	program := strings.HasSuffix(strings.ToLower(name), ".efi")
	return program && v.IsFAT() && !v.ProgramsOpen && !v.Lists(name) || !program && v.LooksForMenu(name)
}

// hollow reports whether a configuration tells nothing: its file is empty or of zeros, or nothing is read of what a
// boot loader or a mount goes by.
func (c *Config) hollow() bool {
	if c.File != nil && len(bytes.Trim(c.File.Bytes, "\x00 \t\r\n")) == 0 {
		return true
	}
	switch g := c.GRUB; c.Kind {
	case ConfigGRUB:
		return g != nil && !g.Cut && g.Boots == nil && g.BLS == nil && g.ConfigFile == "" && len(g.Entries) == 0
	case ConfigEntry:
		return c.Entry != nil && c.Entry.Linux == "" && c.Entry.Path() == ""
	case ConfigShim:
		return len(c.Loaders) == 0
	case ConfigFstab:
		return len(c.Mounts) == 0
	}
	return false
}

// WithFirstMenu has a configuration of GRUB's on a volume.
func (c *Contents) WithFirstMenu(i int, name, text string) *Contents {
	e := c.edited()
	e.Volumes[i].putConfig(Config{Kind: ConfigGRUB, Path: name, GRUB: loader.ParseGRUBConfig([]byte(text))})
	return e
}

// putStarted has a program or a configuration as another volume has it.
func (v *Volume) putStarted(name string, from *Volume) {
	if f, ok := from.Loader(name); ok {
		is := func(own loader.Found) bool { return strings.EqualFold(own.Path, name) }
		v.Loaders = slices.DeleteFunc(slices.Clone(v.Loaders), is)
		f.Header = -1
		v.Loaders, v.LoaderErr = append(v.Loaders, f), nil
	}
	for _, c := range from.Configs {
		if strings.EqualFold(c.Path, name) {
			v.putConfig(c)
		}
	}
}
