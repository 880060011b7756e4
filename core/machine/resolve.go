package machine

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// At returns a partition by its number.
func (d *Drive) At(number int) (Spot, bool) {
	if d.Contents != nil {
		for i, p := range d.Contents.Layout.Partitions {
			if p.Number == number {
				return Spot{Drive: d, Index: i}, true
			}
		}
	}
	return Spot{}, false
}

// Spot is a partition of a drive, by its index in the layout, or a volume that lies in it.
type Spot struct {
	Drive  *Drive
	Index  int
	Inside int // 0 for the partition itself, else the place in its Inner, from 1
	// Folder stands for the root of the system that lies there: a subvolume; "" elsewhere.
	Folder string
}

// Partition returns the partition as the table holds it.
func (s Spot) Partition() disk.Partition { return s.Drive.Contents.Layout.Partitions[s.Index] }

// Volume returns what lies there.
func (s Spot) Volume() *Volume {
	v := &s.Drive.Contents.Volumes[s.Index]
	if s.Inside > 0 {
		return &v.Inner[s.Inside-1].Volume
	}
	return v
}

// Base returns the byte offset of the volume on its drive.
func (s Spot) Base() int64 {
	base := s.Drive.Contents.Base(s.Index)
	if s.Inside > 0 {
		base += max(0, s.Drive.Contents.Volumes[s.Index].Inner[s.Inside-1].Offset)
	}
	return base
}

// Called names the place in a sentence, "partition 3 of the clone".
func (s Spot) Called() string {
	text := fmt.Sprintf("partition %d of %s", s.Partition().Number, s.Drive.Called())
	if s.Inside > 0 {
		return s.Drive.Contents.Volumes[s.Index].Inner[s.Inside-1].Called() + " in " + text
	}
	return text
}

// Base returns the byte offset of a partition.
func (c *Contents) Base(i int) int64 {
	return disk.Span(c.Layout.Partitions[i].Start, c.Layout.SectorSize)
}

// Matching lists the partitions of a drive that a test accepts.
func (d *Drive) Matching(is func(i int, p disk.Partition) bool) []int {
	var found []int
	if d.Contents == nil {
		return nil
	}
	for i, p := range d.Contents.Layout.Partitions {
		if is(i, p) {
			found = append(found, i)
		}
	}
	return found
}

// Resolve lists the volumes that a name means on a drive. The result is not known when
// the evidence lacks what the name is about.
func (d *Drive) Resolve(s loader.Spec) (found []Spot, known bool) {
	if d.Contents == nil {
		return nil, false
	}
	switch s.Kind {
	case loader.ByFSUUID:
		return d.carrying(s, func(v *Volume) string { return v.Serial })
	case loader.ByFSLabel:
		return d.carrying(s, func(v *Volume) string { return v.Label })
	case loader.ByFile:
		return d.holding(s.Value)
	case loader.ByPartUUID:
		return d.partitions(s, func(p disk.Partition) string { return loader.PartUUID(&d.Contents.Layout, p) })
	case loader.ByPartLabel:
		return d.partitions(s, func(p disk.Partition) string { return p.Name })
	case loader.ByDevice:
		return d.byName(s.Value)
	case loader.ByOwnName:
		return d.byOwnName(s.Value)
	case loader.ByMapped:
		return d.mapped(s.Value)
	case loader.ByLogical:
		return d.logical(s.Value)
	case loader.ByArray:
		return d.array(s.Value)
	case loader.ByContainer:
		return d.encrypted(s.Value)
	}
	return nil, false
}

// carrying lists the volumes that carry a name. A member of a set carries the set's
// identifier, which no file system is looked for by; what a closed container holds is not
// known.
func (d *Drive) carrying(s loader.Spec, name func(v *Volume) string) (found []Spot, known bool) {
	for _, at := range d.Spots() {
		if v := at.Volume(); s.Same(name(v)) && v.Kind != volume.KindRAID && v.Kind != volume.KindLVM {
			found = append(found, at)
		}
	}
	return found, len(found) > 0 || !d.Contents.Opaque() &&
		d.tells(func(v *Volume, _ disk.Partition) string { return name(v) })
}

// holding lists the volumes that hold a file.
func (d *Drive) holding(name string) (found []Spot, known bool) {
	known = !d.Contents.Opaque() && d.Contents.TableKnown()
	for _, at := range d.Spots() {
		v := at.Volume()
		there, told := v.Holds(path.Join("/", name))
		if there {
			found = append(found, at)
		}
		known = known && (told || v.Kind == volume.Empty)
	}
	return found, known
}

