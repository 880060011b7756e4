package machine

import (
	"bytes"
	"errors"
	"fmt"
	"path"
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
	ConfigStore    ConfigKind = "boot configuration store"
	ConfigGRUB     ConfigKind = "GRUB configuration"
	ConfigEntry    ConfigKind = "boot loader entry"
	ConfigFstab    ConfigKind = "mount table"
	ConfigCrypttab ConfigKind = "table of encrypted volumes"
	ConfigMenu     ConfigKind = "boot loader settings"
	ConfigName     ConfigKind = "name of the system"
	ConfigShim     ConfigKind = "list of the shim's fallback"
	ConfigSyslinux ConfigKind = "Syslinux configuration"
)

// Config is a file that tells a loader, or the system, what to start and where it
// lies.
type Config struct {
	Kind     ConfigKind
	Path     string
	File     *volume.Read // nil when it could not be read
	From     fact.Source  // where a listing tells of it; it has no bytes then
	Err      error        // why it could not be read or decoded
	Store    *loader.Store
	GRUB     *loader.GRUBConfig
	Entry    *loader.Entry
	Menu     *loader.LoaderSettings
	Syslinux *loader.SyslinuxMenu // its entry is Entry
	Name     *loader.Release
	Mounts   []loader.Mount
	Opened   []loader.Opened
	// Loaders are the names in a list of the shim's fallback, which lie beside it.
	Loaders []string
	text    []byte // of a pasted file
}

// Missing reports whether the evidence lacks the file's bytes.
func (c *Config) Missing() bool { return disk.IsNotCaptured(c.Err) }

// Files that are only looked for: their presence tells, their contents are the
// owner's. Common practice.
const (
	sleepFile  = `\hiberfil.sys`
	winloadEFI = `\Windows\System32\winload.efi`
	winloadEXE = `\Windows\System32\winload.exe`
	// The registry and the kernel that Windows' loader loads.
	SystemHive    = `\Windows\System32\config\SYSTEM`
	WindowsKernel = `\Windows\System32\ntoskrnl.exe`
)

// Holds reports whether a file is on the volume, and whether that is known. A
// file that was not looked for is not known of.
func (v *Volume) Holds(name string) (there, known bool) {
	name = strings.ToLower(name)
	err, looked := v.looked[name]
	switch {
	case !looked:
		_, listed := v.looked[listedWhole(path.Dir(name))]
		return false, listed
	case err == nil:
		return true, true
	}
	return false, errors.Is(err, volume.ErrNotFound)
}

// listedWhole is under what a folder is remembered of which all files were looked at.
func listedWhole(folder string) string { return strings.TrimSuffix(strings.ToLower(folder), "/") + "/" }

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
	if c.From.Origin != "" {
		s := c.From
		s.Field = field
		if c.text != nil {
			s.Line += bytes.Count(c.text[:min(int64(len(c.text)), offset)], []byte("\n"))
		}
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
