package repair

import (
	"slices"
	"strings"

	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// onDisk is a move that changes the clone's contents.
func onDisk(m machine.Machine, s PlanStep, key string, changed *machine.Contents,
	tools map[Toolbox]func() []Command) move {
	d := clone(m)
	s.Disk = d.Name
	return move{PlanStep: s, key: key, on: d, tools: tools,
		result: with(m, d.Name, func(d *machine.Drive) { d.Contents = changed })}
}

// move is an action as it can be done on a machine.
type move struct {
	PlanStep
	on     *machine.Drive // the drive that its commands find; nil: they find none
	tools  map[Toolbox]func() []Command
	before machine.Machine
	result machine.Machine
	key    string // becomes the step's Key
	alone  bool   // its tool wants the clone to be the disk that it was started from
}

// choose picks the first allowed toolbox; ok is false when none is.
func (m *move) choose(allowed []Toolbox) bool {
	for _, t := range Toolboxes {
		if slices.Contains(allowed, t) && m.can(t) {
			m.Toolbox, m.Key = t, m.key
			return true
		}
	}
	return false
}

func (m *move) can(t Toolbox) bool {
	if _, own := m.tools[t]; own {
		return !m.doubled(t)
	}
	if t == OldDrive {
		_, ok := m.fromOldDrive()
		return ok
	}
	return false
}

// doubled reports whether the commands would find two drives where they look for one.
func (m *move) doubled(t Toolbox) bool {
	return m.on != nil && m.on.Role == machine.RoleClone && m.on.Contents != nil && t != Firmware && t != OldDrive &&
		hasTwin(m.before, m.on, t)
}

// fromOldDrive returns the toolbox whose commands can be given in the original's
// own system: it must start by itself, and Windows takes a disk of the same
// identifier offline.
func (m *move) fromOldDrive() (Toolbox, bool) {
	if m.on == nil || m.alone {
		return "", false
	}
	for i := range m.before.Drives {
		o := &m.before.Drives[i]
		if o.Role != machine.RoleOriginal || o.Contents == nil || m.on.Role == machine.RoleOriginal {
			continue
		}
		_, windows := windowsOn(o)
		_, linux := linuxOn(o)
		if _, can := m.tools[Linux]; can && linux {
			return Linux, !twins(m.on, o, Linux) && startsAlone(m.before, o.Name)
		}
		mine, known := m.on.Contents.Layout.DiskID().Get()
		theirs, _ := o.Contents.Layout.DiskID().Get()
		if _, can := m.tools[WindowsRecovery]; can && windows && known && mine != theirs {
			return WindowsRecovery, startsAlone(m.before, o.Name)
		}
	}
	return "", false
}

// form renders the step for a toolbox. Commands that write to a disk find it
// first, and save what they overwrite.
func (m *move) form(t Toolbox) Form {
	as := t
	if _, own := m.tools[t]; !own {
		as, _ = m.fromOldDrive()
	}
	body := m.tools[as]()
	f := Form{Toolbox: t, Commands: body}
	if shell := shells[as]; slices.ContainsFunc(body, func(c Command) bool { return !c.ByHand }) {
		f.Shell = shell
	}
	if m.on == nil || f.Shell == "" {
		return f
	}
	switch as {
	case Linux:
		f.Commands = append([]Command{findClone(m.on)}, saveLinux(m.on, m.Action, m.Saves)...)
		f.PutBack = putBackLinux(m.on, m.Action, m.Saves)
	case WindowsRecovery:
		f.Commands = append(findInWindows(m.on), saveWindows(arch(m.before), m.Action, m.Saves)...)
		f.PutBack = putBackWindows(m.on, arch(m.before), m.Action, m.Saves)
	default:
		return f
	}
	f.Commands = append(f.Commands, body...)
	if t != as {
		f.Commands = slices.Concat([]Command{putOldBack(as)}, f.Commands, []Command{takeOldOut})
	}
	return f
}

// finish completes a chosen step: its form, those for the other allowed toolboxes,
// and in words what is saved first. A toolbox whose lines carry every name comes
// before one whose lines do not.
func (m *move) finish(allowed []Toolbox) PlanStep {
	s := m.PlanStep
	forms := []Form{m.form(s.Toolbox)}
	for _, t := range Toolboxes {
		if t != s.Toolbox && slices.Contains(allowed, t) && m.can(t) {
			forms = append(forms, m.form(t))
		}
	}
	slices.SortStableFunc(forms, func(a, b Form) int {
		switch {
		case a.carried() == b.carried():
			return 0
		case a.carried():
			return -1
		}
		return 1
	})
	s.Form, s.Also = forms[0], forms[1:]
	if s.Saves == nil {
		s.Saves = []Sectors{}
	}
	if len(s.Saves) > 0 || s.Save == "" {
		s.Save = strings.TrimSpace(savedFirst(s.Saves) + " " + s.Save)
	}
	return s
}

// copied is a program that is copied within a boot partition.
type copied struct{ from, to string }

// startable lists the programs of a boot partition that the firmware may be led to. A GRUB
// that lies beside a shim is started by that: past it, secure boot would refuse it.
func startable(v *machine.Volume, a firmware.Arch) (list []loader.Found) {
	shims := map[string]bool{}
	folder := func(f loader.Found) string { return strings.ToLower(f.Path[:strings.LastIndexByte(f.Path, '\\')+1]) }
	for _, f := range v.Loaders {
		if f.Err == nil && f.Program.Arch == a && f.Program.Application() {
			list = append(list, f)
			shims[folder(f)] = shims[folder(f)] || f.Is() == loader.Shim
		}
	}
	return slices.DeleteFunc(list, func(f loader.Found) bool { return shims[folder(f)] && f.Is() == loader.GRUB })
}

// maxLoaders bounds the loaders that are tried for one step.
const maxLoaders = 8

// likeliest is, of moves that do the same with one loader or another, the first behind which the machine starts, else
// the first behind which it may, else the first.
func likeliest(moves []move) []move {
	if len(moves) < 2 {
		return moves
	}
	may := -1
	for i := range moves[:min(len(moves), maxLoaders)] {
		switch startup.Simulate(moves[i].result).Verdict {
		case startup.Starts:
			return moves[i : i+1]
		case startup.Depends:
			if may < 0 {
				may = i
			}
		}
	}
	may = max(may, 0)
	return moves[may : may+1]
}
