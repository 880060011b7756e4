package machine

import (
	"errors"
	"fmt"
	"path"
	"sort"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// ConfigKind is what a configuration file is.
type ConfigKind string

// The kinds of configuration files.
const (
	ConfigStore ConfigKind = "boot configuration store"
	ConfigGRUB  ConfigKind = "GRUB configuration"
	ConfigEntry ConfigKind = "boot loader entry"
	ConfigFstab ConfigKind = "mount table"
)

// Config is a file that tells a loader, or the system, what to start and where it
// lies.
type Config struct {
	Kind   ConfigKind
	Path   string
	File   *volume.Read // nil when it could not be read
	Told   fact.Source  // where a listing tells of it; it has no bytes then
	Err    error        // why it could not be read or decoded
	Store  *loader.Store
	GRUB   *loader.GRUBConfig
	Entry  *loader.Entry
	Mounts []loader.Mount
}

// Missing reports whether the evidence lacks the file's bytes.
func (c *Config) Missing() bool { return disk.IsNotCaptured(c.Err) }

// maxEntries bounds the entries of one folder that are read, and the kernels that are
// listed of one.
const maxEntries = 64

// Files that are only looked for: their presence tells, their contents are the
// owner's. Common practice.
const (
	sleepFile   = `\hiberfil.sys`
	winloadEFI  = `\Windows\System32\winload.efi`
	winloadEXE  = `\Windows\System32\winload.exe`
	ShimNext    = `grubx64.efi`
	ShimRebuild = `fbx64.efi`
)

// sleepSigns are the first four bytes of a live sleep file. Common practice, from
// memory: "hibr" while the system sleeps, "wake" after it was woken.
var sleepSigns = []string{"hibr", "HIBR", "RSTR", "rstr"}

// gather reads the configuration on a volume; base is the partition's byte offset
// on the disk.
func (v *Volume) gather(base int64) {
	v.looked = map[string]error{}
	for _, name := range []string{"ntldr", "bootmgr"} {
		if f, err := v.Files.Lookup(name); err == nil && !f.Dir {
			v.LegacyManager = name
		} else {
			v.looked[name] = err
		}
	}
	switch v.Kind {
	case volume.KindNTFS:
		v.gatherWindows(base)
	case volume.KindExt:
		v.gatherLinux()
	default:
		v.store(loader.StoreUEFI)
		v.store(loader.StoreLegacy)
		v.gatherESP()
	}
}

// gatherWindows looks at what decides a start of Windows on its own volume.
func (v *Volume) gatherWindows(base int64) {
	v.store(loader.StoreLegacy)
	for _, name := range []string{winloadEFI, winloadEXE} {
		v.look(name)
	}
	for _, c := range v.Configs {
		for _, name := range c.loaderPaths() {
			v.look(name)
		}
	}
	f, err := v.Files.Lookup(sleepFile)
	switch {
	case errors.Is(err, volume.ErrNotFound):
		v.Hibernated = fact.Known(false, fact.Source{Origin: fact.Bytes, Structure: "directory", Field: sleepFile, Offset: base})
	case err == nil:
		at := fact.Source{Origin: fact.Bytes, Structure: f.Record, Field: sleepFile, Offset: base + f.Offset, Length: f.Length}
		sign := make([]byte, 4)
		s, err := v.Files.Open(f)
		if err == nil {
			_, err = s.ReadAt(sign, 0)
		}
		if place := int64(-1); err == nil {
			if place = s.Place(0); place >= 0 {
				at = fact.Source{Origin: fact.Bytes, Structure: sleepFile, Field: "signature", Offset: base + place, Length: 4}
			}
			v.Hibernated = fact.Known(contains(sleepSigns, string(sign)), at)
		}
	}
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// look remembers whether a file is on the volume.
func (v *Volume) look(name string) {
	key := strings.ToLower(name)
	if _, done := v.looked[key]; done {
		return
	}
	f, err := v.Files.Lookup(name)
	if err == nil && f.Dir {
		err = volume.ErrNotFound
	}
	v.looked[key] = err
}

// Holds reports whether a file is on the volume, and whether that is known. A
// file that was not looked for is not known of.
func (v *Volume) Holds(name string) (there, known bool) {
	err, looked := v.looked[strings.ToLower(name)]
	switch {
	case !looked:
		return false, false
	case err == nil:
		return true, true
	}
	return false, errors.Is(err, volume.ErrNotFound)
}

func (v *Volume) gatherLinux() {
	for _, name := range []string{"/boot/grub/grub.cfg", "/grub/grub.cfg", "/boot/grub2/grub.cfg", "/grub2/grub.cfg"} {
		v.grub(name)
	}
	v.entries("/boot/loader/entries")
	v.entries("/loader/entries")
	v.read(ConfigFstab, "/etc/fstab", func(c *Config) { c.Mounts = loader.ParseFstab(c.File.Bytes) })
	for _, dir := range []string{"", "/boot"} {
		v.kernels(dir)
	}
}

// gatherESP reads what Linux' loaders keep on a FAT volume.
func (v *Volume) gatherESP() {
	for _, name := range []string{"/grub/grub.cfg", "/boot/grub/grub.cfg"} {
		v.grub(name)
	}
	folders, _ := v.Files.ReadDir("EFI")
	sort.Slice(folders, func(i, j int) bool { return folders[i].Name < folders[j].Name })
	for i, f := range folders {
		if f.Dir && i < maxEntries {
			v.grub("/EFI/" + f.Name + "/grub.cfg")
			for _, name := range []string{ShimNext, ShimRebuild} {
				v.look(`\EFI\` + f.Name + `\` + name)
			}
		}
	}
	v.entries("/loader/entries")
	v.kernels("")
}

func (v *Volume) kernels(dir string) {
	files, _ := v.Files.ReadDir(dir)
	seen := 0
	for _, f := range files {
		name := path.Join("/", dir, f.Name)
		if !f.Dir && (strings.HasPrefix(f.Name, "vmlinuz") || strings.HasPrefix(f.Name, "initrd") || strings.HasPrefix(f.Name, "initramfs")) {
			v.looked[strings.ToLower(name)] = nil
			if strings.HasPrefix(f.Name, "vmlinuz") {
				v.Kernels = append(v.Kernels, name)
			}
			if seen++; seen == 4*maxEntries {
				break
			}
		}
	}
	sort.Strings(v.Kernels)
}

// read takes a file in when it is there, or when the evidence cannot tell.
func (v *Volume) read(kind ConfigKind, name string, decode func(*Config)) {
	limit := int64(loader.MaxText)
	if kind == ConfigStore {
		limit = loader.MaxStore
	}
	if *v.left <= 0 {
		v.Configs = append(v.Configs, Config{Kind: kind, Path: name, Err: &disk.Spent{}})
		return
	}
	f, err := volume.ReadFile(v.Files, name, limit)
	if errors.Is(err, volume.ErrNotFound) {
		return
	}
	if err == nil {
		*v.left -= int64(len(f.Bytes))
	}
	c := Config{Kind: kind, Path: name, File: f, Err: err}
	if err == nil {
		decode(&c)
	}
	v.Configs = append(v.Configs, c)
}

func (v *Volume) store(name string) {
	v.read(ConfigStore, name, func(c *Config) { c.Store, c.Err = loader.ReadStore(c.File.Bytes) })
}

func (v *Volume) grub(name string) {
	v.read(ConfigGRUB, name, func(c *Config) {
		c.GRUB = loader.ParseGRUBConfig(c.File.Bytes)
		for _, e := range c.GRUB.Entries {
			for _, file := range []string{e.Linux, e.Initrd} {
				if file != "" {
					v.look(file)
				}
			}
		}
	})
}

func (v *Volume) entries(dir string) {
	files, err := v.Files.ReadDir(dir)
	if err != nil {
		return
	}
	sort.Slice(files, func(i, j int) bool { return files[i].Name < files[j].Name })
	for i, f := range files {
		if !strings.HasSuffix(f.Name, ".conf") || i >= maxEntries {
			continue
		}
		v.read(ConfigEntry, dir+"/"+f.Name, func(c *Config) {
			e := loader.ParseEntry(c.File.Bytes)
			c.Entry = &e
			v.look(e.Linux)
		})
	}
}

// loaderPaths lists the paths of systems' loaders that a store names.
func (c *Config) loaderPaths() []string {
	var paths []string
	if c.Store == nil {
		return nil
	}
	for i := range c.Store.Objects {
		if o := &c.Store.Objects[i]; o.IsLoader() {
			if e, ok := o.Element(loader.ElementPath); ok && e.Text != "" {
				paths = append(paths, e.Text)
			}
		}
	}
	return paths
}

// Config returns a configuration by kind and path.
func (v *Volume) Config(kind ConfigKind, name string) *Config {
	for i := range v.Configs {
		if c := &v.Configs[i]; c.Kind == kind && strings.EqualFold(c.Path, name) {
			return c
		}
	}
	return nil
}

// Source says where bytes of the file lie on the disk; base is the partition's
// byte offset.
func (c *Config) Source(base int64, field string, offset, length int64) fact.Source {
	if c.Told.Origin != "" {
		s := c.Told
		s.Field = field
		return s
	}
	s := fact.Source{Origin: fact.Bytes, Structure: c.Path, Field: field, Offset: base}
	if c.File == nil {
		return s
	}
	if place := c.File.Place(offset); place >= 0 {
		s.Offset, s.Length = base+place, length
	}
	return s
}

// regions names the structures that were decoded in the file.
func (c *Config) regions(base int64) []disk.Region {
	if c.File == nil {
		return nil
	}
	regions := []disk.Region{c.File.Region(base)}
	line := func(name string, offset, length int64) {
		if place := c.File.Place(offset); place >= 0 && length > 0 {
			regions = append(regions, disk.Region{Structure: c.Path, Offset: base + place, Length: length,
				Fields: []disk.Field{{Name: name, Length: length, Form: disk.Text}}})
		}
	}
	for _, m := range c.Mounts {
		line(fmt.Sprintf("line %d", m.Line), m.Offset, m.Length)
	}
	if c.Entry != nil {
		line("options", c.Entry.Offset, c.Entry.Length)
	}
	if c.GRUB != nil {
		for _, s := range c.GRUB.Top {
			line(fmt.Sprintf("line %d", s.Line), s.Offset, s.Length)
		}
		for _, e := range c.GRUB.Entries {
			line(fmt.Sprintf("line %d", e.Line), e.Offset, e.Length)
			for _, s := range e.Searches {
				line(fmt.Sprintf("line %d", s.Line), s.Offset, s.Length)
			}
		}
	}
	return append(regions, c.storeRegions(base)...)
}

func (c *Config) storeRegions(base int64) []disk.Region {
	if c.Store == nil {
		return nil
	}
	var regions []disk.Region
	for i := range c.Store.Objects {
		o := &c.Store.Objects[i]
		for _, e := range o.Elements {
			place := c.File.Place(e.Offset)
			if place < 0 || e.Length == 0 {
				continue
			}
			r := disk.Region{Structure: c.Path + ", " + o.What() + ", " + e.Name(), Offset: base + place, Length: e.Length}
			switch {
			case e.Device != nil && e.Device.Kind == loader.DevicePartition && e.Length >= 0x48:
				r.Fields = loader.DeviceFields(e.Device.MBR)
			case e.Text != "" || e.IDs != nil:
				r.Fields = []disk.Field{{Name: e.Name(), Length: e.Length, Form: disk.Wide}}
			default:
				r.Fields = []disk.Field{{Name: e.Name(), Length: e.Length, Form: disk.Number}}
			}
			regions = append(regions, r)
		}
	}
	return regions
}
