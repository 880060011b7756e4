package repair

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/command"
	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

func hiddenSectors(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil {
		return nil
	}
	var moves []move
	for i, p := range c.Layout.Partitions {
		for _, q := range c.Volumes[i].Problems {
			if q.Code == volume.CodeHiddenSectors {
				ntfs := c.Volumes[i].Kind == volume.KindNTFS
				saves := []Sectors{{p.Start, 1}}
				if ntfs {
					saves = append(saves, Sectors{p.End() - 1, 1})
				}
				moves = append(moves, onDisk(m, PlanStep{Action: "hidden-sectors", Title: fmt.Sprintf("Correct the boot sector of partition %d: it starts at sector %d", p.Number, p.Start),
					Why: "Its code reads from where the partition was before the copy.", Risk: RiskLow, Minutes: 5, Saves: saves, Undo: "Write the saved sectors back."},
					fmt.Sprint("hidden ", p.Number), c.WithHiddenSectors(i),
					map[Toolbox]func() []Command{Linux: func() []Command { return hiddenCommands(clone(m), p, ntfs) }}))
			}
		}
	}
	return moves
}

// copyBootSector writes a boot sector anew from the copy that the file system
// keeps: FAT32 in its sector 6, NTFS in the partition's last.
func copyBootSector(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	c := d.Contents
	if c == nil {
		return nil
	}
	var moves []move
	for i, p := range c.Layout.Partitions {
		if beginsBeside(c, p) {
			continue // the table is wrong, and not the sector
		}
		for _, spare := range c.Volumes[i].Spares {
			from := spare.Sector
			moves = append(moves, onDisk(m, PlanStep{Action: "copy-boot-sector", Title: fmt.Sprintf("Write the boot sector of partition %d anew from its copy in sector %d", p.Number, from), Why: "It was overwritten; the file system keeps a copy of it.",
				Risk: RiskLow, Minutes: 5, Saves: []Sectors{{p.Start, 1}}, Undo: "Write the saved sector back."},
				fmt.Sprint("boot-sector ", p.Number), c.WithSectorCopied(i, spare),
				map[Toolbox]func() []Command{Linux: func() []Command {
					return copySectorsCommands(d, from, p.Start,
						1)
				}}))
		}
	}
	return moves
}

// beginsBeside reports whether a volume was found that begins within a MiB of where the table
// lets a partition begin, and not there.
func beginsBeside(c *machine.Contents, p disk.Partition) bool {
	near := uint64(1<<20) / uint64(c.Layout.SectorSize)
	return slices.ContainsFunc(c.Found, func(f machine.Found) bool {
		at := f.Partition.Start
		return at != p.Start && max(at, p.Start)-min(at, p.Start) <= near &&
			!slices.ContainsFunc(c.Layout.Partitions, func(q disk.Partition) bool { return q.Start == at })
	})
}

// copyFAT writes the first file allocation table anew from the second.
func copyFAT(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if d.Contents == nil {
		return nil
	}
	var moves []move
	size := uint64(d.Contents.Layout.SectorSize)
	for i, p := range d.Contents.Layout.Partitions {
		second := d.Contents.Volumes[i].SecondFAT
		if second == nil || d.Contents.Volumes[i].WithSecondFAT == nil {
			continue
		}
		from, to, count := uint64(second.Second)/size, uint64(second.First)/size, uint64(second.Length)/size
		moves = append(moves, onDisk(m, PlanStep{Action: "copy-fat", Title: fmt.Sprintf("Write the first file allocation table of partition %d anew from the second", p.Number),
			Why:  "The two differ. Firmware goes by the first, and with the second the files are whole.",
			Risk: RiskLow, Minutes: 5, Saves: []Sectors{{to, count}}, Undo: "Write the saved sectors back."},
			fmt.Sprint("fat ", p.Number), d.Contents.WithSecondFAT(i),
			map[Toolbox]func() []Command{Linux: func() []Command { return copySectorsCommands(d, from, to, count) }}))
	}
	return moves
}

