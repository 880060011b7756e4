package repair

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

func attachClone(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if attached, known := d.Attached.Get(); !known || attached {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "attach-clone", Title: "Attach the clone, with its port switched on", Why: "The firmware must see the drive.", Disk: d.Name, Risk: RiskNone, Minutes: 10, Undo: "Take it out again."},
		key:      "attach",
		result:   with(m, d.Name, func(d *machine.Drive) { d.Attached = fact.Known(true, afterRepair) }),
		tools:    map[Toolbox]func() []Command{Firmware: saying("Power off, mains and battery out. Attach the clone. In the firmware's setup switch its port on and look for its model in the list of drives.", "Its model stands in the list.", "Another cable or port.")},
	}}
}

func detachOthers(m machine.Machine, _ course.Stage) []move {
	result, names := m, ""
	for _, d := range m.Drives {
		if attached, known := d.Attached.Get(); d.Role == machine.RoleClone || known && !attached {
			continue
		}
		names += string(d.Role) + " " + d.Name + ", "
		result = with(result, d.Name, func(d *machine.Drive) { d.Attached = fact.Known(false, afterRepair) })
	}
	if names == "" {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "detach-original", Title: "Unplug the original for the first start", Why: "Then only the clone can be started, and no identifier means two disks.", Risk: RiskNone, Minutes: 10, Undo: "Plug it in again."},
		key:      "detach", result: result,
		tools: map[Toolbox]func() []Command{Firmware: saying("Power off, mains and battery out. Unplug every drive but the clone, or switch their ports off in the firmware's setup: "+names[:len(names)-2]+".", "The firmware's list shows the clone alone.", "Look at the models and capacities: the clone stays.")},
	}}
}

// withoutTwin unplugs the other drives, where commands would not tell the clone from one of them.
func withoutTwin(m machine.Machine, stage course.Stage) []move {
	d := clone(m)
	if d.Contents == nil || !hasTwin(m, d, Linux) && !hasTwin(m, d, WindowsRecovery) {
		return nil
	}
	return detachOthers(m, stage)
}

func cloneFirst(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if len(m.DeviceOrder) > 0 && m.DeviceOrder[0] == d.Name {
		return nil
	}
	result := m
	result.DeviceOrder = []string{d.Name}
	for _, name := range m.DeviceOrder {
		if name != d.Name {
			result.DeviceOrder = append(result.DeviceOrder, name)
		}
	}
	if _, told := m.Answers[course.FirstEntry]; told {
		result.Answers = maps.Clone(m.Answers)
		result.Answers[course.FirstEntry] = d.Name
	}
	return []move{{
		PlanStep: PlanStep{Action: "clone-first", Title: "Put the clone first in the boot order", Why: "The firmware starts the first drive that it can.", Risk: RiskNone, Minutes: 5, Undo: "Put the old order back."},
		key:      "first", result: result,
		tools: map[Toolbox]func() []Command{Firmware: saying("In the firmware's setup, under boot: move the clone's entry, by its model and capacity, to the top. Save.", "It stands first after a restart.", "If it is not in the list, the firmware does not see it as startable.")},
	}}
}

func setMode(m machine.Machine, stage course.Stage) []move {
	d := clone(m)
	if d.Contents == nil {
		return nil
	}
	var moves []move
	add := func(to firmware.Mode, words string) {
		now, known := m.Firmware.Mode.Get()
		if known && now == to {
			return
		}
		result := m
		result.Firmware.Mode = fact.Known(to, afterRepair)
		moves = append(moves, move{
			PlanStep: PlanStep{Action: "set-mode", Title: "Set the firmware to " + words + " mode", Why: "Partition style and mode must go together: the clone is " + string(d.Contents.Layout.Style) + ".",
				Risk: RiskNone, Minutes: 5, Undo: "Set the old mode again."},
			key: "mode " + string(to), result: result,
			tools: map[Toolbox]func() []Command{Firmware: saying("In the firmware's setup, under boot: set the mode to "+words+". For legacy mode secure boot must be off and compatibility support on; not every machine has it. Save.", "The setting stands after a restart.", "A machine without compatibility support cannot be set to legacy: take the other plan.")},
		})
	}
	if d.Contents.Layout.Style == disk.StyleGPT {
		add(firmware.UEFI, "UEFI")
	} else if stage == course.StageMode {
		add(firmware.Legacy, "legacy")
	}
	return moves
}

