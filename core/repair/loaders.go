package repair

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// windowsOn returns the partition of a Windows system.
func windowsOn(d *machine.Drive) (int, bool) {
	if d.Contents != nil {
		for i := range d.Contents.Volumes {
			if d.Contents.Volumes[i].HasWindows() && !d.Contents.Lost(d.Contents.Layout.Partitions[i]) {
				return i, true
			}
		}
	}
	return 0, false
}

// encrypted reports whether the system's partition is.
func encrypted(d *machine.Drive) bool {
	i, ok := windowsOn(d)
	return ok && d.Contents.Volumes[i].Kind == volume.KindBitLocker
}

// linuxOn returns the partition of a Linux system; one that holds kernels alone
// only when there is no root.
func linuxOn(d *machine.Drive) (int, bool) {
	if d.Contents == nil {
		return 0, false
	}
	for _, is := range []func(*machine.Volume) bool{(*machine.Volume).HasLinuxRoot, (*machine.Volume).HasLinux} {
		for i := range d.Contents.Volumes {
			if is(&d.Contents.Volumes[i]) {
				return i, true
			}
		}
	}
	return 0, false
}

// bootOf returns the partition that boot files belong on under the firmware's
// mode; -1 when there is none that is fit for them.
func bootOf(m machine.Machine, c *machine.Contents) int {
	if isUEFI(m) {
		if i := espOf(c); i >= 0 && c.Volumes[i].IsFAT() {
			return i
		}
		return -1
	}
	for i, p := range c.Layout.Partitions {
		if p.Active && c.Layout.Style == disk.StyleMBR {
			return i
		}
	}
	return -1
}

// windowsPlace is where Windows' boot files belong on the clone, where its system
// lies, and the mode that they are for.
func windowsPlace(m machine.Machine) (boot, system int, mode firmware.Mode, ok bool) {
	d := clone(m)
	system, ok = windowsOn(d)
	mode, known := m.Firmware.Mode.Get()
	if !ok || !known {
		return 0, 0, "", false
	}
	if mode == firmware.UEFICSM {
		mode = firmware.UEFI
	}
	boot = bootOf(m, d.Contents)
	return boot, system, mode, boot >= 0
}

// windowsFiles puts Windows' boot files back, with a store that names the clone.
func windowsFiles(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	boot, system, mode, ok := windowsPlace(m)
	if !ok {
		return nil
	}
	var saves []Sectors
	if mode == firmware.Legacy {
		saves = []Sectors{{0, 1}, bootSectors(d.Contents, d.Contents.Layout.Partitions[boot])}
	}
	changed := d.Contents.WithWindowsFiles(boot, system, mode, arch(m))
	mv := onDisk(m, PlanStep{Action: "windows-boot-files", Title: "Put Windows' boot files and boot configuration in place anew", Why: "Manager and store are made from the system on the clone, and name its own partition.", Risk: RiskLow, Minutes: 10, Saves: saves, Save: "The old store: the commands keep it as BCD.bak.", Undo: "Move BCD.bak back over BCD."},
		"windows-files", changed, map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return windowsFilesCommands(d, boot, system, mode) }})
	if mode == firmware.UEFI { // the tool writes a boot entry too
		mv.result = withEntry(mv.result, d.Name, boot, loader.WindowsPath, "Windows Boot Manager")
	}
	return []move{mv}
}

// windowsReferences points the store that is there at the system on the clone.
func windowsReferences(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	boot, system, mode, ok := windowsPlace(m)
	if !ok {
		return nil
	}
	if store, ok := d.Contents.StoreOn(boot, mode); !ok || store.Dirty {
		return nil
	} else if of, ok := store.Default(); !ok || !of.IsLoader() {
		return nil
	}
	return []move{onDisk(m, PlanStep{Action: "windows-references", Title: "Point the boot configuration at the system on the clone", Why: "The store looks for the system on a partition that the clone does not have.", Risk: RiskLow, Minutes: 5, Save: "The old store: the commands keep it as BCD.bak.", Undo: "Copy BCD.bak back over BCD."},
		"references", d.Contents.WithStoreReferences(boot, system, mode), map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return referencesCommands(d, boot, system, mode) }})}
}

