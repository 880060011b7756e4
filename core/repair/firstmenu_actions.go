package repair

import (
	"fmt"
	"path"
	"regexp"
	"strings"

	"latchkey/core/command"
	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// Repairs of the chain from the shim to GRUB's menu, by what is still there of it.

// firstMenu writes the menu anew that GRUB on the boot partition reads first, which does no more than lead to the
// one that the system keeps. GNU GRUB Manual 2.06, "search", "configfile".
func firstMenu(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isUEFI(m) || d.Contents == nil || toldOnly(m) {
		return nil
	}
	boot := bootOf(m, d.Contents)
	if boot < 0 {
		return nil
	}
	v := &d.Contents.Volumes[boot]
	var moves []move
	for _, f := range v.Loaders {
		if f.Err != nil || f.Program.GRUB == nil {
			continue
		}
		name := path.Join("/", machine.AfterBrackets(f.Program.GRUB.Prefix), "grub.cfg")
		if !plainPath.MatchString(name) || !v.LacksConfig(machine.ConfigGRUB, name) {
			continue
		}
		for _, lines := range leading(d.Contents, boot) {
			text := strings.Join(lines, "\n") + "\n"
			moves = append(moves, onDisk(m, PlanStep{Action: "first-menu", Risk: RiskLow, Minutes: 5,
				Title: "Write GRUB's first menu anew: " + name + " on the boot partition",
				Why:   "It is not there, or empty. It only leads to the menu that the system keeps: " + lines[0] + ".",
				Save:  "What stands at that path: the commands keep it as .bak.",
				Undo:  "Delete it, and give what ends in .bak its name back."},
				fmt.Sprint("first-menu ", len(moves)+1), d.Contents.WithFirstMenu(boot, name, text),
				map[Toolbox]func() []Command{Linux: func() []Command {
					return firstMenuCommands(d, boot, name, lines)
				}}))
		}
	}
	return likeliest(moves)
}

// plainPath and plainID are names that GRUB's script takes for themselves.
var (
	plainPath = regexp.MustCompile(`^[A-Za-z0-9/._@-]+$`)
	plainID   = regexp.MustCompile(`^[0-9A-Fa-f-]+$`)
)

// leading are scripts that lead to each menu which the disk's other volumes keep.
func leading(c *machine.Contents, boot int) (scripts [][]string) {
	for i := range c.Volumes {
		v := &c.Volumes[i]
		for j := range v.Configs {
			menu := &v.Configs[j]
			folder := path.Dir(menu.Path)
			if i == boot || menu.Kind != machine.ConfigGRUB || menu.Err != nil || v.LacksConfig(menu.Kind, menu.Path) ||
				!v.LooksForMenu(menu.Path) || !plainPath.MatchString(folder) || !plainID.MatchString(v.Serial) {
				continue
			}
			scripts = append(scripts, []string{"search --no-floppy --fs-uuid --set=root " + v.Serial,
				"set prefix=($root)" + folder, "configfile $prefix/" + path.Base(menu.Path)})
		}
	}
	return scripts
}

// firstMenuCommands write it.
func firstMenuCommands(d *machine.Drive, boot int, name string, lines []string) []Command {
	const at = "/mnt/boot"
	target := at + name
	write := []any{"printf", `%s\n`}
	for _, l := range lines {
		write = append(write, l)
	}
	return []Command{mount(d.Contents.Layout.Partitions[boot], at),
		line(command.All(command.Run("mkdir", "-p", path.Dir(target)),
			unless(missing("-f", target), command.Run("cp", target, target+".bak")), command.Run(write...).To(target)),
			quiet, "No space left: delete what is not of the start. Read-only: the file system is damaged; mark the step as failed."),
		line(command.Run("umount", at), quiet, "Leave the folder /mnt/boot, and give it again.")}
}

// vendorShim puts the shim back into the folder of a system's GRUB from the folder of the fallback, where the same one
// lies. UEFI shim's README.fallback.
func vendorShim(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if !isUEFI(m) || d.Contents == nil {
		return nil
	}
	boot := bootOf(m, d.Contents)
	if boot < 0 {
		return nil
	}
	v, suffix := &d.Contents.Volumes[boot], loader.Suffix(arch(m))
	from, there := v.Loader(loader.FallbackPath(arch(m)))
	if !there || from.Err != nil || from.Is() != loader.Shim {
		return nil
	}
	var moves []move
	for _, f := range v.Loaders {
		to := f.Path[:strings.LastIndexByte(f.Path, '\\')+1] + "shim" + suffix
		if f.Err != nil || f.Is() != loader.GRUB || fallback(f) > 0 || !v.LacksProgram(to) {
			continue
		}
		copies := []copied{{from.Path, to}}
		moves = append(moves, onDisk(m, PlanStep{Action: "vendor-path", Risk: RiskLow, Minutes: 5,
			Title: "Copy " + from.Path + " to " + to,
			Why:   "The shim that starts the GRUB in that folder is gone from it, or is no program; the one in the fallback's folder is of the same kind.",
			Save:  "What stands at that path: the commands keep it as .bak.",
			Undo:  "Delete the copy, and give the one ending in .bak its name back."},
			"vendor-path", d.Contents.WithProgram(boot, to, from.Program), map[Toolbox]func() []Command{
				WindowsRecovery: func() []Command { return fallbackDiskpart(d, boot, copies) },
				Linux:           func() []Command { return fallbackCommands(d, boot, copies) }}))
	}
	return likeliest(moves)
}
