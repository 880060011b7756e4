package machine

import (
	"fmt"
	"slices"
	"sort"

	"latchkey/core/fact"
	"latchkey/core/loader"
)

// Reference is a place where something names a disk, a partition or a file
// system, and what that name means on each drive.
type Reference struct {
	Holder string      `json:"holder"`          // who names it
	Drive  string      `json:"drive,omitempty"` // the drive that the holder lies on; absent for the firmware
	Kind   string      `json:"kind"`            // by what it is named
	Value  string      `json:"value"`
	On     []Resolved  `json:"on"`
	Means  string      `json:"means"` // on which disk it exists, seen from the holder's; for the firmware this is the clone
	Source fact.Source `json:"source"`
}

// Resolved is what a name means on one drive.
type Resolved struct {
	Drive      string `json:"drive"`
	Known      bool   `json:"known"`
	Partitions []int  `json:"partitions"`
}

// References lists every name that decides a start, with what it means on each of
// the machine's drives.
func References(m Machine) []Reference {
	refs := []Reference{}
	if e := m.Firmware.Entries; e != nil {
		numbers := make([]int, 0, len(e.All))
		for n := range e.All {
			numbers = append(numbers, int(n))
		}
		sort.Ints(numbers)
		for _, n := range numbers {
			entry := e.All[uint16(n)]
			node := entry.Path.Partition
			if node == nil {
				continue
			}
			r := Reference{Holder: fmt.Sprintf("Boot entry %s, %s", entry.Name(), entry.Description), Kind: string(loader.ByPartUUID),
				Value: node.GUID.String(), Source: entry.Source}
			if node.MBR {
				r.Kind, r.Value = "disk signature and number", fmt.Sprintf("%08X, %d", node.Signature, node.Number)
			}
			refs = append(refs, r.resolve(m, "clone", func(d *Drive) ([]int, bool) {
				found := d.ResolveNode(node)
				return found, len(found) > 0 || !d.MayCarry(node)
			}))
		}
	}
	if g, told := m.MacStart.Get(); told {
		r := Reference{Holder: "The Mac's startup disk", Kind: string(loader.ByPartUUID), Value: g.String(), Source: m.MacStart.Source()}
		refs = append(refs, r.resolve(m, "clone", func(d *Drive) ([]int, bool) {
			found, known := d.Resolve(loader.Spec{Kind: loader.ByPartUUID, Value: g.String()})
			return indexes(found), known
		}))
	}
	for i := range m.Drives {
		refs = append(refs, m.Drives[i].references(m)...)
	}
	return refs
}

// references lists the names that a drive's own configuration holds.
func (d *Drive) references(m Machine) []Reference {
	if d.Contents == nil {
		return nil
	}
	var refs []Reference
	if image := d.Contents.Core.Image; image != nil {
		refs = append(refs, d.coreReference(m, image))
	}
	for _, at := range d.Spots() {
		v := at.Volume()
		for j := range v.Configs {
			c := &v.Configs[j]
			if c.Store != nil {
				refs = append(refs, storeReferences(m, at, c)...)
			}
			for _, t := range specsOf(c) {
				refs = append(refs, specReference(m, at, c, t))
			}
		}
	}
	return refs
}

func (d *Drive) coreReference(m Machine, image *loader.GRUBCore) Reference {
	r := Reference{Holder: "GRUB's core image, prefix", Drive: d.Name, Kind: string(loader.ByGRUBDisk), Value: image.Prefix,
		Source: fact.Source{Origin: fact.Bytes, Drive: d.Name, Structure: "GRUB core image", Field: "prefix",
			Offset: int64(d.Contents.Core.Sector) * 512, Length: 512}}
	return r.resolve(m, d.Name, func(o *Drive) ([]int, bool) {
		place, ok := loader.GRUBPartition(InsideBrackets(image.Prefix))
		if !ok || o.Contents == nil {
			return nil, false
		}
		return o.ByGRUB(place)
	})
}

// named is a name in a configuration file, and where it stands.
type named struct {
	spec           loader.Spec
	who            string
	offset, length int64
}