// linuxFiles installs GRUB anew from the system on the clone.
func linuxFiles(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	root, ok := linuxOn(d)
	if !ok {
		return nil
	}
	boot := -1
	switch {
	case isUEFI(m):
		if boot = bootOf(m, d.Contents); boot < 0 {
			return nil
		}
	case d.Contents.Layout.MBR == nil, !embeds(d.Contents):
		return nil
	}
	var saves []Sectors
	save, undo := "The old programs, menu and mount table: the commands copy them.", "Copy them back: the old programs lie in the folder you were in, the mount table beside the new one as fstab.bak."
	if boot < 0 {
		undo = "Write the saved sectors back; the old mount table is kept as fstab.bak, the menu as grub.cfg.bak."
		saves = embedded(d.Contents)
	}
	mv := onDisk(m, PlanStep{Action: "linux-boot-files", Title: "Install GRUB anew from the system on the clone", Why: "Loader and configuration are made anew, with the clone's own identifiers.", Risk: RiskLow, Minutes: 15, Saves: saves, Save: save, Undo: undo},
		"linux-files", d.Contents.WithGRUB(boot, root, arch(m)), map[Toolbox]func() []Command{Linux: func() []Command { return linuxFilesCommands(d, boot, root, arch(m)) }})
	if boot >= 0 {
		mv.result = withEntry(mv.result, d.Name, boot, loader.DebianPath(arch(m)), "debian")
	}
	return []move{mv}
}

// linuxNames corrects what names file systems, and leaves the loader as it is.
func linuxNames(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	root, ok := linuxOn(d)
	if !ok {
		return nil
	}
	boot := espOf(d.Contents)
	return []move{onDisk(m, PlanStep{Action: "linux-names", Title: "Let configuration and mount table name the clone's own file systems", Why: "They name file systems that no attached disk carries.", Risk: RiskLow, Minutes: 10, Save: "The old files: the commands keep them as .bak.", Undo: "Move the files ending in .bak back over the new ones."},
		"linux-names", d.Contents.WithLinuxNames(boot, root), map[Toolbox]func() []Command{Linux: func() []Command { return linuxNamesCommands(d, boot, root) }})}
}

// fallbackPath copies a loader to where firmware looks by itself.
func fallbackPath(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isUEFI(m) || d.Contents == nil {
		return nil
	}
	i := espOf(d.Contents)
	if i < 0 || !d.Contents.Volumes[i].IsFAT() {
		return nil
	}
	path := loader.FallbackPath(arch(m))
	for _, f := range d.Contents.Volumes[i].Loaders {
		if f.Err != nil || f.Program.Arch != arch(m) || !f.Program.Application() || strings.EqualFold(f.Path, path) {
			continue
		}
		return []move{onDisk(m, PlanStep{Action: "fallback-path", Title: "Copy " + f.Path + " to " + path, Why: "The firmware looks there without an entry.", Risk: RiskLow, Minutes: 5, Save: "What stands at that path: the commands keep it as .bak.", Undo: "Delete the copy, and give the one ending in .bak its name back."},
			"fallback", d.Contents.WithProgram(i, path, f.Program), map[Toolbox]func() []Command{
				WindowsRecovery: func() []Command { return fallbackDiskpart(d, i, f.Path, path) }, Linux: func() []Command { return fallbackCommands(d, i, f.Path, path) }})}
	}
	return nil
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
	for _, f := range d.Contents.Volumes[i].Loaders {
		if f.Err != nil || f.Program.Arch != arch(m) || !f.Program.Application() {
			continue
		}
		return []move{{
			PlanStep: PlanStep{Action: "add-entry", Title: "Add a boot entry that leads to " + f.Path + " on the clone", Why: "No entry leads there, or another is tried first.", Risk: RiskNone, Minutes: 5, Undo: "Delete the entry again: efibootmgr -b NUMBER -B."},
			key:      "entry", on: d, result: withEntry(m, d.Name, i, f.Path, "Clone"),
			tools: map[Toolbox]func() []Command{
				Firmware: saying(fmt.Sprintf("In the firmware's setup, where it can: add a boot option, file %s on the clone's EFI system partition, and move it to the top. Save.", f.Path), "The option stands first after a restart.", "Not every firmware can: use a live Linux."),
				Linux:    func() []Command { return entryCommands(d, i, f.Path) },
			},
		}}
	}
	return nil
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
		changed := &firmware.Entries{All: maps.Clone(entries.All), Order: order, Next: entries.Next}
		changed.All[n] = e
		result := m
		result.Firmware.Entries = changed
		moves = append(moves, move{
			PlanStep: PlanStep{Action: "entry-first", Title: fmt.Sprintf("Move the boot entry %04X (%s) to the front of the boot order", n, e.Description), Why: "It leads to the clone, and another is tried first.", Risk: RiskNone, Minutes: 3, Save: "Nothing on a disk: note the order as it is.", Undo: "Move it back: the order was " + hexes(entries.Order) + "."},
			key:      fmt.Sprintf("entry-first %04X", n), result: result,
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
		if !node.MBR && p.GUID == node.GUID || node.MBR && l.MBR != nil && l.MBR.DiskSignature == node.Signature && p.Number == int(node.Number) {
			return true
		}
	}
	return false
}

func hexes(order []uint16) string {
	var numbers []string
	for _, n := range order {
		numbers = append(numbers, fmt.Sprintf("%04X", n))
	}
	return strings.Join(numbers, ",")
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
		entries.Order = append(entries.Order, old.Order...)
	}
	number := uint16(0)
	for ; ; number++ {
		if _, taken := entries.All[number]; !taken {
			break
		}
	}
	entries.All[number] = firmware.Entry{Number: number, Description: name, Active: true, Text: node.String() + "/File(" + path + ")",
		Path: firmware.Path{Partition: node, File: path}, Source: told}
	entries.Order = append([]uint16{number}, entries.Order...)
	m.Firmware.Entries = entries
	return m
}

