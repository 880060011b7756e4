package repair

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/startup"
	"latchkey/core/volume"
)

// windowsOn returns the partition of a Windows system.
func windowsOn(d *startup.Drive) (int, bool) {
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
func encrypted(d *startup.Drive) bool {
	i, ok := windowsOn(d)
	return ok && d.Contents.Volumes[i].Kind == volume.KindBitLocker
}

// linuxOn returns the partition of a Linux system.
func linuxOn(d *startup.Drive) (int, bool) {
	if d.Contents != nil {
		for i := range d.Contents.Volumes {
			if d.Contents.Volumes[i].HasLinux() {
				return i, true
			}
		}
	}
	return 0, false
}

// bootOf returns the partition that boot files belong on under the firmware's
// mode; -1 when there is none that is fit for them.
func bootOf(m startup.Machine, c *startup.Contents) int {
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

// windowsFiles puts Windows' boot files back, with a store that names the clone.
func windowsFiles(m startup.Machine, _ startup.Stage) []move {
	d := clone(m)
	system, ok := windowsOn(d)
	mode, known := m.Firmware.Mode.Get()
	if !ok || !known {
		return nil
	}
	boot := bootOf(m, d.Contents)
	if boot < 0 {
		return nil
	}
	if mode == firmware.UEFICSM {
		mode = firmware.UEFI
	}
	changed := d.Contents.WithWindowsFiles(boot, system, mode, arch(m))
	mv := onDisk(m, PlanStep{Action: "windows-boot-files", Title: "Put Windows' boot files and boot configuration in place anew", Why: "Manager and store are made from the system on the clone, and name its own partition.", Risk: RiskLow, Minutes: 10, Undo: "The old store is kept beside the new one as BCD.bak."},
		"windows-files", changed, map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return windowsFilesCommands(d, boot, system, mode) }})
	if mode == firmware.UEFI { // the tool writes a boot entry too
		mv.result = withEntry(mv.result, d.Name, boot, `\EFI\Microsoft\Boot\bootmgfw.efi`, "Windows Boot Manager")
	}
	return []move{mv}
}

// linuxFiles installs GRUB anew from the system on the clone.
func linuxFiles(m startup.Machine, _ startup.Stage) []move {
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
	case d.Contents.Layout.MBR == nil:
		return nil
	}
	mv := onDisk(m, PlanStep{Action: "linux-boot-files", Title: "Install GRUB anew from the system on the clone", Why: "Loader and configuration are made anew, with the clone's own identifiers.", Risk: RiskLow, Minutes: 15, Undo: "Write the saved sectors back; the old files are kept as .bak."},
		"linux-files", d.Contents.WithGRUB(boot, root, arch(m)), map[Toolbox]func() []Command{Linux: func() []Command { return linuxFilesCommands(d, boot, root) }})
	if boot >= 0 {
		mv.result = withEntry(mv.result, d.Name, boot, `\EFI\debian\grubx64.efi`, "debian")
	}
	return []move{mv}
}

// linuxNames corrects what names file systems, and leaves the loader as it is.
func linuxNames(m startup.Machine, _ startup.Stage) []move {
	d := clone(m)
	root, ok := linuxOn(d)
	if !ok {
		return nil
	}
	boot := espOf(d.Contents)
	return []move{onDisk(m, PlanStep{Action: "linux-names", Title: "Let configuration and mount table name the clone's own file systems", Why: "They name file systems that no attached disk carries.", Risk: RiskLow, Minutes: 10, Undo: "The old files are kept beside the new ones as .bak."},
		"linux-names", d.Contents.WithLinuxNames(boot, root), map[Toolbox]func() []Command{Linux: func() []Command { return linuxNamesCommands(d, boot, root) }})}
}

// fallbackPath copies a loader to where firmware looks by itself.
func fallbackPath(m startup.Machine, _ startup.Stage) []move {
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
		return []move{onDisk(m, PlanStep{Action: "fallback-path", Title: "Copy " + f.Path + " to " + path, Why: "The firmware looks there without an entry.", Risk: RiskLow, Minutes: 5, Undo: "Delete the copy."},
			"fallback", d.Contents.WithProgram(i, path, f.Program), map[Toolbox]func() []Command{
				WindowsRecovery: func() []Command { return fallbackDiskpart(d, i, f.Path, path) }, Linux: func() []Command { return fallbackCommands(d, i, f.Path, path) }})}
	}
	return nil
}

// addEntry writes a boot entry that leads to the clone's loader, first in the
// order.
func addEntry(m startup.Machine, _ startup.Stage) []move {
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
			key:      "entry", result: withEntry(m, d.Name, i, f.Path, "Clone"),
			tools: map[Toolbox]func() []Command{
				Firmware: saying(fmt.Sprintf("In the firmware's setup, where it can: add a boot option, file %s on the clone's EFI system partition, and move it to the top. Save.", f.Path), "The option stands first after a restart.", "Not every firmware can: use a live Linux."),
				Linux:    func() []Command { return entryCommands(d, i, f.Path) },
			},
		}}
	}
	return nil
}

// withEntry puts an entry for a program first in the order.
func withEntry(m startup.Machine, drive string, i int, path, name string) startup.Machine {
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
		for n, e := range old.All {
			entries.All[n] = e
		}
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
func convertToGPT(m startup.Machine, _ startup.Stage) []move {
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
	mv := onDisk(m, PlanStep{Action: "convert-to-gpt", Title: "Convert the clone from MBR to GPT in place", Why: "The firmware is in UEFI mode, which wants GPT with an EFI system partition.", Risk: RiskReal, Minutes: 20, Undo: "None but the copy of the disk: copy again from the original."},
		"convert", changed, map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return convertCommands(d) }})
	mv.result = withEntry(mv.result, d.Name, boot, `\EFI\Microsoft\Boot\bootmgfw.efi`, "Windows Boot Manager")
	return []move{mv}
}

// freeGap finds room for sectors between and behind the partitions, aligned to a
// mebibyte.
func freeGap(c *startup.Contents, length uint64) (start uint64, found bool) {
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
func roomAtEnd(c *startup.Contents, length uint64) (start uint64, shrunk int, found bool) {
	align := uint64(1<<20) / uint64(c.Layout.SectorSize)
	for i, p := range c.Layout.Partitions {
		used, known := c.Volumes[i].Used.Get()
		if !c.Volumes[i].HasWindows() || !known || c.Lost(p) {
			continue
		}
		if free := int64(p.Length)*int64(c.Layout.SectorSize) - int64(used); free > 2*int64(length)*int64(c.Layout.SectorSize) {
			return (min(p.End(), c.Layout.Sectors-34) - length) / align * align, i, true
		}
	}
	return 0, -1, false
}