// specsOf lists what a GRUB configuration, a boot loader entry or a mount table
// names.
func specsOf(c *Config) []named {
	var found []named
	for _, m := range c.Mounts {
		if m.Comment == "" && m.Spec.Kind != loader.ByOther {
			found = append(found, named{m.Spec, m.Point, m.Offset, m.Length})
		}
	}
	if c.Entry != nil && c.Entry.Root != nil {
		found = append(found, named{*c.Entry.Root, "root=", c.Entry.Offset, c.Entry.Length})
	}
	if c.GRUB == nil {
		return found
	}
	seen := map[string]bool{}
	add := func(n named) {
		if key := n.who + n.spec.String(); !seen[key] {
			seen[key] = true
			found = append(found, n)
		}
	}
	for _, s := range c.GRUB.Top {
		add(named{s.Spec, "search", s.Offset, s.Length})
	}
	for _, e := range c.GRUB.Entries {
		for _, s := range e.Searches {
			add(named{s.Spec, "search", s.Offset, s.Length})
		}
		if e.Root != nil {
			add(named{*e.Root, "root=", e.Offset, e.Length})
		}
	}
	return found
}

func specReference(m Machine, at Spot, c *Config, n named) Reference {
	r := Reference{Holder: c.Path + ", " + n.who, Drive: at.Drive.Name, Kind: string(n.spec.Kind), Value: n.spec.Value}
	r.Source = c.Source(at.Base(), n.who, n.offset, n.length)
	r.Source.Drive = at.Drive.Name
	return r.resolve(m, at.Drive.Name, func(o *Drive) ([]int, bool) {
		if n.spec.Kind == loader.ByGRUBDisk && o.Contents != nil {
			place, ok := loader.GRUBPartition(n.spec.Value)
			found, known := o.ByGRUB(place)
			return found, ok && known
		}
		found, known := o.Resolve(n.spec)
		return indexes(found), known
	})
}

// indexes are the partitions of some places, each once.
func indexes(spots []Spot) []int {
	var list []int
	for _, s := range spots {
		if !slices.Contains(list, s.Index) {
			list = append(list, s.Index)
		}
	}
	return list
}

func storeReferences(m Machine, at Spot, c *Config) []Reference {
	var refs []Reference
	for i := range c.Store.Objects {
		o := &c.Store.Objects[i]
		for _, e := range o.Elements {
			if e.Device == nil || e.Device.Kind != loader.DevicePartition {
				continue
			}
			dev := e.Device
			r := Reference{Holder: fmt.Sprintf("%s, %s, %s", c.Path, o.What(), e.Name()), Drive: at.Drive.Name,
				Kind: string(loader.ByPartUUID), Value: dev.Partition.String()}
			if dev.MBR {
				r.Kind, r.Value = "disk signature and start", fmt.Sprintf("%08X, byte %d", dev.Signature, dev.Start)
			}
			r.Source = at.Drive.StoreSource(at, c, o, e)
			refs = append(refs, r.resolve(m, at.Drive.Name,
				func(d *Drive) ([]int, bool) { return d.ResolveDevice(dev) }))
		}
	}
	return refs
}

// StoreSource says where a store's element stands on the disk.
func (d *Drive) StoreSource(at Spot, c *Config, o *loader.Object, e loader.Element) fact.Source {
	s := c.Source(at.Base(), o.What()+", "+e.Name(), e.Offset, e.Length)
	s.Drive = d.Name
	if e.Line > 0 {
		s.Line = e.Line
	}
	return s
}

// resolve fills in what the name means on each drive.
func (r Reference) resolve(m Machine, home string, on func(*Drive) ([]int, bool)) Reference {
	here, there, known := false, false, true
	r.On = []Resolved{}
	for i := range m.Drives {
		d := &m.Drives[i]
		found, ok := on(d)
		ok = ok && d.Contents != nil
		one := Resolved{Drive: d.Name, Known: ok, Partitions: []int{}}
		for _, index := range found {
			one.Partitions = append(one.Partitions, d.Contents.Layout.Partitions[index].Number)
		}
		r.On = append(r.On, one)
		known = known && (ok || d.Contents == nil && d.Name != home)
		here = here || d.Name == home && len(found) > 0
		there = there || d.Name != home && len(found) > 0
	}
	switch {
	case here && there:
		r.Means = "both"
	case here:
		r.Means = "this"
	case there:
		r.Means = "other"
	case known:
		r.Means = "none"
	default:
		r.Means = "unknown"
	}
	return r
}