// convertToGPT changes the style in place. Its maker documents what it needs: at
// most three primary partitions, no logical one, room for the tables.
func convertToGPT(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isUEFI(m) || d.Contents == nil || d.Contents.Layout.Style != disk.StyleMBR {
		return nil
	}
	system, ok := windowsOn(d)
	if !ok || len(d.Contents.Layout.Partitions) > 3 {
		return nil
	}
	for _, p := range d.Contents.Layout.Partitions {
		if p.Logical {
			return nil
		}
	}
	length := uint64(espMiB<<20) / uint64(d.Contents.Layout.SectorSize)
	start, shrunk, ok := roomAtEnd(d.Contents, length)
	if gap, free := freeGap(d.Contents, length); free {
		start, shrunk, ok = gap, -1, true
	}
	if !ok {
		return nil
	}
	changed, boot := d.Contents.WithGPT(start, length, shrunk)
	changed = changed.WithWindowsFiles(boot, system, firmware.UEFI, arch(m))
	mv := onDisk(m, PlanStep{Action: "convert-to-gpt", Title: "Convert the clone from MBR to GPT in place", Why: "The firmware is in UEFI mode, which wants GPT with an EFI system partition.", Risk: RiskReal, Minutes: 20, Saves: gptSectors(d.Contents, 0), Save: dataCopy, Undo: "None but the copy of the disk: copy again from the original."},
		"convert", changed, map[Toolbox]func() []Command{WindowsRecovery: convertCommands})
	mv.alone = true
	mv.result = withEntry(mv.result, d.Name, boot, loader.WindowsPath, "Windows Boot Manager")
	return []move{mv}
}

// embeds reports whether GRUB's core image has a place on a disk: a BIOS boot
// partition on a GPT, room before the first partition on an MBR. GRUB manual,
// section "BIOS installation".
func embeds(c *machine.Contents) bool {
	if c.Layout.Style != disk.StyleGPT {
		return gapAfterTable(c) >= 256
	}
	return slices.ContainsFunc(c.Layout.Partitions, func(p disk.Partition) bool { return p.TypeGUID == disk.TypeBIOSBoot })
}

// embedded are the sectors that GRUB's boot code and core image take.
func embedded(c *machine.Contents) []Sectors {
	for _, p := range c.Layout.Partitions {
		if c.Layout.Style == disk.StyleGPT && p.TypeGUID == disk.TypeBIOSBoot {
			return []Sectors{{0, 1}, {p.Start, p.Length}}
		}
	}
	return []Sectors{{0, gapAfterTable(c)}}
}

// gapAfterTable is how many sectors lie before the first partition, sector 0 among
// them: GRUB's core image goes there.
func gapAfterTable(c *machine.Contents) uint64 {
	gap := uint64(2048)
	for _, p := range c.Layout.Partitions {
		gap = min(gap, p.Start)
	}
	return gap
}

// freeGap finds room for sectors between and behind the partitions, aligned to a
// mebibyte.
func freeGap(c *machine.Contents, length uint64) (start uint64, found bool) {
	align := uint64(1<<20) / uint64(c.Layout.SectorSize)
	end := c.Layout.Sectors - 34
	for at := align; at+length < end; {
		blocked := false
		for _, p := range c.Layout.Partitions {
			if at < p.End() && p.Start < at+length {
				at, blocked = (p.End()+align-1)/align*align, true
			}
		}
		if !blocked {
			return at, true
		}
	}
	return 0, false
}

// roomAtEnd finds the largest system partition that can give sectors at its end:
// its used space must be known to leave them free.
func roomAtEnd(c *machine.Contents, length uint64) (start uint64, shrunk int, found bool) {
	align := uint64(1<<20) / uint64(c.Layout.SectorSize)
	for i, p := range c.Layout.Partitions {
		used, known := c.Volumes[i].Used.Get()
		if !c.Volumes[i].HasWindows() || !known || c.Lost(p) {
			continue
		}
		if free := disk.Span(p.Length, c.Layout.SectorSize) - int64(used); free > 2*disk.Span(length, c.Layout.SectorSize) {
			return (min(p.End(), c.Layout.Sectors-34) - length) / align * align, i, true
		}
	}
	return 0, -1, false
}
