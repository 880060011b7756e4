package machine

import (
	"bytes"
	"path"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// Written is a file of a disk's configuration that somebody pasted: a mount table or a menu
// of GRUB. What it names is known by it. Whether it is whole, and stands on the disk as it
// was pasted, is not: for a start it is as a file that the evidence lacks.
type Written struct {
	Name  string     // of it among others of a listing
	Kind  ConfigKind // ConfigFstab or ConfigGRUB
	Path  string     // as far as it is told; of a menu else by where its kernels lie
	Bytes []byte
	Line  int // of the listing, in which the file begins
}

// config decodes the file, with what is not proved by it left open.
func (w Written) config(from fact.Source) Config {
	from.Line = w.Line
	c := Config{Kind: w.Kind, Path: w.Path, From: from, Err: &disk.NotCaptured{}, text: w.Bytes}
	if w.Kind == ConfigFstab {
		c.Mounts = loader.ParseFstab(w.Bytes)
	} else {
		c.GRUB = loader.ParseGRUBConfig(w.Bytes)
	}
	return c
}

// Home is by what the volume that the file lies on is told in it: of a mount table the root,
// of a menu the volume that its kernels are looked for on, which holds the menu too (common
// practice); of a short menu that only leads to another one nothing.
func (w Written) Home() (s loader.Spec, told bool) {
	c := w.config(fact.Source{})
	for _, m := range c.Mounts {
		if m.Point == "/" && m.Comment == "" {
			return m.Spec, m.Spec.Kind != loader.ByOther
		}
	}
	if c.GRUB == nil || w.leadsOn() {
		return s, false
	}
	for _, e := range c.GRUB.Entries {
		for _, search := range e.Searches {
			if e.Linux != "" && !search.Device {
				return search.Spec, search.Spec.Kind != loader.ByFile
			}
		}
	}
	return s, false
}

// leadsOn reports whether it is a short menu on an EFI system partition.
func (w Written) leadsOn() bool {
	return w.Kind == ConfigGRUB && strings.HasPrefix(strings.ToLower(w.Path), "/efi/")
}

// Carries reports whether the drive carries what a name means.
func (d *Drive) Carries(s loader.Spec) bool {
	found, _ := d.Resolve(s)
	return len(found) > 0
}

// TellWritten adds a pasted file to the volume of the drive that it lies on: to the one that
// it names, else to the only one that can hold it. It reports false where none, or more than
// one, can. A volume whose own files are in evidence is left as it is.
func (d *Drive) TellWritten(w Written, from fact.Source) bool {
	if d.Contents == nil {
		return false
	}
	at := -1
	if s, told := w.Home(); told {
		if found := d.outer(s); len(found) == 1 {
			at = found[0]
		}
	}
	if at < 0 && d.Contents.TableKnown() && !d.Contents.Layout.Open {
		at = d.onlyHome(w)
	}
	if at < 0 {
		return false
	}
	v := &d.Contents.Volumes[at]
	if v.Readable || v.Config(w.Kind, w.Path) != nil {
		return true
	}
	v.Configs = append(append([]Config{}, v.Configs...), w.config(from))
	return true
}

// outer lists the partitions, other than containers, that carry a name themselves.
func (d *Drive) outer(s loader.Spec) []int {
	var list []int
	found, _ := d.Resolve(s)
	for _, spot := range found {
		if len(d.Contents.Volumes[spot.Index].Inner) == 0 {
			list = append(list, spot.Index)
		}
	}
	return list
}

// onlyHome returns the only volume that may hold the file; -1 for none or several.
func (d *Drive) onlyHome(w Written) int {
	at := -1
	for i := range d.Contents.Volumes {
		v, p := &d.Contents.Volumes[i], d.Contents.Layout.Partitions[i]
		may := !v.IsFAT() && v.Kind != volume.KindNTFS && v.Kind != volume.KindSwap && v.Kind != volume.KindBitLocker
		if w.leadsOn() {
			may = p.IsESP()
		}
		switch {
		case !may || p.Type.Role == disk.RoleOther || p.Type.Role == disk.RoleReserved:
		case at >= 0:
			return -1
		default:
			at = i
		}
	}
	return at
}

// MenuPath is where a menu lies, as far as its words tell: by the tool that made it, and by
// whether its kernels lie in /boot or on a volume of their own. GNU GRUB Manual, "Invoking
// grub-mkconfig"; the families' folders are common practice.
func MenuPath(raw []byte) string {
	folder := "grub"
	if bytes.Contains(raw, []byte("grub2-mkconfig")) || bytes.Contains(raw, []byte("/grub2")) {
		folder = "grub2"
	}
	c := loader.ParseGRUBConfig(raw)
	for _, e := range c.Entries {
		if e.Linux != "" && !strings.HasPrefix(AfterBrackets(e.Linux), "/boot/") {
			return path.Join("/", folder, "grub.cfg")
		}
	}
	if len(c.Entries) == 0 && c.ConfigFile != "" {
		return "/EFI/…/grub.cfg"
	}
	return path.Join("/boot", folder, "grub.cfg")
}
