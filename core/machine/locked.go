package machine

import (
	"regexp"
	"slices"

	"latchkey/core/loader"
)

// subvolumeFlags are the options of a root that its mount takes over: none but which subvolume.
var subvolumeFlags = regexp.MustCompile(`^(subvol=/?[A-Za-z0-9_@][A-Za-z0-9_@/.+-]*|subvolid=[0-9]+)?$`)

// unquoted are names of roots that no program takes for anything else.
var unquoted = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.+-]*$`)

// Within is how a kernel line names a root that lies in what is encrypted.
type Within struct {
	Spec  loader.Spec
	Flags string // rootflags=
}

// LockedNames are those of a Linux whose root lies in the one encrypted volume of the disk, as
// its kernel lines tell; ok is false where they tell of none, or of several. Of its mount table,
// which is not in evidence, the lines of /boot and of the boot partition are to name the
// clone's own.
func (d *Drive) LockedNames(boot int) (n Names, ok bool) {
	c := d.Contents
	at, locked := c.Locked()
	home, alone := c.LoneBoot()
	if !locked || !alone || at.Inside > 0 {
		return n, false
	}
	n = d.BootNames(boot, home)
	n.Root, n.NoRoot = at, false
	if n.Within, ok = c.rootWithin(n); !ok {
		return n, false
	}
	if hits, known := d.Unopened().Resolve(n.Within.Spec); !known || len(hits) > 0 {
		return n, false // it lies elsewhere
	}
	named := func(point string, to Address) {
		spec := loader.Spec{Kind: loader.ByFSUUID, Value: c.At(to).Serial}
		n.Mounts = append(n.Mounts, Rename{To: to, New: spec, Point: point})
	}
	if named("/boot", home); boot >= 0 {
		named("/boot/efi", Address{Index: boot})
	}
	return n, true
}

// reachable reports whether commands can find and mount the root, and it is named by what can
// name something in an encrypted volume.
func (w Within) reachable() bool {
	return (w.Spec.Kind == loader.ByFSUUID || w.Spec.Kind == loader.ByMapped) &&
		unquoted.MatchString(w.Spec.Value) && subvolumeFlags.MatchString(w.Flags)
}

// rootWithin is the one root that all kernel lines of menus and entries name.
func (c *Contents) rootWithin(n Names) (*Within, bool) {
	var found []Within
	line := func(root *loader.Spec, options string) {
		if root == nil {
			return
		}
		w := Within{Spec: *root}
		for _, flags := range loader.KernelOptions(options, "rootflags") {
			w.Flags = flags
		}
		if !slices.Contains(found, w) {
			found = append(found, w)
		}
	}
	var entries func([]loader.GRUBEntry)
	entries = func(list []loader.GRUBEntry) {
		for _, e := range list {
			line(e.Root, e.Options)
			entries(e.Sub)
		}
	}
	for _, v := range c.configured(n) {
		for i := range v.Configs {
			if cfg := &v.Configs[i]; cfg.Entry != nil {
				line(cfg.Entry.Root, cfg.Entry.Options)
			} else if cfg.GRUB != nil {
				entries(cfg.GRUB.Entries)
			}
		}
	}
	if len(found) != 1 || !found[0].reachable() {
		return nil, false
	}
	return &found[0], true
}
