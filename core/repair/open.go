package repair

import (
	"fmt"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// place is a volume of the clone as commands reach it: what opens what it lies in, its
// device, and what closes that again.
type place struct {
	open   []Command
	device command.Word
	shut   []Command
}

// held is said where what a volume lies in is in use by something else.
const held = "It is made of other drives' parts, too, or in use: unplug the original, start the live Linux anew, and give the lines again."

// slaves tests that what stands behind a device is one part alone. The device may be a link
// or not: its number is what the kernel knows it by.
func slaves(device, part any) command.Node {
	number := command.Output(command.Run("lsblk", "-ndro", "MAJ:MIN", device))
	return equal(
		command.Output(command.Run("ls", command.Join("/sys/dev/block/", number, "/slaves"))),
		command.Output(command.Run("basename", part)))
}

// reach tells how a volume is reached: a mirror and a volume group are put together from the
// clone's part alone, and what a live Linux put together before is used only where it is of
// that alone. mdadm(8), "ASSEMBLE MODE"; lvmconfig(8), devices/filter; the kernel's
// Documentation/ABI/stable/sysfs-block, "slaves".
func reach(c *machine.Contents, at machine.Address) place {
	p := place{device: partition(c.Layout.Partitions[at.Index])}
	for _, around := range append(c.Around(at), machine.Address{Index: at.Index, Inside: at.Inside}) {
		v := c.At(around)
		switch {
		case v.Container == nil:
		case v.Container.Level != "":
			p.mirror(c.Layout.Partitions[at.Index].Number)
		case v.Kind == volume.KindLVM:
			p.group(v.Container.Name, c.Volumes[at.Index].Inner[at.Inside-1].Mapped())
		}
	}
	return p
}

func (p *place) mirror(number int) {
	part, array := command.Name(fmt.Sprintf("part%d", number)), command.Name(fmt.Sprintf("array%d", number))
	holder := command.Output(command.Run("ls", command.Join("/sys/class/block/", command.Var(part), "/holders")))
	p.open = append(
		p.open,
		line(
			command.All(
				command.Set(part, command.Output(command.Run("basename", p.device))),
				command.Set(array, holder),
				command.Either(
					command.Run("[", "-n", command.Var(array), "]"),
					command.Run("mdadm", "--assemble", "--run", fmt.Sprintf("/dev/md/clone%d", number), p.device).
						Hushed(),
				),
			),
			quiet+" Or: started with 1 drive.",
			held,
		),
		line(
			command.All(command.Set(array, command.Join("/dev/", holder)), slaves(command.Var(array), p.device)),
			quiet,
			held,
		),
	)
	p.device = command.Var(array)
	p.shut = append(
		[]Command{
			line(
				command.Run("mdadm", "--stop", p.device).Hushed(),
				quiet,
				"It is in use: leave its folders, and give it again.",
			),
		},
		p.shut...)
}

func (p *place) group(name, mapped string) {
	only := func(verb string) command.Simple {
		return command.Run(
			"lvm",
			"vgchange",
			verb,
			"--config",
			command.Join(`devices { use_devicesfile=0 filter=["a|^`, p.device, `$|","r|.*|"] }`),
			"--",
			name,
		)
	}
	device := command.Text("/dev/mapper/" + mapped)
	p.open = append(p.open, line(only("-ay"), "…logical volume(s) in volume group … now active.", held),
		line(slaves(device, p.device), quiet, held))
	p.shut = append(
		[]Command{
			line(
				only("-an"),
				"0 logical volume(s) in volume group … now active.",
				"It is in use: leave its folders, and give it again.",
			),
		},
		p.shut...)
	p.device = device
}

// mountAt mounts what lies at a place on a folder, which is made.
func (p *place) mountAt(v *machine.Volume, at machine.Address, folder string) Command {
	mount := command.Run("mount", p.device, folder)
	if v.Subvolumes != nil {
		in := at.Folder
		if in == "" {
			in = "/"
		}
		mount = command.Run("mount", "-o", "subvol="+in, p.device, folder)
	}
	return line(command.All(foldered(folder), mount), quiet, unmounted)
}

// mounting are commands that mount several places, one within the other, and afterwards take
// them down again.
type mounting struct {
	open, shut []Command
	done       map[string]bool
}

func (m *mounting) at(c *machine.Contents, at machine.Address, folder string) command.Word {
	p := reach(c, at)
	fresh := func(list []Command) (kept []Command) {
		for _, cmd := range list {
			if !m.done[cmd.Text] {
				kept = append(kept, cmd)
			}
		}
		for _, cmd := range kept {
			m.done[cmd.Text] = true
		}
		return kept
	}
	m.open = append(append(m.open, fresh(p.open)...), p.mountAt(c.At(at), at, folder))
	m.shut = append(fresh(p.shut), m.shut...)
	return p.device
}

// partitionAt is a partition of the clone as commands reach it.
func (m *mounting) partitionAt(p disk.Partition, folder string) {
	m.open = append(m.open, mount(p, folder))
}
