package linux

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// grubRoot is where GRUB's root points.
type grubRoot struct {
	root machine.Spot
	// nowhere is what the root was set to where that is known not to be there; nil elsewhere.
	nowhere *loader.Spec
	// open is what the root was set to of which the evidence does not tell; nil elsewhere.
	open *loader.Spec
}

// grubHome is where GRUB's folder lies.
type grubHome struct {
	grubRoot
	folder string // as it is written, with its device
}

// grubPlaces is where GRUB's variables point.
type grubPlaces struct {
	grubRoot
	home  grubHome
	named map[string]machine.Spot // other variables that a search set
	// fromDefault: paths on a Btrfs begin at its default subvolume.
	fromDefault bool
	// unlocks: GRUB may have opened what is encrypted.
	unlocks bool
	lost    *lostSearch
	core    *loader.GRUBCore
}

// of is the place that a path begins at: a variable's, else the root.
func (p grubPlaces) of(path string) machine.Spot {
	if at, ok := p.variable(path); ok {
		return at
	}
	return p.root
}

func (p grubPlaces) fromVariable(path string) bool {
	_, ok := p.variable(path)
	return ok
}

// variable is the place of the variable that a path begins with.
func (p grubPlaces) variable(path string) (at machine.Spot, ok bool) {
	inner, ok := strings.CutPrefix(path, "($")
	if !ok {
		return at, false
	}
	name, _, _ := strings.Cut(inner, ")")
	at, ok = p.named[name]
	return at, ok
}

// follows takes over what a configuration does.
func (p *grubPlaces) follows(c *loader.GRUBConfig) {
	p.fromDefault = p.fromDefault || c.FromDefault
	p.unlocks = p.unlocks || c.Unlocks || c.Cut
}

// find settles which volume GRUB finds by a name. It sees nothing of what is encrypted unless
// it was told to open it. GNU GRUB Manual 2.06, "cryptomount".
func (p grubPlaces) find(k *course.Walk, a *course.Attempt, s loader.Spec) (hits []machine.Spot, known bool) {
	if p.unlocks || s.Kind == loader.ByDevice {
		return find(k, a, s)
	}
	return k.Choose(a, s.String(), func(d *machine.Drive) ([]machine.Spot, bool) {
		found, known := d.Resolve(s)
		if len(found) == 0 && !known {
			found, known = d.Unopened().Resolve(s)
		}
		return found, known
	})
}

// grubSearch follows what moves GRUB's root and other variables, in order: a device that is set
// is taken as it is, a search changes its variable where it finds something.
func grubSearch(k *course.Walk, a *course.Attempt, from machine.Spot, searches []loader.GRUBSearch, to grubPlaces,
	where func(loader.GRUBSearch) machine.Fact) (grubPlaces, *course.Result) {
	for _, s := range searches {
		var facts []machine.Fact
		if where != nil {
			facts = append(facts, where(s))
		}
		next, known := to, true
		if s.Device {
			next = to.set(k, a, from, s.Spec)
		} else {
			next, known = to.searched(k, a, s, facts)
		}
		if !known || s.Maybe && !next.same(to) {
			end := a.Unproven("search-unknown", course.StageConfiguration,
				fmt.Sprintf("GRUB looks for the %s: the evidence does not tell where that is.", s.Spec), course.HowCapture, facts...)
			return to, &end
		}
		to = next
	}
	return to, nil
}

// set is the places with the root at a device.
func (p grubPlaces) set(k *course.Walk, a *course.Attempt, from machine.Spot, device loader.Spec) grubPlaces {
	hit, ok, known := grubDisk(k, a, from.Drive, deviceOf(device))
	p.lost = nil
	switch {
	case ok:
		p.grubRoot = grubRoot{root: hit}
	case known:
		p.nowhere, p.open = &device, nil
	default:
		p.nowhere, p.open = nil, &device
	}
	return p
}

