package repair

import (
	_ "embed"
	"slices"

	"latchkey/core/command"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// crypttabProgram prints what a system calls its encrypted volume.
//
//go:embed crypttab.awk
var crypttabProgram string

// opened is where an encrypted volume is reached while it is open, until its own name is known.
const opened = "clone-inside"

const devMapper = "/dev/mapper/"

// within opens what the root lies in and mounts that on a folder. An initial RAM disk is made
// for the name by which the system itself calls the volume: it is open under that one in the
// end. crypttab(5); Debian's cryptsetup-initramfs, README.initramfs, section 4.
func (m *mounting) within(c *machine.Contents, n machine.Names, folder string) command.Word {
	p := reach(c, n.Root)
	named, root := command.Var("named"), command.Var("root")
	groups := func(verb, good string) Command {
		filter := command.Join(`devices { use_devicesfile=0 filter=["a|^`+devMapper, named, `$|","r|.*|"] }`)
		return line(command.Either(command.Run("lvm", "vgchange", verb, "--config", filter), command.Run("true")), good,
			"Give the next lines all the same.")
	}
	find := line(command.All(command.Set("root", rootOf(n.Within.Spec, command.Join(devMapper, named))),
		exists("-n", root)), quiet, "The root does not lie in it: close it, and mark the step as failed.")
	table := folder + "/etc/crypttab"
	own := command.Run("awk", crypttabProgram).With("uuid", c.At(n.Root).Serial).With("else", opened).From(table)
	// Where no udev runs, nobody else makes the node of the new name.
	renamed := unless(command.Run("[", named, "=", opened, "]"),
		command.Run("dmsetup", "rename", opened, named), command.Run("dmsetup", "mknodes", named))
	m.open = slices.Concat(m.open, p.open, []Command{
		line(command.All(command.Set("named", opened), command.Run("cryptsetup", "open", p.device, opened)),
			"No answer but the question for the passphrase.",
			"No key available: it is another passphrase. It exists already: an earlier try left it open; cryptsetup close "+opened+"."),
		groups("-ay", "Where a volume group lies in it: …logical volume(s) … now active. Else no answer."),
		find,
		line(command.All(command.Run("mkdir", "-p", folder), mountRoot(n.Within, root, folder, "ro")), quiet,
			unmounted),
		line(unless(missing("-f", table), command.Set("named", command.Output(own))), quiet, unmounted),
		line(command.Run("umount", folder), quiet, "Leave the folder "+folder+", and give it again."),
		line(renamed, quiet, "Its name is taken: start the live Linux anew, and give the lines again."),
		find,
		line(mountRoot(n.Within, root, folder, "rw"), quiet, unmounted),
	})
	m.shut = slices.Concat([]Command{groups("-an", quiet),
		line(command.Run("cryptsetup", "close", named), quiet, "It is in use: leave its folders, and give it again.")},
		p.shut, m.shut)
	return root
}

// mountRoot mounts a root as its kernel line has it.
func mountRoot(w *machine.Within, device command.Word, folder, how string) command.Node {
	options := how
	if w.Flags != "" {
		options += "," + w.Flags
	}
	return command.Run("mount", "-o", options, device, folder)
}

// rootOf is the device of a root within an opened volume: by its UUID; by the name of a logical
// volume, or the opened volume itself, which has another name until then. lsblk(8), --raw.
func rootOf(s loader.Spec, within command.Word) command.Word {
	if s.Kind == loader.ByFSUUID {
		return command.Output(command.Pipe(command.Run("lsblk", "-nrpo", "UUID,NAME", within),
			command.Run("awk", `$1 == ENVIRON["uuid"] { print $2; exit }`).With("uuid", s.Value)))
	}
	there := command.Pipe(command.Run("lsblk", "-nrpo", "NAME", within), command.Run("grep", "-Fx", devMapper+s.Value))
	return command.Output(command.Either(there, command.Run("echo", within)))
}
