package repair

import (
	"fmt"
	"strings"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/machine"
)

// What a command says when it went well, and what to do when it did not.
const (
	quiet   = "No answer."
	putBack = "Put the saved sectors back, and look at the message."
)

// What tells a drive, as the live Linux prints it.
var (
	capacity     = command.Output(command.Run("blockdev", "--getsize64", command.Var("d")))
	tableID      = command.Output(command.Run("blkid", "-p", "-s", "PTUUID", "-o", "value", command.Var("d")))
	serialNumber = command.Output(serialOf("d"))
)

// The commands for a live Linux are lines of a POSIX shell; they are run one
// after the other in one shell, as root.

// saying is a thing to do that is no command.
func saying(text, good, bad string) func() []Command {
	return func() []Command { return []Command{{Text: text, ByHand: true, Good: good, Bad: bad}} }
}

// findClone finds the drive by capacity and identifier, and stops when it is not
// there or not alone: a disk is never named by a number.
func findClone(d *machine.Drive) Command { return findNow("clone", d) }

// findNow finds a drive as it was when it was looked at.
func findNow(name command.Name, d *machine.Drive) Command {
	return findDrive(name, d, identifier(d), asks(guardOf(d))...)
}

// asks are the tests of a guard.
func asks(g guard) []command.Node {
	none := command.Run("[", "-z", tableID, "]")
	switch {
	case g.id != "" && g.none:
		return []command.Node{command.Either(none, equal(tableID, g.id))}
	case g.id != "":
		return []command.Node{equal(tableID, g.id)}
	case g.none:
		return []command.Node{none}
	}
	return nil
}

func equal(a, b any) command.Node { return command.Run("[", a, "=", b, "]") }

// findDrive sets a variable to the name of a drive: the only one of its capacity that
// passes the tests.
func findDrive(name command.Name, d *machine.Drive, id string, tests ...command.Node) Command {
	size := d.Contents.Layout.Bytes()
	tests = append([]command.Node{equal(capacity, size)}, tests...)
	what := disk.Both(size)
	if id != "" {
		what += ", identifier " + id
	}
	role := machine.UpperFirst(string(d.Role))
	drives := command.Each("d", command.Fields(command.Run("lsblk", "-dnpo", "NAME")),
		command.All(append(tests, command.Run("echo", command.Var("d")))...))
	set, found := command.Set(name, command.Output(command.Sequence(drives, command.Run("true")))), command.Var(name)
	one := command.Run("[", command.Output(command.Pipe(command.Run("echo", found), command.Run("wc", "-w"))), "=", "1", "]")
	none := command.Run("echo", fmt.Sprintf("The %s (%s) is not here, or there are two of it: stop.", d.Role, what))
	c := line(command.Sequence(set, command.Either(one, command.Sequence(none, command.Run("exit", "1"))),
		command.Run("echo", command.Join(role+": ", found))),
		fmt.Sprintf("%s: /dev/…, the one line with %d%s.", role, size, andID(id)), "Do not go on. Look at which drives are attached; unplug the original.")
	c.Typed = "lsblk -dbpo NAME,SIZE,MODEL,PTUUID\n" + string(name) + "=/dev/…"
	return c
}

// onClone is the clone as a word.
var onClone = command.Var("clone")

func andID(id string) string {
	if id == "" {
		return ""
	}
	return " and " + id
}

// partition is the name of a partition of the clone: the kernel puts a p between a
// disk's name that ends in a digit and the number.
func partition(p disk.Partition) command.Word {
	return command.Join(onClone, command.Output(command.Fixed("case $clone in *[0-9]) echo p;; esac")), p.Number)
}

// kept names the file that saved sectors are kept in.
func kept(action string, s Sectors, suffix string) string {
	return fmt.Sprintf("before-%s-%d.%s", action, s.First, suffix)
}

// dd copies sectors; the operands are those of dd(1).
func dd(operands ...any) command.Simple { return command.Run(append([]any{"dd"}, operands...)...) }

const stays = " The file lies in the folder you are in: let that be one that stays, on a stick."

// saveLinux keeps sectors before they are overwritten, and the serial number of the
// drive that they are of.
func saveLinux(d *machine.Drive, action string, saves []Sectors) []Command {
	if len(saves) == 0 {
		return nil
	}
	cmds := []Command{line(serialOf("clone").To(serialFile(action)), quiet+stays, "Look for room: without it the sectors cannot be put back by commands.")}
	for _, s := range saves {
		cmds = append(cmds, line(dd(command.Join("if=", onClone), "of="+kept(action, s, "bin"),
			command.Join("bs=", d.Contents.Layout.SectorSize),
			command.Join("skip=", s.First), command.Join("count=", s.Count), "conv=excl,fsync"),
			fmt.Sprintf("%d+0 records out.", s.Count)+stays, "Without a copy do not go on. File exists: something was saved here before; go into a new folder. Else look for room, or for a drive that cannot be read."))
	}
	return cmds
}

func serialFile(action string) string { return fmt.Sprintf("before-%s.serial", action) }

// savedOf tests that a drive is the one that sectors were saved of: by its serial
// number, and where it has none by its identifier, unless its table has none now.
func savedOf(d *machine.Drive, action string) []command.Node {
	kept := command.Output(command.Run("cat", serialFile(action)))
	tests := []command.Node{equal(serialNumber, kept)}
	if id := identifier(d); id != "" {
		tests = append(tests, command.Either(command.Run("[", "-n", kept, "]"), equal(tableID, id),
			command.Run("[", "-z", tableID, "]")))
	}
	return tests
}

func putBackLinux(d *machine.Drive, action string, saves []Sectors) []Command {
	if len(saves) == 0 {
		return nil
	}
	cmds := []Command{findDrive("clone", d, "", savedOf(d, action)...)}
	for _, s := range saves {
		cmds = append(cmds, line(dd("if="+kept(action, s, "bin"), command.Join("of=", onClone),
			command.Join("bs=", d.Contents.Layout.SectorSize),
			command.Join("seek=", s.First), "conv=notrunc,fsync"), fmt.Sprintf("%d+0 records out.", s.Count), "Look for the file where it was saved."))
	}
	return append(cmds, reread())
}

func reread() Command {
	return line(command.Fixed(`sync; blockdev --rereadpt "$clone" 2>/dev/null || partprobe "$clone" 2>/dev/null || true`), quiet, "Start the live Linux anew: the kernel still has the old table.")
}

// unmounted is said where a file system cannot be mounted.
const unmounted = "It is no file system that can be mounted: mark the step as failed."

// mount mounts a partition of the clone on a folder, which is made.
func mount(p disk.Partition, folder string) Command {
	return line(command.All(foldered(folder), command.Run("mount", partition(p), folder)), quiet, unmounted)
}

func slashes(path string) string { return strings.ReplaceAll(path, `\`, "/") }

// exists tests whether something is there: -f a file, -d a folder, -e either.
func exists(kind string, path any) command.Node { return command.Run("[", kind, path, "]") }

// unless runs commands where something is not there.
func unless(test command.Node, nodes ...command.Node) command.Node {
	return command.Either(test, command.All(nodes...))
}

// missing tests whether something is not there.
func missing(kind string, path any) command.Node { return command.Run("[", "!", kind, path, "]") }
