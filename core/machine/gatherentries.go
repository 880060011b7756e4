package machine

import (
	"errors"
	"path"
	"slices"
	"sort"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// entries reads what the Boot Loader Specification puts below a folder: settings and
// entries.
func (g *gathering) entries(dir string) {
	g.read(ConfigMenu, dir+"/loader.conf", func(c *Config) { c.Menu = loader.ParseLoaderSettings(c.File.Bytes) })
	dir += "/entries"
	files, err := g.files.ReadDir(dir)
	unread := func(err error) {
		g.volume.Configs = append(g.volume.Configs, Config{Kind: ConfigEntry, Path: dir + "/*.conf", Err: err})
	}
	if err != nil {
		if !errors.Is(err, volume.ErrNotFound) {
			unread(err)
		}
		return
	}
	sort.Slice(files, func(i, j int) bool { return files[i].Name < files[j].Name })
	for i, f := range files {
		if i >= 16*maxEntries {
			unread(&disk.Spent{})
			break
		}
		if !strings.EqualFold(path.Ext(f.Name), ".conf") || strings.HasPrefix(f.Name, ".") || f.Dir {
			continue
		}
		g.read(ConfigEntry, dir+"/"+f.Name, func(c *Config) {
			e := loader.ParseEntry(c.File.Bytes)
			c.Entry = &e
			if e.Linux != "" {
				g.kernel(e.Linux)
			}
			if e.Path() != "" {
				g.look(e.Path())
			}
			for _, file := range e.Initrds {
				g.payload(file)
			}
		})
	}
}

// lookAtPrograms examines the programs that menus and entries name, and that a boot loader looks
// for by itself.
func (v *Volume) lookAtPrograms(fat *volume.FAT) {
	names := v.namedPrograms()
	for _, suffix := range loader.Suffixes {
		names = append(names, `\shell`+suffix)
	}
	for _, name := range names {
		if _, known := v.Loader(name); known || len(v.Loaders) >= 16*maxEntries {
			continue
		}
		if f, err := loader.Look(fat, name); err == nil {
			v.Loaders = append(v.Loaders, f)
		}
	}
	for _, f := range v.Loaders {
		if g := f.Program.GRUB; g != nil && v.looked != nil {
			folder := AfterBrackets(g.Prefix)
			_, err := fat.Lookup(folder)
			v.looked[strings.ToLower(folder)] = err
		}
	}
}

// namedPrograms lists what menus and entries start that is a program of the firmware's.
func (v *Volume) namedPrograms() (paths []string) {
	for _, c := range v.Configs {
		switch {
		case c.Entry != nil && c.Entry.Program:
			paths = append(paths, strings.ReplaceAll(c.Entry.Path(), "/", `\`))
		case c.GRUB != nil:
			for _, e := range c.GRUB.Entries {
				paths = append(paths, strings.ReplaceAll(AfterBrackets(e.Chain), "/", `\`))
			}
		}
	}
	return slices.DeleteFunc(paths, func(p string) bool { return !strings.HasSuffix(strings.ToLower(p), ".efi") })
}
