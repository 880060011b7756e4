package windows

import (
	"fmt"
	"sort"
	"strings"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// What the registry of the system that is started says of its disk.

// cite is a fact of the registry.
func cite(home machine.Spot, label, value string, offset int64) machine.Fact {
	s := fact.Source{Origin: fact.Bytes, Structure: machine.SystemHive, Field: label}
	if offset >= 0 {
		s.Offset, s.Length = home.Base()+offset, 4
	}
	return home.Drive.Cite(label, value, s)
}

// driver asks whether the system has a driver for the way to its disk that the boot
// loader loads: the registry tells, where it was read. start-rules, stage 8.
func driver(k *course.Walk, a *course.Attempt, home machine.Spot) (facts []machine.Fact, ok bool) {
	d, hive := home.Drive, home.Volume().System
	way, changed := k.NewWay(d)
	services := ServicesOf(k.Machine, d)
	told := k.World.Answers["driver:"+d.Name] != ""
	if !changed || hive == nil || services == nil || told || hive.Portable {
		return nil, k.Driver(a, home, course.Windows, course.NoBootDriver)
	}
	open := hive.Dirty // what Windows' log still holds may say otherwise
	for _, name := range services {
		s, there := hive.Services[name]
		if !there {
			continue
		}
		value := fmt.Sprintf("%d, %s", s.Start, startType(s.Start))
		if s.Override != 0 {
			value += fmt.Sprintf(", but StartOverride %d", s.Override)
		}
		fact := cite(home, "Start of "+name, value, s.Offset)
		if s.AtStart() {
			return []machine.Fact{fact}, true
		}
		facts = append(facts, fact)
		open = open || s.Start == 0
	}
	// Behind other controllers drivers of many names may serve: that none of the known ones
	// loads proves nothing there.
	if kind := kindOf(k.Machine, d); open || kind != "nvme" && kind != "usb" {
		return facts, k.Driver(a, home, course.Windows, course.NoBootDriver)
	}
	if len(facts) == 0 {
		facts = []machine.Fact{cite(home, hive.Control+", Services", "none of "+strings.Join(services, ", "), -1)}
	}
	a.Stop("no-driver", course.StageSystem, course.NoBootDriver,
		fmt.Sprintf("Windows on %s has no driver for %s that the boot loader loads: its registry says so.", d.Called(), way), facts...)
	return nil, false
}

// ServicesOf are the drivers of Windows for what a drive hangs on; none where that is not
// known.
func ServicesOf(m machine.Machine, d *machine.Drive) []string {
	return loader.StorageServices[kindOf(m, d)]
}

// MayServe are the drivers of Windows of which one serves a drive, as far as it is known what it hangs on.
func MayServe(m machine.Machine, d *machine.Drive) []string {
	if services := ServicesOf(m, d); services != nil {
		return services
	}
	kinds := []string{"ahci", "ide", "raid"} // of SATA
	if _, known := d.Bus.Get(); !known {
		kinds = append(kinds, "nvme")
	}
	var all []string
	for _, kind := range kinds {
		all = append(all, loader.StorageServices[kind]...)
	}
	return all
}

// kindOf is what the drive hangs on as StorageServices calls it; "" where that is not
// known.
func kindOf(m machine.Machine, d *machine.Drive) string {
	mode, known := m.Firmware.StorageMode.Get()
	switch bus, ok := d.Bus.Get(); {
	case known && (mode == "raid" || mode == "ahci" && bus != "nvme" && bus != "usb"):
		return mode
	case !ok:
		return ""
	case bus == "sata" && !known:
		return "" // AHCI, IDE or RAID
	default:
		return bus
	}
}

func startType(n uint32) string {
	names := []string{"loaded by the boot loader", "loaded when the system starts", "loaded with the services", "loaded on demand", "never loaded"}
	if int(n) < len(names) {
		return names[n]
	}
	return "not known"
}

// letter asks where the letter C: leads that the registry remembers: on another attached
// disk than the system's, Windows comes up with half of itself there. One that leads
// nowhere is given anew. Common practice, no source.
func letter(k *course.Walk, a *course.Attempt, home machine.Spot) *course.Result {
	hive := home.Volume().System
	if hive == nil {
		return nil
	}
	c, ok := hive.Letters["C:"]
	if !ok {
		return nil
	}
	var elsewhere []string
	for _, d := range k.Drives() {
		found, _ := d.ResolveDevice(&c.BCDDevice)
		for _, i := range found {
			if d == home.Drive && i == home.Index {
				return nil
			}
			at := machine.Spot{Drive: d, Index: i}
			elsewhere = append(elsewhere, at.Called())
		}
	}
	if len(elsewhere) == 0 {
		return nil
	}
	sort.Strings(elsewhere)
	end := a.Stop("letter-elsewhere", course.StageSystem, course.WrongLetter,
		fmt.Sprintf("Windows gives the letter C: to %s, and %s another: it comes up with half of itself there, or stays at an empty desktop.", elsewhere[0], home.Called()),
		cite(home, `\DosDevices\C:`, c.BCDDevice.String(), c.Offset))
	end.Home = home
	return &end
}