func (d *Drive) partitions(s loader.Spec, name func(p disk.Partition) string) (found []Spot, known bool) {
	for i, p := range d.Contents.Layout.Partitions {
		if s.Same(name(p)) {
			found = append(found, Spot{Drive: d, Index: i})
		}
	}
	return found, len(found) > 0 || d.tells(func(_ *Volume, p disk.Partition) string { return name(p) })
}

// mapped lists the logical volumes that the device mapper calls by a name. An encrypted
// volume takes any name, and may hold further ones.
func (d *Drive) mapped(name string) (found []Spot, known bool) {
	for _, at := range d.Spots() {
		if at.Inside > 0 && d.Contents.Volumes[at.Index].Inner[at.Inside-1].Mapped() == name {
			found = append(found, at)
		}
	}
	return found, len(found) > 0 || d.showsGroups()
}

// showsGroups reports whether the evidence tells of every volume group of the drive. What is
// encrypted without a header of its own looks like no volume at all, and may hold one.
func (d *Drive) showsGroups() bool {
	plain := slices.ContainsFunc(d.Contents.Volumes, func(v Volume) bool { return v.Kind == volume.Unknown })
	return !plain && !d.Contents.Opaque() && d.tellsKinds()
}

// logical lists the logical volumes of UUIDs, GROUP/VOLUME, which are told apart by case.
// GNU GRUB's disk/lvm.c.
func (d *Drive) logical(ids string) (found []Spot, known bool) {
	bare := func(id string) string { return strings.ReplaceAll(id, "-", "") }
	group, volume, _ := strings.Cut(ids, "/")
	for _, at := range d.Spots() {
		around := d.Contents.Around(at.Address())
		if len(around) == 0 {
			continue
		}
		set := d.Contents.At(around[len(around)-1]).Container
		own := d.Contents.Volumes[at.Index].Inner[at.Inside-1]
		if own.Name != "" && set != nil && bare(set.Set) == bare(group) && bare(own.UUID) == bare(volume) {
			found = append(found, at)
		}
	}
	return found, len(found) > 0 || d.showsGroups()
}

// array lists the data of the RAIDs that the md driver calls by a number or a name: the
// number is in no superblock of version 1 but by the name that was given, so that an array
// of another name is not known to have another number. md(4), mdadm(8), "DEVICE NAMES".
func (d *Drive) array(name string) (found []Spot, known bool) {
	known = d.tellsKinds()
	for _, at := range d.Spots() {
		v := at.Volume()
		if v.Container == nil || v.Container.Level == "" {
			continue
		}
		own := v.Container.Name
		if _, short, ok := strings.Cut(own, ":"); ok {
			own = short
		}
		switch {
		case name != own && !SameID(name, v.Container.Set): // of two identifiers it is known that they differ
			known = known && IsID(name) && IsID(v.Container.Set)
		case v.Kind != volume.KindRAID:
			found = append(found, at)
		case at.Inside+1 <= len(d.Contents.Volumes[at.Index].Inner) && !v.Opaque():
			found = append(found, Spot{Drive: d, Index: at.Index, Inside: at.Inside + 1})
		default:
			known = false
		}
	}
	return found, known || len(found) > 0
}

// encrypted lists the encrypted volumes with a UUID, with or without its hyphens.
func (d *Drive) encrypted(uuid string) (found []Spot, known bool) {
	known = d.tellsKinds()
	for _, at := range d.Spots() {
		switch v := at.Volume(); {
		case v.Kind == volume.KindLUKS && v.Serial == "":
			known = false
		case v.Kind == volume.KindLUKS && plainID(v.Serial) == plainID(uuid):
			found = append(found, at)
		case v.Kind != volume.KindLUKS && v.Opaque():
			known = false
		}
	}
	return found, known || len(found) > 0
}

// tellsKinds reports whether the evidence tells of every partition what kind of volume it
// holds.
func (d *Drive) tellsKinds() bool {
	c := d.Contents
	if !c.TableKnown() || c.Layout.Open {
		return false
	}
	for i := range c.Volumes {
		v := &c.Volumes[i]
		if v.KindUnseen() || v.Told && (v.Kind == volume.Unknown || v.Kind == "") {
			return false
		}
	}
	return true
}

// tells reports whether the evidence tells a name of every partition: what no partition
// is known to carry is then known to be on none.
func (d *Drive) tells(name func(v *Volume, p disk.Partition) string) bool {
	c := d.Contents
	if !c.TableKnown() || c.Layout.Open {
		return false
	}
	for i, p := range c.Layout.Partitions {
		v := &c.Volumes[i]
		if name(v, p) == "" && (v.Told || v.KindUnseen()) {
			return false
		}
	}
	return true
}

// deviceNames are the kernel's names for the disks of a bus. Linux kernel
// documentation, admin-guide/devices.
var deviceNames = map[string]string{"sata": "sd", "usb": "sd", "scsi": "sd", "ide": "sd", "nvme": "nvme",
	"virtio": "vd", "sd": "mmcblk"}

