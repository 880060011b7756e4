package repair

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"latchkey/core/command"
	"latchkey/core/course"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// copyLoaded copies from the original what the boot loader is to load of the clone, and what is not
// there or is not what it should be.
func copyLoaded(m machine.Machine, _ course.Stage) (moves []move) {
	d, o := clone(m), original(m)
	if o == nil || d.Contents == nil || toldOnly(m) || !toldApart(o, d) {
		return nil
	}
	for i := range d.Contents.Volumes {
		j, ok := sameVolume(d.Contents, i, o.Contents)
		if !ok || !copiesFrom(o.Contents, j) || !d.Contents.Whole(machine.Address{Index: i}) {
			continue
		}
		from := &o.Contents.Volumes[j]
		v := &d.Contents.Volumes[i]
		files := v.LacksLoaded(from)
		// Of a boot partition that holds nothing to start, all is copied.
		if boots := d.Contents.Layout.Partitions[i].IsESP(); !v.IsFAT() || boots && len(startable(v, arch(m))) > 0 {
			for _, f := range v.LacksStarted(from) {
				is := func(other string) bool { return strings.EqualFold(slashes(other), slashes(f)) }
				if !slices.ContainsFunc(files, is) { // a kernel may be a program, too
					files = append(files, f)
				}
			}
		}
		if len(files) == 0 {
			continue
		}
		p := d.Contents.Layout.Partitions[i]
		moves = append(moves, onDisk(m, PlanStep{Action: "copy-loaded",
			Title: fmt.Sprintf("Copy %s to partition %d from the original", called(files), p.Number),
			Why:   "On the clone it is not there, or not what it should be; on the original it is.", Risk: RiskLow, Minutes: 10,
			Save: "What is there under the name: the commands keep it as .bak.", Undo: "Give what ends in .bak its name back."},
			fmt.Sprintf("copy-loaded-%d", p.Number), d.Contents.WithLoadedOf(i, from, files),
			map[Toolbox]func() []Command{Linux: func() []Command { return copyLoadedCommands(d, o, i, j, files) }}))
	}
	return moves
}

// called names files, of many the first alone.
func called(files []string) string {
	if len(files) > 2 {
		return fmt.Sprintf("%s and %d other files", files[0], len(files)-1)
	}
	return strings.Join(files, " and ")
}

// sameVolume finds the volume of the original that a volume is the copy of: that of its identifier, else
// that of its kind in the partition of its number.
func sameVolume(c *machine.Contents, i int, o *machine.Contents) (j int, ok bool) {
	v, number := &c.Volumes[i], c.Layout.Partitions[i].Number
	var named, placed []int
	for j := range o.Volumes {
		w := &o.Volumes[j]
		if w.Kind != v.Kind {
			continue
		}
		if v.Serial != "" && strings.EqualFold(w.Serial, v.Serial) {
			named = append(named, j)
		}
		if o.Layout.Partitions[j].Number == number {
			placed = append(placed, j)
		}
	}
	if len(named) != 1 {
		named = placed
	}
	if len(named) != 1 {
		return 0, false
	}
	return named[0], true
}

// readOnly is how the original's volumes are mounted so that nothing is written, no journal either. A
// Btrfs with its copy beside it is not. mount(8), ext4 and XFS.
var readOnly = map[volume.Kind]string{volume.KindExt: "ro,noload", volume.KindXFS: "ro,norecovery,nouuid", volume.KindFAT32: "ro",
	volume.KindFAT16: "ro", volume.KindFAT12: "ro"}

func copiesFrom(o *machine.Contents, j int) bool {
	return readOnly[o.Volumes[j].Kind] != "" && o.Volumes[j].Readable && !o.Lost(o.Layout.Partitions[j])
}

// foldersOf makes the folders of a file on the clone, from the outermost on, that were not made before.
func foldersOf(target string, made map[string]bool) (nodes []command.Node) {
	folder := path.Dir(target)
	if made[folder] {
		return nil
	}
	made[folder] = true
	return append(foldersOf(folder, made), foldered(folder))
}

// copyLoadedCommands copy files to a partition of the clone from one of the original, which is mounted
// read-only.
func copyLoadedCommands(d, o *machine.Drive, i, j int, files []string) []Command {
	const to, from = "/mnt/clone", "/mnt/original"
	cmds := append(fromOriginal(o, j, from, readOnly[o.Contents.Volumes[j].Kind]),
		mount(d.Contents.Layout.Partitions[i], to))
	made := map[string]bool{to: true}
	for _, file := range files {
		target := to + slashes(file)
		if folders := foldersOf(target, made); len(folders) > 0 {
			cmds = append(cmds, line(command.All(folders...), quiet, "No space left, or a file is where a folder should be: mark the step as failed."))
		}
		cmds = append(cmds, line(command.All(inFolder(from, from+slashes(file)), inClone(target),
			unless(missing("-f", target), spared(target)),
			command.Run("cp", from+slashes(file), target)),
			quiet, "No space left: take an old kernel out first. No such file: mark the step as failed."))
	}
	return slices.Concat(cmds, []Command{
		line(command.Run("umount", to), quiet, "Leave the folder /mnt/clone, and give it again."),
		line(command.Run("umount", from), quiet, "Leave the folder /mnt/original, and give it again."),
	})
}