func createESP(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || !isUEFI(m) || !writesEntry(c) || c.Layout.GPT.Valid() == nil || espOf(c) >= 0 {
		return nil
	}
	length := uint64(espMiB<<20) / uint64(c.Layout.SectorSize)
	start, gap := freeGap(c, length)
	risk, shrunk, how := RiskLow, -1, "in the free space at sector "+fmt.Sprint(start)
	saveWord, undo := "", "Write the saved sectors back: the table is then as it was."
	if !gap {
		var ok bool
		if start, shrunk, ok = roomAtEnd(c, length); !ok {
			return nil
		}
		saveWord, undo = dataCopy, "Delete the new partition, and let the other grow again: extend, in diskpart."
		risk, how = RiskReal, fmt.Sprintf("from the end of partition %d, which is shrunk", c.Layout.Partitions[shrunk].Number)
	}
	changed, _ := c.WithESP(start, length, shrunk)
	tools := map[Toolbox]func() []Command{WindowsRecovery: func() []Command {
		return createDiskpart(clone(m), start,
			shrunk)
	}}
	if gap {
		tools[Linux] = func() []Command { return createCommands(clone(m), start, length) }
	}
	return []move{onDisk(m, PlanStep{Action: "create-esp", Title: "Create an EFI system partition " + how, Why: "The copy left it behind: the firmware has nothing to read.", Risk: risk, Minutes: 10,
		Saves: tableSectors(c), Save: saveWord, Undo: undo}, "esp", changed, tools)}
}

// refused reports whether something is wrong with a FAT volume under UEFI, which does not go by
// the sector that it believes to begin at. Microsoft's FAT specification, "BPB_HiddSec": only
// relevant for media visible on interrupt 13h.
func refused(v *machine.Volume) bool {
	return slices.ContainsFunc(v.Problems, func(p disk.Problem) bool { return p.Code != volume.CodeHiddenSectors })
}

func formatESP(m machine.Machine, _ course.Stage) []move {
	c := clone(m).Contents
	if c == nil || !isUEFI(m) {
		return nil
	}
	i := espOf(c)
	if i < 0 || c.Volumes[i].IsFAT() && !refused(&c.Volumes[i]) || c.Volumes[i].Unseen() {
		return nil
	}
	risk := RiskLow
	if k := c.Volumes[i].Kind; k != volume.Empty && k != volume.Unknown && !c.Volumes[i].IsFAT() {
		risk = RiskReal
	}
	p := c.Layout.Partitions[i]
	return []move{onDisk(m, PlanStep{Action: "format-esp", Title: fmt.Sprintf("Format partition %d as FAT32", p.Number), Why: "The firmware reads its boot partition only as FAT.", Risk: risk, Minutes: 5,
		Saves: []Sectors{formatted(c, p)}, Undo: "Write the saved sectors back."}, "format", c.WithFAT(i),
		map[Toolbox]func() []Command{WindowsRecovery: func() []Command { return formatDiskpart(clone(m), p) },
			Linux: func() []Command { return formatCommands(p) }})}
}

// beside returns the GRUB that a shim starts.
func beside(v *machine.Volume, f loader.Found, a firmware.Arch) (loader.Found, bool) {
	if f.Is() != loader.Shim {
		return loader.Found{}, false
	}
	next, ok := v.Loader(f.Path[:strings.LastIndexByte(f.Path, '\\')+1] + "grub" + loader.Suffix(a))
	return next, ok && next.Err == nil
}