// searched is the places after a search, and whether the evidence tells what it finds.
func (p grubPlaces) searched(k *course.Walk, a *course.Attempt, s loader.GRUBSearch,
	facts []machine.Fact) (after grubPlaces, known bool) {
	hits, known := p.find(k, a, s.Spec)
	switch {
	case len(hits) > 0:
		p = p.with(s.Var, hits[0])
		p.lost = nil
	case known:
		p.lost = &lostSearch{fmt.Sprintf("GRUB looks for the %s, which no attached disk carries.", s.Spec), facts}
	default:
		return p, false
	}
	return p, true
}

// same reports whether all variables point where those of others do.
func (p grubPlaces) same(o grubPlaces) bool {
	return p.grubRoot == o.grubRoot && maps.Equal(p.named, o.named)
}

// deviceOf is a device as GRUB writes it.
func deviceOf(s loader.Spec) string {
	switch s.Kind {
	case loader.ByMapped:
		return "lvm/" + s.Value
	case loader.ByLogical:
		return "lvmid/" + s.Value
	case loader.ByArray:
		return "mduuid/" + s.Value
	case loader.ByContainer:
		return "cryptouuid/" + s.Value
	}
	return s.Value
}

// with is the places with a variable set; no name is the root.
func (p grubPlaces) with(name string, at machine.Spot) grubPlaces {
	if name == "" {
		p.grubRoot = grubRoot{root: at}
		return p
	}
	named := map[string]machine.Spot{name: at}
	for n, s := range p.named {
		if n != name {
			named[n] = s
		}
	}
	p.named = named
	return p
}

// rooted is where GRUB's root points when it begins: at the device that is built in with its
// folder, else where it was started from. GNU GRUB Manual 2.06, "root".
func rooted(k *course.Walk, a *course.Attempt, at machine.Spot, prefix string) grubPlaces {
	to := grubPlaces{grubRoot: grubRoot{root: at}}
	if inside := machine.InsideBrackets(prefix); inside != "" {
		to = to.set(k, a, at, deviceSpec(inside))
	}
	return to
}

// deviceSpec is a device as GRUB writes it, whatever it is.
func deviceSpec(inside string) loader.Spec {
	if s, ok := loader.GRUBDevice(inside); ok {
		return s
	}
	return loader.Spec{Kind: loader.ByGRUBDisk, Value: inside}
}

// homed is the places after a configuration has set where GRUB's folder lies; "" is that it has not.
func (p grubPlaces) homed(k *course.Walk, a *course.Attempt, from machine.Spot, prefix string) grubPlaces {
	switch inside := machine.InsideBrackets(prefix); {
	case prefix == "":
	case inside != "":
		p.home = grubHome{p.set(k, a, from, deviceSpec(inside)).grubRoot, prefix}
	case p.fromVariable(prefix):
		p.home = grubHome{grubRoot{root: p.of(prefix)}, prefix}
	default:
		p.home = grubHome{p.grubRoot, prefix}
	}
	return p
}

// foldered ends where GRUB's folder is known not to be there, or not known.
func (p grubPlaces) foldered(a *course.Attempt, at machine.Spot, prefix string) *course.Result {
	var end course.Result
	switch {
	case p.open != nil:
		end = a.Unproven("prefix-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB looks for its folder at %s: the evidence does not tell what is there.", prefix),
			course.HowCapture, at.Drive.CoreFact())
	case p.nowhere != nil:
		end = a.Stop("prefix-absent", course.StageConfiguration, course.GRUBRescue,
			fmt.Sprintf("GRUB looks for its folder at %s, which does not exist on %s.", prefix, at.Drive.Called()),
			at.Drive.CoreFact())
	default:
		return nil
	}
	return &end
}

