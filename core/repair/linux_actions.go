package repair

import (
	"fmt"
	"maps"
	"slices"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

func initialRAMDisk(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	n, ok := systemOn(m, d, -1)
	if !ok {
		return nil
	}
	f, known := familyOf(d.Contents, n)
	if !known || !n.HomeKnown {
		return nil
	}
	maker, ok := f.makerOf(d.Contents, n.Root)
	if !ok {
		return nil
	}
	made, hollow, sure := d.Contents.WithRAMDisks(n, f.ramDisk)
	why := "The one on the disk may have been made for the old drive's bus alone."
	switch {
	case hollow:
		why = "The kernel can take nothing from the one on the disk, or has none."
	case m.Answers["driver:"+d.Name] == "yes":
		return nil
	}
	takes, free, known := d.Contents.RAMDiskRoom(n)
	if known && free < takes {
		why += fmt.Sprintf(" On the volume that it lies on %s are free, and it may take %s: make room first, such as by taking an old kernel out.",
			disk.Binary(max(0, free)), disk.Binary(takes))
	}
	made = withFolders(made, n)
	mv := onDisk(m, PlanStep{Action: "initial-ram-disk",
		Title: "Make the initial RAM disk anew, with drivers for every bus", Why: why,
		Risk: RiskLow, Minutes: 15, Save: "The old one: the commands keep it as .bak.",
		Undo: "Give the one ending in .bak its name back.", Passphrase: passphrase(d, n)}, "ramdisk", made,
		map[Toolbox]func() []Command{Linux: func() []Command { return initialRAMDiskCommands(d, n, maker, takes) }})
	mv.result = opening(mv.result, d, n)
	if driver := "driver:" + d.Name; !sure {
		mv.result = answered(mv.result, driver, "yes")
	} else if mv.result.Answers[driver] != "" { // of the one that was there
		mv.result.Answers = maps.Clone(mv.result.Answers)
		delete(mv.result.Answers, driver)
	}
	return []move{mv}
}

// linuxFiles installs GRUB anew from the system on the clone.
func linuxFiles(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if d.Contents == nil {
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
	n, ok := systemOn(m, d, boot)
	if !ok || !n.HomeKnown || boot < 0 && bySyslinux(d.Contents.At(n.Home)) {
		return nil
	}
	f, known := familyOf(d.Contents, n)
	if !known || isUEFI(m) && f.signedOnly || isWithout(d.Contents, n.Root, f.toolsFor(arch(m), boot >= 0)...) {
		return nil
	}
	var saves []Sectors
	save, undo := "The old programs, menu and mount table: the commands copy them.",
		"Copy them back: the old programs lie in the folder you were in, the mount table beside the new one as fstab.bak. The boot entry is one that is not in entries-before: efibootmgr -b NUMBER -B."
	if boot < 0 {
		undo = "Write the saved sectors back; the old mount table is kept as fstab.bak, the menu as grub.cfg.bak."
		saves = embedded(d.Contents)
	}
	mv := onDisk(m, PlanStep{Action: "linux-boot-files", Title: "Install GRUB anew from the system on the clone",
		Why: "Loader and configuration are made anew, with the clone's own identifiers.", Risk: RiskLow,
		Minutes: 15, Saves: saves, Save: save,
		Undo: undo, Passphrase: passphrase(d, n)},
		"linux-files", withFolders(d.Contents.WithGRUB(n, arch(m), f.names(d.Contents, boot)), n),
		map[Toolbox]func() []Command{Linux: func() []Command { return linuxFilesCommands(d, n, arch(m), f) }})
	mv.result = opening(mv.result, d, n)
	if boot >= 0 {
		names := f.names(d.Contents, boot)
		mv.result = withEntry(mv.result, d.Name, boot, names.Starts(&d.Contents.Volumes[boot], arch(m)), names.Folder)
	}
	return []move{mv}
}

// bySyslinux reports whether the system of a /boot is started by Syslinux alone: it has no GRUB
// to install.
func bySyslinux(home *machine.Volume) bool {
	menu := func(c machine.Config) bool { return c.GRUB != nil }
	return home.Syslinux != nil && !slices.ContainsFunc(home.Configs, menu)
}

// linuxNames corrects what names file systems, and leaves the loader as it is.
func linuxNames(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	n, ok := namesOn(m, d)
	if !ok || n.Empty() {
		return nil
	}
	title, why := "Let configuration and mount table name the clone's own file systems", "They name file systems that the clone does not carry."
	if !n.NamesAbsent() {
		title, why = "Let configuration and mount table mount the clone's own file systems as what they are", "They have a file system mounted as what it is not, or a subvolume that it does not have."
	}
	mv := onDisk(m, PlanStep{Action: "linux-names", Title: title, Why: why, Risk: RiskLow, Minutes: 10,
		Save: "The old files: the commands keep them as .bak.",
		Undo: "Move the files ending in .bak back over the new ones.", Passphrase: passphrase(d, n)},
		"linux-names", d.Contents.WithNames(n),
		map[Toolbox]func() []Command{Linux: func() []Command { return linuxNamesCommands(d, n) }})
	mv.result = opening(mv.result, d, n)
	return []move{mv}
}

// systemOn are the names of the Linux on a drive whose own programs a repair runs: one that is
// encrypted is opened for that, unless it is known not to open.
func systemOn(m machine.Machine, d *machine.Drive, boot int) (n machine.Names, ok bool) {
	if root, ok := linuxOn(d); ok {
		return d.LinuxNames(boot, root, m.ContentsOf(machine.RoleOriginal)), true
	}
	if d.Contents == nil || m.Answers[machine.Opens(d)] == "no" {
		return n, false
	}
	if n, ok = d.LockedNames(boot); ok {
		ok = d.Contents.Whole(n.Home) && namable(d.Contents, n.Home)
	}
	return n, ok
}

// passphrase is what a step has to open for a system; "" for one that is not encrypted.
func passphrase(d *machine.Drive, n machine.Names) string {
	if n.Within == nil {
		return ""
	}
	return passphraseOf(d, n.Root)
}

func passphraseOf(d *machine.Drive, at machine.Address) string {
	return fmt.Sprintf("partition %d of %s", d.Contents.Layout.Partitions[at.Index].Number, d.Called())
}

// opening is a machine after a step that works in a system: where that is encrypted, the step
// has shown that it opens, and that the root lies in it.
func opening(m machine.Machine, d *machine.Drive, n machine.Names) machine.Machine {
	if n.Within == nil {
		return m
	}
	return answered(m, machine.Opens(d), "yes")
}

// namesOn are the names that the Linux on a drive uses: of one whose root is closed, and whose
// kernel lines do not tell how to find it, those alone by which GRUB finds its /boot.
func namesOn(m machine.Machine, d *machine.Drive) (n machine.Names, ok bool) {
	if d.Contents == nil {
		return n, false
	}
	if n, ok = systemOn(m, d, espOf(d.Contents)); ok && (n.Within == nil || len(n.Menus) > 0) {
		return n, true
	}
	if home, ok := d.Contents.LoneBoot(); ok && d.Contents.Whole(home) && namable(d.Contents, home) {
		return d.BootNames(espOf(d.Contents), home), true
	}
	return n, false
}

// lookInside opens the encrypted volume that the root may lie in.
func lookInside(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if d.Contents == nil || m.Answers[machine.Opens(d)] != "" {
		return nil
	}
	at, ok := d.Contents.Locked()
	asked := func(q course.Question) bool { return q.ID == machine.Opens(d) }
	if !ok || at.Inside > 0 || !slices.ContainsFunc(startup.Simulate(machine.Alone(m, d.Name)).Missing, asked) {
		return nil
	}
	return []move{{
		PlanStep: PlanStep{Action: "look-inside",
			Title: "Open the encrypted volume, and look whether the root lies in it",
			Why:   "What lies in it is not in evidence, and the start goes on from there.", Disk: d.Name,
			Risk: RiskNone, Minutes: 5,
			Save: "Nothing is overwritten.", Undo: "None is wanted: it is closed again.",
			Passphrase: passphraseOf(d, at)},
		key: "inside", on: d, result: answered(m, machine.Opens(d), "yes"),
		tools: map[Toolbox]func() []Command{Linux: func() []Command { return lookInsideCommands(d, at) }},
	}}
}

// withFolders is a disk after a step that ran programs of its system: it made the folders that they want.
func withFolders(c *machine.Contents, n machine.Names) *machine.Contents {
	if n.NoRoot || n.Within != nil {
		return c
	}
	return c.WithFolders(n.Root, c.LacksFolders(n.Root))
}