// ofDisks are the names that the kernel gives to disks and their partitions: others, such as dm-0 or
// bcache0, are made of some that nothing here tells of. The kernel's admin-guide/devices.
var ofDisks = regexp.MustCompile(`^/dev/((sd|hd|vd|xvd)[a-z]+[0-9]*|nvme[0-9]+n[0-9]+(p[0-9]+)?|mmcblk[0-9]+(p[0-9]+)?)$`)

// NamedAs reports whether the kernel gives the drive names such as this one, and whether
// its bus is known, and the name one of a disk.
func (d *Drive) NamedAs(device string) (is, known bool) {
	bus, ok := d.Bus.Get()
	if !ok || !ofDisks.MatchString(device) {
		return false, false
	}
	return strings.HasPrefix(strings.TrimPrefix(device, "/dev/"), deviceNames[bus]), true
}

// byName resolves a device name as far as its bus tells: which of several drives
// of one bus it means is the kernel's order of discovery.
func (d *Drive) byName(name string) (found []Spot, known bool) {
	is, ok := d.NamedAs(name)
	if !ok {
		return nil, false
	}
	if !is {
		return nil, true
	}
	number, err := strconv.Atoi(name[len(strings.TrimRight(name, "0123456789")):])
	if err != nil {
		return nil, false
	}
	indexes, known := d.Numbered(number)
	return d.Places(indexes), known
}

// Places are the partitions of some indexes.
func (d *Drive) Places(indexes []int) (places []Spot) {
	for _, i := range indexes {
		places = append(places, Spot{Drive: d, Index: i})
	}
	return places
}

// Numbered lists the partition with a number. The result is not known where the evidence
// does not tell of every partition.
func (d *Drive) Numbered(number int) (found []int, known bool) {
	found = d.Matching(func(_ int, p disk.Partition) bool { return p.Number == number })
	return found, d.Contents != nil && (len(found) > 0 || d.Contents.TableKnown() && !d.Contents.Layout.Open)
}

// ResolveDevice lists the partitions that a store's device means on a drive. The result
// is not known where the evidence does not tell.
func (d *Drive) ResolveDevice(dev *loader.BCDDevice) (found []int, known bool) {
	found = d.Matching(func(i int, p disk.Partition) bool {
		if dev.MBR {
			mbr := d.Contents.Layout.MBR
			return mbr != nil && mbr.DiskSignature == dev.Signature && uint64(d.Contents.Base(i)) == dev.Start
		}
		return !p.GUID.IsZero() && p.GUID == dev.Partition
	})
	return found, len(found) > 0 || !d.mayCarry(dev.MBR)
}

// MayCarry reports whether the drive may have the partition that a boot entry names, as
// far as the evidence does not tell of all its partitions.
func (d *Drive) MayCarry(node *firmware.PartitionNode) bool { return d.mayCarry(node.MBR) }

func (d *Drive) mayCarry(mbr bool) bool {
	if d.Contents == nil {
		return true
	}
	c := d.Contents
	l := &c.Layout
	switch {
	case l.Style == disk.StyleUnknown:
		return true
	case l.Style == disk.StyleNone:
		return l.Open // a tool knows none where firmware reads one
	case mbr != (l.Style == disk.StyleMBR):
		return false
	case !c.TableKnown() || l.Open:
		return true
	}
	_, told := l.DiskID().Get()
	for i, p := range l.Partitions {
		switch {
		case mbr && (!told || p.Source.Origin == fact.Typed || c.Volumes[i].Told && (p.Unplaced || p.Rough)):
			return true // its numbers, places or identifier are not told
		case !mbr && p.GUID.IsZero():
			return true
		}
	}
	return false
}

// ResolveLetter lists the partitions with a drive letter.
func (d *Drive) ResolveLetter(letter string) []int {
	return d.Matching(func(i int, _ disk.Partition) bool {
		return letter != "" &&
			d.Contents.Volumes[i].Letter == letter
	})
}

// ResolveNode lists the partitions whose signature a boot entry names: of an MBR with their
// number, or with that of the extended partition that they lie in.
func (d *Drive) ResolveNode(node *firmware.PartitionNode) []int {
	return d.Matching(func(_ int, p disk.Partition) bool {
		if node.MBR {
			mbr := d.Contents.Layout.MBR
			return mbr != nil && d.Contents.Layout.Style == disk.StyleMBR && mbr.DiskSignature == node.Signature &&
				(p.Number == int(node.Number) || d.Contents.Extended(p) == int(node.Number) ||
					d.Contents.ExtendedOpen(p) && node.Number <= 4)
		}
		return !p.GUID.IsZero() && p.GUID == node.GUID
	})
}