// grubDisk resolves a device in GRUB's words: a disk number, without a drive that which
// GRUB was started from, with one the drives in the firmware's order; or a logical volume,
// a RAID, an encrypted volume. The result is not known where the evidence does not tell.
func grubDisk(k *course.Walk, a *course.Attempt, from *machine.Drive, name string) (at machine.Spot, found,
	known bool) {
	spec, ok := loader.GRUBDevice(name)
	if !ok { // such as the memory disk of a GRUB that holds its own folder
		return machine.Spot{}, false, false
	}
	if spec.Kind != loader.ByGRUBDisk {
		return grubVolume(k, a, spec)
	}
	place, ok := loader.GRUBPartition(spec.Value)
	if !ok { // such as a whole disk, or a partition within another one
		return machine.Spot{}, false, false
	}
	d := from
	if drives := grubDrives(k, place.Drive); place.Drive >= 0 {
		if place.Drive >= len(drives) {
			return machine.Spot{}, false, true
		}
		d = drives[place.Drive]
	}
	on, known := d.ByGRUB(place)
	if len(on) == 0 {
		return machine.Spot{}, false, known
	}
	return machine.Spot{Drive: d, Index: on[0]}, true, true
}

// grubDrives are the drives as GRUB counts them: in the legacy firmware's order, under UEFI by
// their device paths. Those of drives on one kind of port go by its number; which of others is
// the first is not in evidence. GNU GRUB's disk/efi/efidisk.c, seen in a real GRUB (package truth,
// the searches at random).
func grubDrives(k *course.Walk, number int) []*machine.Drive {
	if number < 0 {
		return nil
	}
	drives := k.Drives()
	if k.Mode() != firmware.UEFI || len(drives) < 2 {
		return drives
	}
	port := func(d *machine.Drive) (n int, known bool) {
		bus, _ := d.Bus.Get()
		n, known = d.Port.Get()
		return n, known && bus == "sata"
	}
	if !slices.ContainsFunc(drives, func(d *machine.Drive) bool { _, known := port(d); return !known }) {
		drives = slices.Clone(drives)
		slices.SortStableFunc(drives, func(x, y *machine.Drive) int {
			m, _ := port(x)
			n, _ := port(y)
			return m - n
		})
		return drives
	}
	q := course.Question{ID: "grub-first", Stage: course.StageConfiguration, Text: "Which drive does GRUB call hd0?",
		How: "At GRUB's prompt: ls (hd0,gpt1)/ lists the files of its first partition. Or pull the original for the first start: then there is only one."}
	return k.AskDrive(q, drives)
}

// grubVolume resolves a volume that lies in others. What is encrypted cannot be looked
// into.
func grubVolume(k *course.Walk, a *course.Attempt, s loader.Spec) (at machine.Spot, found, known bool) {
	hits, known := find(k, a, s)
	if len(hits) == 0 {
		return machine.Spot{}, false, known
	}
	return hits[0], true, s.Kind != loader.ByContainer
}

// elsewhere sets the root to the device in front of a path.
func elsewhere(k *course.Walk, a *course.Attempt, from machine.Spot, to *grubPlaces, name string) *course.Result {
	var end course.Result
	inside := machine.InsideBrackets(name)
	switch {
	case strings.HasPrefix(name, "()"):
		end = a.Unproven("search-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB goes to %s by a variable, and what sets it is not in evidence.", machine.AfterBrackets(name)), course.HowTry)
		return &end
	case inside != "":
		to.grubRoot = to.set(k, a, from, deviceSpec(inside)).grubRoot
	case to.fromVariable(name):
		to.grubRoot = grubRoot{root: to.of(name)}
	}
	switch {
	case to.open != nil:
		end = a.Unproven("search-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB goes to the %s: the evidence does not tell what is there.", to.open), course.HowCapture)
	case to.nowhere != nil && inside != "":
		end = a.Stop("prefix-absent", course.StageConfiguration, course.GRUBPrompt,
			fmt.Sprintf("GRUB goes to %s, which does not exist.", name))
	case to.nowhere != nil:
		end = a.Stop("root-set-nowhere", course.StageConfiguration, course.GRUBNoKernel,
			fmt.Sprintf("GRUB's root is set to the %s, which does not exist: %s is not found.", *to.nowhere, name))
	default:
		return nil
	}
	return &end
}
