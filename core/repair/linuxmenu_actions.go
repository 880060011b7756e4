package repair

import (
	"path"
	"slices"

	"latchkey/core/command"
	"latchkey/core/course"
	"latchkey/core/machine"
)

// linuxMenu has the system on the clone make GRUB's menu anew, where that is gone or tells nothing and what leads to it
// is as it was. grub-mkconfig(8).
func linuxMenu(m machine.Machine, _ course.Stage) []move {
	d := clone(m)
	if d.Contents == nil {
		return nil
	}
	boot := -1
	if isUEFI(m) {
		if boot = bootOf(m, d.Contents); boot < 0 {
			return nil
		}
	}
	n, ok := systemOn(m, d, boot)
	if !ok || !n.HomeKnown {
		return nil
	}
	f, known := familyOf(d.Contents, n)
	if !known || isWithout(d.Contents, n.Root, f.needs...) {
		return nil
	}
	home, folder := d.Contents.At(n.Home), path.Join("/", n.Folder, f.dir)
	if !home.LacksConfig(machine.ConfigGRUB, path.Join(folder, "grub.cfg")) {
		return nil
	}
	mv := onDisk(m, PlanStep{Action: "linux-menu", Title: "Have the system on the clone make GRUB's menu anew", Risk: RiskLow, Minutes: 10,
		Why:  "The menu is not there, or tells nothing; what leads to it is as it was.",
		Save: "The old menu and mount table: the commands copy them.",
		Undo: "The old menu is kept as grub.cfg.bak, the mount table as fstab.bak: move them back.", Passphrase: passphrase(d, n)},
		"linux-menu", withFolders(d.Contents.WithMenu(n, folder, f.listsEntries(home)), n),
		map[Toolbox]func() []Command{Linux: func() []Command { return linuxMenuCommands(d, n, f) }})
	mv.result = opening(mv.result, d, n)
	return []move{mv}
}

// listsEntries reports whether the menu that a family's program makes lists the entries of the Boot Loader
// Specification that are there: it makes none itself.
func (f family) listsEntries(home *machine.Volume) bool {
	isEntry := func(c machine.Config) bool { return c.Kind == machine.ConfigEntry && c.Err == nil }
	return f.signedOnly && slices.ContainsFunc(home.Configs, isEntry)
}

func linuxMenuCommands(d *machine.Drive, n machine.Names, f family) []Command {
	menu := mountedClone + "/boot/" + f.dir + "/grub.cfg"
	return inSystem(d, n, func(root command.Word) []command.Node {
		nodes := append([]command.Node{f.has}, mountTable(d, n)...)
		nodes = append(nodes, unless(missing("-f", menu), spared(menu)))
		return append(append(nodes, linkedByUUID(d, n, root)...), chroot(f.menu...))
	})
}
