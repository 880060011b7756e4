package linux

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// bareShell is the last of the first programs that are looked for: no system, a prompt.
const bareShell = "/bin/sh"

// firstProgram asks whether what the start passes control to is a program: the first of the names that
// there is, where the initial RAM disk chooses. The kernel's init/main.c; Debian's initramfs-tools, init;
// as real ones show (package truth, "coming up").
func firstProgram(a *course.Attempt, home machine.Spot, line kernelLine) *course.Result {
	elsewhere := len(home.Drive.Contents.Mounts(home.Address(), "/usr")) > 0
	if elsewhere {
		return nil
	}
	if named := loader.KernelOptions(line.options, "init"); len(named) > 0 {
		if end, goesOn := namedProgram(a, home, line, named[len(named)-1]); !goesOn {
			return end
		}
	}
	if line.bare {
		return nil
	}
	for _, sign := range machine.FirstPrograms {
		switch there, known := home.Volume().Holds(home.In(sign)); {
		case !known:
			return unseenProgram(a, home, home.In(sign))
		case there && sign == bareShell:
			return withoutInit(a, home, line, "nothing but a shell, "+bareShell)
		case there:
			return runs(a, home, line, home.In(sign))
		}
	}
	return withoutInit(a, home, line, "none")
}

// namedProgram asks whether the first program that the kernel line names is there; goesOn is set where another
// one is looked for instead. The initial RAM disk of
// Debian's initramfs-tools goes on with another one where it is not (its init); that of dracut, by systemd, and
// that of mkinitcpio do not, nor does the kernel by itself (its init/main.c, init=). As real ones show (package
// truth, "coming up").
func namedProgram(a *course.Attempt, home machine.Spot, line kernelLine, name string) (end *course.Result,
	goesOn bool) {
	if strings.HasPrefix(name, "/lib/systemd/") {
		name = "/usr" + name
	}
	may := makers(home)
	skips := !line.bare && slices.Equal(may, []machine.Tool{machine.UpdateInitramfs})
	there, known := home.Volume().Holds(home.In(name))
	text := fmt.Sprintf("The kernel line has %s begin the system's start", name)
	switch {
	case there && slices.Contains(machine.FirstPrograms, name) && !line.bare:
		return runs(a, home, line, home.In(name)), false
	case there, skips:
		return nil, skips && !there
	case !known:
		return openAt(a, home, "first-program-missing-evidence", course.StageSystem,
			text+": whether that is there is not in evidence.", course.HowTry, line.cited), false
	case !line.bare && (len(may) == 0 || slices.Contains(may, machine.UpdateInitramfs)):
		return openAt(a, home, "no-first-program", course.StageSystem,
			text+", and it is not there: some initial RAM disks go on with another one.", course.HowTry, line.cited), false
	}
	stop := a.Stop("no-first-program", course.StageSystem, course.NoInit, text+", and it is not there.", line.cited)
	return &stop, false
}

// unseenProgram ends a start of which the evidence does not tell what it begins with.
func unseenProgram(a *course.Attempt, home machine.Spot, name string) *course.Result {
	text, how := unread(home.Volume(), name, fmt.Sprintf("Whether %s is on %s, of the programs that a system's start begins with,", name, home.Called()))
	return openAt(a, home, "first-program-missing-evidence", course.StageSystem, text, how)
}

// runs asks whether a first program is one, and whether what links it is there.
func runs(a *course.Attempt, home machine.Spot, line kernelLine, name string) *course.Result {
	p, fact, end := payload(a, home, line, name)
	if end != nil {
		end.Home = home
		return end
	}
	text := fmt.Sprintf("%s on %s is what the system's start begins with, and ", name, home.Called())
	if p.Form != loader.PayloadProgram {
		stop := a.Stop("first-program-unsound", course.StageSystem, course.NoInit,
			text+"is no program: it begins otherwise, or is empty.", fact)
		return &stop
	}
	if p.Interpreter == "" {
		return nil
	}
	switch there, known := home.Volume().Holds(home.In(p.Interpreter)); {
	case there:
		return nil
	case !known:
		return openAt(a, home, "first-program-missing-evidence", course.StageSystem,
			text+"whether what links it, "+p.Interpreter+", is there is not in evidence.", course.HowCapture, fact)
	}
	stop := a.Stop("first-program-unsound", course.StageSystem, course.NoInit,
		text+"what links it when it is started, "+p.Interpreter+", is not there: the copy of the system is incomplete.", fact)
	return &stop
}

// withoutInit ends the start of a root that has none of the first programs that are looked for. Systems that
// keep theirs in a folder of their own name it; systemd in an initial RAM disk, as of dracut, goes on with
// the root's own where that is there. systemd's src/shared/switch-root.c and systemctl(1), "switch-root".
func withoutInit(a *course.Attempt, home machine.Spot, line kernelLine, has string) *course.Result {
	if !home.Volume().IsRoot(home.Folder) {
		return nil
	}
	for _, own := range []string{"/nix", "/ostree", "/gnu"} {
		switch there, known := home.Volume().Holds(home.In(own)); {
		case !known:
			return unseenProgram(a, home, home.In(own))
		case there:
			return nil
		}
	}
	text := fmt.Sprintf("The root, %s, has %s of the programs that a system's start begins with, such as /sbin/init: the copy of the system is incomplete, as where its links were left out.",
		home.Called(), has)
	may := makers(home)
	is, known := bySystemd(home)
	other := func(t machine.Tool) bool { return t != machine.UpdateInitramfs }
	if (is || !known) && (len(may) == 0 || slices.ContainsFunc(may, other)) {
		return openAt(a, home, "no-first-program", course.StageSystem, text+" Some initial RAM disks find systemd by itself.",
			course.HowTry, line.cited)
	}
	end := a.Stop("no-first-program", course.StageSystem, course.NoInit, text, line.cited)
	return &end
}

// holdsFolders asks whether the folders are there on which the kernel's own file systems are mounted: a copy
// of files leaves them out where it leaves out what is in them. Who may write to the root makes them.
// Debian's initramfs-tools, init; systemd's src/shared/base-filesystem.c and src/core/mount-setup.c; as real
// ones show (package truth, "coming up").
func holdsFolders(a *course.Attempt, home machine.Spot, line kernelLine) *course.Result {
	lacks := home.Drive.Contents.LacksFolders(home.Address())
	is, known := bySystemd(home)
	if known && !is { // systems of before have none
		lacks = slices.DeleteFunc(lacks, func(name string) bool { return name == "/run" })
	}
	if len(lacks) == 0 {
		return nil
	}
	text := fmt.Sprintf("The root, %s, has no folder %s: the kernel's own file systems are mounted there. The copy left it out.",
		home.Called(), strings.Join(lacks, ", nor "))
	if !is || !known || mountedToWrite(line) || !slices.Equal(makers(home), []machine.Tool{machine.UpdateInitramfs}) {
		return openAt(a, home, "folders-absent", course.StageSystem, text+" Some systems make it themselves.", course.HowTry, line.cited)
	}
	end := a.Stop("folders-absent", course.StageSystem, course.FrozenInit, text, line.cited)
	return &end
}