// copyBootFiles fills a boot partition that has nothing to start with what is on the
// original's.
func copyBootFiles(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isUEFI(m) || d.Contents == nil {
		return nil
	}
	i := espOf(d.Contents)
	if i < 0 || !d.Contents.Volumes[i].IsFAT() || refused(&d.Contents.Volumes[i]) || d.Contents.Volumes[i].Unseen() ||
		len(startable(&d.Contents.Volumes[i], arch(m))) > 0 {
		return nil
	}
	for k := range m.Drives {
		o := &m.Drives[k]
		if o.Role != machine.RoleOriginal || o.Contents == nil {
			continue
		}
		j := espOf(o.Contents)
		if j < 0 || !o.Contents.Volumes[j].Readable || o.Contents.Lost(o.Contents.Layout.Partitions[j]) ||
			len(startable(&o.Contents.Volumes[j], arch(m))) == 0 {
			continue
		}
		return []move{onDisk(m, PlanStep{Action: "copy-boot-files", Title: "Copy the boot partition's files from the original", Why: "The clone's boot partition holds nothing to start; the original's does.", Risk: RiskLow, Minutes: 15,
			Save: "Nothing: what is there stays, and only what the original has is added.", Undo: "Delete what was copied."},
			"copy-files", d.Contents.WithFilesOf(i, &o.Contents.Volumes[j]),
			map[Toolbox]func() []Command{Linux: func() []Command { return copyFilesCommands(d, o, i, j) }})}
	}
	return nil
}

// unhide takes the attribute away that keeps firmware from offering the boot partition.
func unhide(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if d.Contents == nil || !writesEntry(d.Contents) {
		return nil
	}
	var moves []move
	for i, p := range d.Contents.Layout.Partitions {
		if !p.Hidden() || !d.Contents.Volumes[i].IsFAT() {
			continue
		}
		bits := p.Attributes &^ noBlockIO
		moves = append(moves, onDisk(m, PlanStep{Action: "unhide", Title: fmt.Sprintf("Let the firmware see partition %d", p.Number), Why: "An attribute in the table forbids the firmware to offer it.", Risk: RiskLow,
			Minutes: 5,
			Saves:   tableSectors(d.Contents), Undo: "Write the saved sectors back."},
			fmt.Sprint("unhide ", p.Number), d.Contents.WithAttributes(i, bits),
			map[Toolbox]func() []Command{Linux: func() []Command {
				return sfdisk(command.Run("sfdisk", "--no-reread", "--force", "--part-attrs", onClone, p.Number, attributes(bits)), altered)
			}}))
	}
	return moves
}

// noBlockIO is the attribute. UEFI Specification 2.10, table 5.8, bit 1.
const noBlockIO = 1 << 1

// fallbackPath copies a loader to where firmware looks by itself.
func fallbackPath(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isUEFI(m) || d.Contents == nil {
		return nil
	}
	i := bootOf(m, d.Contents)
	if i < 0 {
		return nil
	}
	path := loader.FallbackPath(arch(m))
	var moves []move
	for _, f := range startable(&d.Contents.Volumes[i], arch(m)) {
		if strings.EqualFold(f.Path, path) {
			continue
		}
		copies := []copied{{f.Path, path}}
		changed := d.Contents.WithProgram(i, path, f.Program)
		if next, ok := beside(&d.Contents.Volumes[i], f, arch(m)); ok { // the shim starts what lies beside it
			copies = append(copies, copied{next.Path, loader.FallbackFolder + "grub" + loader.Suffix(arch(m))})
			changed = changed.WithProgram(i, copies[1].to, next.Program)
		}
		moves = append(moves, onDisk(m, PlanStep{Action: "fallback-path", Title: "Copy " + f.Path + " to " + path, Why: "The firmware looks there without an entry.", Risk: RiskLow,
			Minutes: 5, Save: "What stands at that path: the commands keep it as .bak.", Undo: "Delete the copy, and give the one ending in .bak its name back."},
			"fallback", changed, map[Toolbox]func() []Command{
				WindowsRecovery: func() []Command { return fallbackDiskpart(d, i, copies) },
				Linux:           func() []Command { return fallbackCommands(d, i, copies) }}))
	}
	return likeliest(moves)
}
