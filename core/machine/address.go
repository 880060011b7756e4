package machine

import (
	"slices"
	"strings"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// Address is a volume of a disk: a partition, by its index in the layout, or a volume that
// lies in it. Unlike a Spot it names the same volume in the disk as a repair leaves it.
type Address struct {
	Index  int
	Inside int // 0 for the partition itself, else the place in its Inner, from 1
	// Folder stands for the root of the system that lies there: a subvolume; "" elsewhere.
	Folder string
}

// Address is where a spot lies on its drive.
func (s Spot) Address() Address { return Address{Index: s.Index, Inside: s.Inside, Folder: s.Folder} }

// At returns what lies at a place.
func (c *Contents) At(p Address) *Volume {
	v := &c.Volumes[p.Index]
	if p.Inside > 0 {
		return &v.Inner[p.Inside-1].Volume
	}
	return v
}

// Config returns a configuration of the system at a place, by its path in that.
func (c *Contents) Config(p Address, kind ConfigKind, name string) *Config {
	return c.At(p).Config(kind, p.Folder+name)
}

// Around lists the volumes that a place lies in, the partition first, each of which has to
// be opened before what lies in it.
func (c *Contents) Around(p Address) []Address {
	if p.Inside == 0 {
		return nil
	}
	around := []Address{{Index: p.Index}}
	inner := c.Volumes[p.Index].Inner
	own := inner[p.Inside-1]
	for i := range inner[:p.Inside-1] {
		if n := inner[i]; !n.Unread && n.Offset <= own.Offset && own.Offset+own.Length <= n.Offset+n.Length {
			around = append(around, Address{Index: p.Index, Inside: i + 1})
		}
	}
	return around
}

// addresses are those of spots.
func addresses(spots []Spot) []Address {
	list := make([]Address, 0, len(spots))
	for _, s := range spots {
		list = append(list, s.Address())
	}
	return list
}

// LinuxRoot is where the root of a Linux system lies: of a Btrfs the subvolume that is
// mounted where none is named, else the one nearest to its top.
func (c *Contents) LinuxRoot() (Address, bool) {
	for _, s := range (&Drive{Contents: c}).Spots() {
		v := s.Volume()
		folders := []string{""}
		if v.Subvolumes != nil {
			folders = v.Subvolumes.Views()
		}
		for _, folder := range folders {
			p := Address{Index: s.Index, Inside: s.Inside, Folder: folder}
			if v.keepsLinux() && c.Config(p, ConfigFstab, fstabFile) != nil {
				return p, true
			}
		}
	}
	return Address{}, false
}

// LoneBoot is the only /boot by itself of a system whose root is not in evidence, as where that
// is encrypted.
func (c *Contents) LoneBoot() (at Address, ok bool) {
	for _, s := range (&Drive{Contents: c}).Spots() {
		if s.Volume().keepsBoot() {
			if ok {
				return Address{}, false
			}
			at, ok = s.Address(), true
		}
	}
	return at, ok
}

// Locked is the only encrypted volume of the disk.
func (c *Contents) Locked() (at Address, ok bool) {
	for _, s := range (&Drive{Contents: c}).Spots() {
		if s.Volume().Kind == volume.KindLUKS {
			if ok {
				return Address{}, false
			}
			at, ok = s.Address(), true
		}
	}
	return at, ok
}

// Opens names the question whether the encrypted volume of a drive opens and holds the root.
func Opens(d *Drive) string { return "opens:" + d.Name }

// Whole reports whether a volume lies on this disk to its end: none of what holds it is
// spread over several devices but a mirror, of which each device holds all.
func (c *Contents) Whole(p Address) bool {
	for _, at := range append(c.Around(p), Address{Index: p.Index, Inside: p.Inside}) {
		if s := c.At(at).Container; s != nil && s.Members > 1 && s.Level != mirror {
			return false
		}
	}
	return true
}

// mirror is how the md driver names RAID 1. md(4).
const mirror = "raid1"

// NameOf is how mount tables and kernel lines name a volume: a logical volume by the device
// mapper's name, any other by the UUID of its file system; ok is false for one without.
func (c *Contents) NameOf(p Address) (name loader.Spec, ok bool) {
	if p.Inside > 0 {
		if mapped := c.Volumes[p.Index].Inner[p.Inside-1].Mapped(); mapped != "" {
			return loader.Spec{Kind: loader.ByMapped, Value: mapped}, true
		}
	}
	serial := c.At(p).Serial
	return loader.Spec{Kind: loader.ByFSUUID, Value: serial}, serial != ""
}

// MountedAt returns the place on the disk that the mount table of the system at root mounts
// at a point of its own.
func (c *Contents) MountedAt(root Address, point string) (at Address, found bool) {
	for _, m := range c.Mounts(root, point) {
		hits := c.byName(m.Spec)
		if len(hits) != 1 {
			continue
		}
		at = hits[0]
		if s := c.At(at).Subvolumes; s != nil {
			folder, there, known := s.Mounted(m.Options)
			if !known || !there {
				continue
			}
			at.Folder = folder
		}
		return at, true
	}
	return Address{}, false
}

// BootHome is where the folder /boot of the system at root lies: by itself, or within the
// root, where it is found in the folder that is returned too. It is not known where the mount
// table names what the disk does not carry, and several volumes may be meant.
func (c *Contents) BootHome(root Address) (home Address, folder string, known bool) {
	if at, ok := c.MountedAt(root, "/boot"); ok {
		return at, at.Folder, true
	}
	if len(c.Mounts(root, "/boot")) == 0 {
		return root, root.Folder + "/boot", true
	}
	for _, keeps := range []func(*Volume) bool{(*Volume).keepsBoot, (*Volume).isBootOfEntries} {
		var keep []Address
		for _, s := range (&Drive{Contents: c}).Spots() {
			if p := s.Address(); keeps(s.Volume()) && (p.Index != root.Index || p.Inside != root.Inside) {
				keep = append(keep, p)
			}
		}
		if len(keep) > 0 {
			return keep[0], "", len(keep) == 1
		}
	}
	return Address{}, "", false
}

// keepsBoot reports whether the volume looks like the /boot of a Linux by itself.
func (v *Volume) keepsBoot() bool {
	return v.keepsLinux() && v.Subvolumes == nil &&
		slices.ContainsFunc(v.Kernels, func(k string) bool { return strings.Count(k, "/") == 1 })
}

// isBootOfEntries reports whether the volume is a boot partition that is a /boot, too, as a
// loader of entries wants it. The Boot Loader Specification, "The Partitions".
func (v *Volume) isBootOfEntries() bool {
	isEntry := func(c Config) bool { return c.Kind == ConfigEntry && c.Entry != nil }
	return v.IsFAT() && slices.ContainsFunc(v.Configs, isEntry)
}

// Mounts lists the lines of the mount table of the system at root for a mount point.
func (c *Contents) Mounts(root Address, point string) []loader.Mount {
	var mounts []loader.Mount
	for _, m := range c.table(root) {
		if m.Point == point && m.Comment == "" {
			mounts = append(mounts, m)
		}
	}
	return mounts
}

// table is the mount table of the system at root.
func (c *Contents) table(root Address) []loader.Mount {
	if t := c.Config(root, ConfigFstab, fstabFile); t != nil {
		return t.Mounts
	}
	return nil
}

// byName lists the places on the disk that a name means, its bus aside.
func (c *Contents) byName(s loader.Spec) []Address {
	found, _ := (&Drive{Contents: c}).Resolve(s)
	return addresses(found)
}

// swap is the only swap space of the disk.
func (c *Contents) swap() (at Address, ok bool) {
	for _, s := range (&Drive{Contents: c}).Spots() {
		if s.Volume().Kind == volume.KindSwap {
			if ok {
				return Address{}, false
			}
			at, ok = s.Address(), true
		}
	}
	return at, ok
}
