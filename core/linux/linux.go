// Package linux follows a start behind the boot loader of a Linux: shim, GRUB's
// menu, Boot Loader Specification entries, the kernel, its root and its initial
// RAM disk. start-rules, stages 7 and 8.
package linux

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// find settles which volume a name means among the attached drives. A device's name says
// which of several disks of a bus it is only by the order in which the kernel finds them.
func find(k *course.Walk, a *course.Attempt, s loader.Spec) (hits []machine.Spot, known bool) {
	if s.Kind == loader.ByDevice {
		return findDevice(k, s)
	}
	return k.Choose(a, s.String(), func(d *machine.Drive) ([]machine.Spot, bool) { return d.Resolve(s) })
}

// findDevice resolves a device's name: known where one attached drive alone can have
// names such as this, and the name is that of the first. The kernel's
// admin-guide/devices.
func findDevice(k *course.Walk, s loader.Spec) (hits []machine.Spot, known bool) {
	var such []*machine.Drive
	for _, d := range k.Drives() {
		is, ok := d.NamedAs(s.Value)
		if !ok {
			return nil, false
		}
		if is {
			such = append(such, d)
		}
	}
	switch {
	case len(such) == 0:
		return nil, true
	case len(such) > 1 || !loader.FirstDevice(s.Value):
		return nil, false
	}
	return such[0].Resolve(s)
}

// kernelLine is what a loader gives to the kernel.
type kernelLine struct {
	linux   string
	initrds []string
	options string
	root    *loader.Spec
	cited   machine.Fact
	lost    *lostSearch    // a search that found nothing before
	gone    course.Symptom // what shows when one of the files is not there; GRUB's words by default
	bare    bool           // no initial RAM disk is given to the kernel
	hollow  *hollow        // what it is given as one, and holds nothing; nil for none
	drivers *drivers       // those in what it is given as initial RAM disks; nil for none
	lies    machine.Spot   // where the kernel lies; the zero Spot for one that is part of a program
}

// drivers are those of drives in the initial RAM disks that a kernel is given, and where they are seen.
type drivers struct {
	held  loader.Drivers
	facts []machine.Fact
}

// hollow is an initial RAM disk that is there by its name, and that a kernel can take nothing from.
type hollow struct {
	text string
	fact machine.Fact
}

// unread says that a file is not in evidence, or what keeps it from being read, and what to do.
func unread(v *machine.Volume, name, called string) (text, how string) {
	if err := v.Damage(name); err != nil {
		return fmt.Sprintf("%s cannot be read: %v.", called, err), course.HowCheck
	}
	return called + " is not in evidence.", course.HowCapture
}

// unfound is what shows when the root is not found.
func (l kernelLine) unfound() course.Symptom {
	if l.bare {
		return course.RootPanic
	}
	return course.RootWait
}

// unmounted is what shows when the root is found and cannot be mounted.
func (l kernelLine) unmounted() course.Symptom {
	if l.bare {
		return course.RootPanic
	}
	return course.RootRefused
}

// driverOf is what has to have the driver of the root's bus.
func (l kernelLine) driverOf() string {
	if l.bare {
		return "the kernel itself"
	}
	return "the initial RAM disk"
}

// lostSearch is a search of GRUB's that found nothing. GRUB says so and goes on
// with the root that it had, as real machines show (package truth).
type lostSearch struct {
	text  string
	facts []machine.Fact
}

// or is why the start stops when something is missing: the search that found
// nothing, where there was one.
func (l *lostSearch) or(text string, facts ...machine.Fact) (string, []machine.Fact) {
	if l == nil {
		return text, facts
	}
	return l.text, append(l.facts, facts...)
}

// openAt ends a start that the evidence, or what is known here, does not tell the end of, in a system that was found.
func openAt(a *course.Attempt, home machine.Spot, r course.Rule, s course.Stage, text, how string,
	facts ...machine.Fact) *course.Result {
	end := a.Unproven(r, s, text, how, facts...)
	end.Home = home
	return &end
}