func secureBootOff(m machine.Machine, _ course.Stage) []move {
	if on, known := m.Firmware.SecureBoot.Get(); !isUEFI(m) || known && !on {
		return nil
	}
	result := m
	result.Firmware.SecureBoot = fact.Known(false, afterRepair)
	return []move{{
		PlanStep: PlanStep{Action: "secure-boot-off", Title: "Switch secure boot off", Why: "What is to be started carries no signature that this machine trusts.", Risk: RiskNone, Minutes: 5, Undo: "Switch it on again."},
		key:      "secure", result: result,
		tools: map[Toolbox]func() []Command{Firmware: saying("In the firmware's setup, under security or boot: secure boot off. An encrypted system asks for its recovery key at the next start: have it at hand. Save.", "Off after a restart.", "Some firmware wants a supervisor password set first.")},
	}}
}

// buildIn takes the drive out of its USB enclosure: an ordinary system starts from the way
// it knows.
func buildIn(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if bus, known := d.Bus.Get(); !known || bus != "usb" {
		return nil
	}
	result := m
	for _, o := range m.Drives {
		bus, known := o.Bus.Get()
		if o.Role != machine.RoleOriginal || !known || bus == "usb" {
			continue
		}
		result = with(result, o.Name, func(o *machine.Drive) { o.Attached = fact.Known(false, afterRepair) })
		result = with(result, d.Name, func(d *machine.Drive) { d.Bus = fact.Known(bus, afterRepair) })
		return []move{{
			PlanStep: PlanStep{Action: "build-in", Title: "Build the drive into the machine, in the original's place", Why: "Its system does not start from USB.", Disk: d.Name, Risk: RiskNone, Minutes: 20, Undo: "Put the original back."},
			key:      "build-in", result: result,
			tools: map[Toolbox]func() []Command{Firmware: saying("Power off, mains and battery out. Take the original out, and put the new drive where it was, on the same kind of port ("+strings.ToUpper(bus)+").", "The firmware's list shows the new drive there.", "The new drive does not fit there: it has another plug, and the system may lack a driver for it.")},
		}}
	}
	return nil
}

func controllerBack(m machine.Machine, _ course.Stage) []move {
	now, known := m.Firmware.StorageMode.Get()
	before, had := m.Firmware.StorageModeBefore.Get()
	if !known || !had || now == before {
		return nil
	}
	result := m
	result.Firmware.StorageMode = m.Firmware.StorageModeBefore
	return []move{{
		PlanStep: PlanStep{Action: "controller-back", Title: "Set the storage controller back to " + map[string]string{"ahci": "AHCI", "raid": "RAID"}[before], Why: "The system has a start-up driver for the mode it last ran in.", Risk: RiskNone,
			Minutes: 5, Undo: "Set the new mode again."},
		key: "controller", result: result,
		tools: map[Toolbox]func() []Command{Firmware: saying("In the firmware's setup, under storage: set the controller's mode to what it was. Save.", "The setting stands after a restart.", "It is greyed out: some firmware wants a supervisor password, or secure boot off, first.")},
	}}
}

// addEntry writes a boot entry that leads to the clone's loader, first in the
// order.
func addEntry(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isUEFI(m) || d.Contents == nil {
		return nil
	}
	i := espOf(d.Contents)
	if i < 0 {
		return nil
	}
	list := startable(&d.Contents.Volumes[i], arch(m))
	slices.SortStableFunc(list, func(a, b loader.Found) int { return fallback(a) - fallback(b) })
	var moves []move
	for _, f := range list {
		moves = append(moves, move{
			PlanStep: PlanStep{Action: "add-entry", Title: "Add a boot entry that leads to " + f.Path + " on the clone", Why: "No entry leads there, or another is tried first.", Risk: RiskNone, Minutes: 5, Undo: "Delete the entry again: efibootmgr -b NUMBER -B."},
			key:      "entry", on: d, result: withEntry(m, d.Name, i, f.Path, "Clone"),
			tools: map[Toolbox]func() []Command{
				Firmware: saying(fmt.Sprintf("In the firmware's setup, where it can: add a boot option, file %s on the clone's EFI system partition, and move it to the top. Save.", f.Path), "The option stands first after a restart.", "Not every firmware can: use a live Linux."),
				Linux:    func() []Command { return entryCommands(d, i, f.Path, "") },
			},
		})
	}
	return likeliest(moves)
}

