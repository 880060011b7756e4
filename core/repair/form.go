package repair

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

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
		return true
	}
	if t == OldDrive {
		_, ok := m.fromOldDrive()
		return ok
	}
	return false
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
			return Linux, startsAlone(m.before, o.Name)
		}
		mine, known := m.on.Contents.Layout.DiskID().Get()
		theirs, _ := o.Contents.Layout.DiskID().Get()
		if _, can := m.tools[WindowsRecovery]; can && windows && known && mine != theirs {
			return WindowsRecovery, startsAlone(m.before, o.Name)
		}
	}
	return "", false
}

// startsAlone reports whether a drive starts when it is the only one attached.
func startsAlone(m machine.Machine, name string) bool {
	v := startup.Simulate(machine.Alone(m, name)).Verdict
	return v == startup.Starts || v == startup.StartsOriginal
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

func putOldBack(as Toolbox) Command {
	prompt := "open a command prompt as administrator"
	if as == Linux {
		prompt = "open a terminal as root (sudo -i)"
	}
	return Command{ByHand: true, Text: "Power off. Put the old drive back, with the clone on a second port or in an enclosure; start the old drive's system, and " + prompt + ".",
		Good: "The old system comes up, and shows the clone as its second disk.", Bad: "It came up from the clone, or not at all: choose the old drive in the firmware's boot menu."}
}

var takeOldOut = Command{ByHand: true, Text: "Shut down, and attach the drives as they were before.", Good: "The clone hangs where it is to stay.", Bad: "Look at the models and capacities."}

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

func savedFirst(saves []Sectors) string {
	if len(saves) == 0 {
		return "Nothing: no sector of the disk's tables is overwritten."
	}
	var runs []string
	for _, r := range saves {
		if r.Count == 1 {
			runs = append(runs, fmt.Sprint("sector ", r.First))
		} else {
			runs = append(runs, fmt.Sprintf("sectors %d to %d", r.First, r.First+r.Count-1))
		}
	}
	text := strings.Join(runs, ", ")
	return strings.ToUpper(text[:1]) + text[1:] + ": the commands do so."
}

// tableSectors are the sectors of a disk's partition tables: the GPT at both
// ends, or sector 0.
func tableSectors(c *machine.Contents) []Sectors {
	if c.Layout.Style != disk.StyleGPT {
		return []Sectors{{0, 1}}
	}
	entries := uint64(0)
	if g := c.Layout.GPT.Valid(); g != nil {
		entries = uint64(g.Header.NumberOfPartitionEntries) * uint64(g.Header.SizeOfPartitionEntry)
	}
	return gptSectors(c, entries)
}

// gptSectors are what a GPT takes at both ends of a disk, by the bytes of its
// entries: at least 16,384. UEFI Specification 2.10, section 5.3.1.
func gptSectors(c *machine.Contents, entries uint64) []Sectors {
	entries = max(entries, 16384)
	table := 1 + (entries+uint64(c.Layout.SectorSize)-1)/uint64(c.Layout.SectorSize) // with the header
	return []Sectors{{0, 1 + table}, {c.Layout.Sectors - table, table}}
}

// bootSectors are the first sectors of a partition, which its file system's boot
// code takes: eight kibibytes.
func bootSectors(c *machine.Contents, p disk.Partition) Sectors {
	return Sectors{p.Start, min(p.Length, 8192/uint64(c.Layout.SectorSize))}
}

// formatted are the sectors that a new FAT may take: eight mebibytes hold the
// tables of up to 4 GiB.
func formatted(c *machine.Contents, p disk.Partition) Sectors {
	return Sectors{p.Start, min(p.Length, 8<<20/uint64(c.Layout.SectorSize))}
}
