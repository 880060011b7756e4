package linux

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// grubPlaces is where GRUB's variables point.
type grubPlaces struct {
	root  machine.Spot
	named map[string]machine.Spot // other variables that a search set
	// fromDefault: paths on a Btrfs begin at its default subvolume.
	fromDefault bool
	// unlocks: GRUB may have opened what is encrypted.
	unlocks bool
	lost    *lostSearch
	core    *loader.GRUBCore
	// nowhere is what the root was set to where that is known not to be there; nil elsewhere.
	nowhere *loader.Spec
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

// grubSearch follows searches: the last that finds something sets its variable. Hints
// are taken only where nothing is searched for.
func grubSearch(k *course.Walk, a *course.Attempt, from machine.Spot, searches []loader.GRUBSearch, to grubPlaces,
	where func(loader.GRUBSearch) machine.Fact) (grubPlaces, *course.Result) {
	searched, hintOpen := false, false
	var hint loader.Spec
	var lost *lostSearch
	for _, s := range searches {
		var facts []machine.Fact
		if where != nil {
			facts = append(facts, where(s))
		}
		switch {
		case s.Hint && !searched:
			hit, ok, known := grubDisk(k, a, from.Drive, deviceOf(s.Spec))
			if hintOpen = !known; hintOpen {
				hint = s.Spec
			}
			if ok {
				to.root = hit
			}
			if to.nowhere = nil; !ok && known && s.Var == "" {
				to.nowhere = &s.Spec
			}
		case s.Hint || s.Spec.Kind == loader.ByFile:
		default:
			searched = true
			hits, known := to.find(k, a, s.Spec)
			switch {
			case len(hits) > 0:
				to = to.with(s.Var, hits[0])
				lost, hintOpen = nil, false
			case !known:
				end := a.Unproven("search-unknown", course.StageConfiguration,
					fmt.Sprintf("GRUB looks for the %s: the evidence does not tell where that is.",
						s.Spec), course.HowCapture, facts...)
				return to, &end
			default:
				lost = &lostSearch{
					fmt.Sprintf("GRUB looks for the %s, which no attached disk carries.", s.Spec),
					facts,
				}
			}
		}
	}
	if hintOpen {
		end := a.Unproven("search-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB goes to the %s: the evidence does not tell what is there.", hint), course.HowCapture)
		return to, &end
	}
	if lost != nil {
		to.lost = lost
	}
	return to, nil
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
		p.root, p.nowhere = at, nil
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

// grubPrefix is the device that GRUB's folder is built in with; without one it is where
// GRUB was started from.
func grubPrefix(k *course.Walk, a *course.Attempt, at machine.Spot, prefix string) (machine.Spot, *course.Result) {
	inside := machine.InsideBrackets(prefix)
	if inside == "" {
		return at, nil
	}
	hit, ok, known := grubDisk(k, a, at.Drive, inside)
	if !known {
		end := a.Unproven("prefix-unknown", course.StageConfiguration,
			fmt.Sprintf("GRUB looks for its folder at %s: the evidence does not tell what is there.", prefix),
			course.HowCapture, at.Drive.CoreFact())
		return at, &end
	}
	if !ok {
		end := a.Stop("prefix-absent", course.StageConfiguration, course.GRUBRescue,
			fmt.Sprintf("GRUB looks for its folder at %s, which does not exist on %s.", prefix, at.Drive.Called()),
			at.Drive.CoreFact())
		return at, &end
	}
	return hit, nil
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
	if drives := k.Drives(); place.Drive >= 0 {
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

// grubVolume resolves a volume that lies in others. What is encrypted cannot be looked
// into.
func grubVolume(k *course.Walk, a *course.Attempt, s loader.Spec) (at machine.Spot, found, known bool) {
	hits, known := find(k, a, s)
	if len(hits) == 0 {
		return machine.Spot{}, false, known
	}
	return hits[0], true, s.Kind != loader.ByContainer
}