// fallback is 1 for a loader in the folder of the fallback path, else 0. UEFI 2.10, 3.5.1.1.
func fallback(f loader.Found) int {
	if strings.HasPrefix(strings.ToUpper(f.Path), `\EFI\BOOT\`) {
		return 1
	}
	return 0
}

// entryFirst moves the boot entries that lead to the clone to the front of the
// order, one at a time.
func entryFirst(m machine.Machine, _ course.Stage) []move {
	d, entries := clone(m), m.Firmware.Entries
	if !isUEFI(m) || d.Contents == nil || entries == nil {
		return nil
	}
	var moves []move
	for i, n := range entries.Order {
		e, ok := entries.All[n]
		if !ok || i == 0 && e.Active || !leadsTo(e, d) {
			continue
		}
		order := append([]uint16{n}, entries.Order[:i]...)
		order = append(order, entries.Order[i+1:]...)
		e.Active = true
		changed := &firmware.Entries{All: maps.Clone(entries.All), Order: order, Next: entries.Next,
			Menu: entries.Menu, Keys: entries.Keys}
		changed.All[n] = e
		result := m
		result.Firmware.Entries = changed
		moves = append(moves, move{
			PlanStep: PlanStep{Action: "entry-first", Title: fmt.Sprintf("Move the boot entry %04X (%s) to the front of the boot order", n, e.Description), Why: "It leads to the clone, and another is tried first.", Risk: RiskNone,
				Minutes: 3, Save: "Nothing on a disk: note the order as it is.", Undo: "Move it back: the order was " + hexes(entries.Order) + "."},
			key: fmt.Sprintf("entry-first %04X", n), result: result,
			tools: map[Toolbox]func() []Command{
				Firmware: saying(fmt.Sprintf("In the firmware's setup, under boot: move the entry %s to the top. Save.", e.Description), "It stands first after a restart.", "There are two of that name: take the live Linux, which tells them apart."),
				Linux:    func() []Command { return orderCommands(e, order) },
			},
		})
	}
	return moves
}

// leadsTo reports whether an entry names a partition of a drive by its GUID or the
// disk's signature.
func leadsTo(e firmware.Entry, d *machine.Drive) bool {
	node, l := e.Path.Partition, &d.Contents.Layout
	if node == nil {
		return false
	}
	for _, p := range l.Partitions {
		if !node.MBR && p.GUID == node.GUID || node.MBR && l.MBR != nil && l.MBR.DiskSignature == node.Signature &&
			p.Number == int(node.Number) {
			return true
		}
	}
	return false
}

// withEntry puts an entry for a program first in the order.
func withEntry(m machine.Machine, drive string, i int, path, name string) machine.Machine {
	var p disk.Partition
	var l *disk.Layout
	for _, d := range m.Drives {
		if d.Name == drive {
			l, p = &d.Contents.Layout, d.Contents.Layout.Partitions[i]
		}
	}
	node := &firmware.PartitionNode{Number: uint32(p.Number), Start: p.Start, Size: p.Length, GUID: p.GUID}
	if l.Style == disk.StyleMBR {
		node.MBR, node.Signature = true, l.MBR.DiskSignature
	}
	entries := &firmware.Entries{All: map[uint16]firmware.Entry{}}
	if old := m.Firmware.Entries; old != nil {
		maps.Copy(entries.All, old.All)
		entries.Order, entries.Menu, entries.Keys = append(entries.Order, old.Order...), old.Menu, old.Keys
	}
	number := uint16(0)
	for ; ; number++ {
		if _, taken := entries.All[number]; !taken {
			break
		}
	}
	entries.All[number] = firmware.Entry{Number: number, Description: name, Active: true, Text: node.String() + "/File(" +
		path + ")",
		Path: firmware.Path{Partition: node, File: path}, Source: afterRepair}
	entries.Order = append([]uint16{number}, entries.Order...)
	m.Firmware.Entries = entries
	return m
}
