package repair

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
)

func isUEFI(m machine.Machine) bool {
	mode, known := m.Firmware.Mode.Get()
	return known && mode != firmware.Legacy
}

func isLegacy(m machine.Machine) bool {
	mode, known := m.Firmware.Mode.Get()
	return known && mode != firmware.UEFI
}

func arch(m machine.Machine) firmware.Arch {
	if a, known := m.Firmware.Arch.Get(); known {
		return a
	}
	return firmware.X64
}

// answered settles a question in the machine.
func answered(m machine.Machine, id, option string) machine.Machine {
	answers := map[string]string{}
	maps.Copy(answers, m.Answers)
	answers[id] = option
	m.Answers = answers
	return m
}

func espOf(c *machine.Contents) int {
	for i, p := range c.Layout.Partitions {
		if p.IsESP() {
			return i
		}
	}
	return -1
}

// toldApart reports whether a guard tells two disks apart: by their identifiers, or by their
// sizes. One that was read off a screen, or is not known, tells nothing.
func toldApart(a, b *machine.Drive) bool {
	x, y := identifier(a), identifier(b)
	if x != "" && y != "" && x != y {
		return true
	}
	m, known := a.Contents.Size()
	n, also := b.Contents.Size()
	return known && also && !a.Contents.Rounded && !b.Contents.Rounded && m != n
}

// original returns the original when its very sectors are in evidence.
func original(m machine.Machine) *machine.Drive {
	for i := range m.Drives {
		d := &m.Drives[i]
		if d.Role == machine.RoleOriginal && d.Contents != nil && !isTold(d.Contents) {
			return d
		}
	}
	return nil
}

// startsAlone reports whether a drive starts when it is the only one attached.
func startsAlone(m machine.Machine, name string) bool {
	v := startup.Simulate(machine.Alone(m, name)).Verdict
	return v == startup.Starts || v == startup.StartsOriginal
}

func serialOf(drive command.Name) command.Simple {
	return command.Run("lsblk", "-dnro", "SERIAL", command.Var(drive))
}

// identifier is the disk's as blkid prints it; "" where a damaged table may keep
// it from being read.
func identifier(d *machine.Drive) string {
	l := &d.Contents.Layout
	id, known := l.DiskID().Get()
	_, refused := l.RefusedByLinux() // blkid takes such a table for none, too
	if !known || !disk.IsID(id) || refused || l.Style == disk.StyleGPT && l.GPT != nil &&
		l.GPT.Primary.State != disk.CopyGood {
		return ""
	}
	return strings.ToLower(id)
}

// namesNoTable reports whether the system's tools are known to see no table on a disk, or one
// without an identifier.
func namesNoTable(c *machine.Contents) bool {
	_, none := c.Layout.NoneForTools()
	return c.LacksTable() || none || c.Layout.Stale != nil
}

// shownByDiskpart is a capacity as list disk shows it, without its last letter,
// which differs by language; from memory.
func shownByDiskpart(size int64) string {
	for i, unit := range []string{"K", "M", "G", "T"} {
		if n := size >> (10 * (i + 1)); n < 10240 || unit == "T" {
			return fmt.Sprintf("%d %s", n, unit)
		}
	}
	return ""
}

// windowsOn returns the partition of a Windows system.
func windowsOn(d *machine.Drive) (int, bool) {
	if d.Contents != nil {
		for i := range d.Contents.Volumes {
			if d.Contents.Volumes[i].HasWindows() && !d.Contents.Lost(d.Contents.Layout.Partitions[i]) {
				return i, true
			}
		}
	}
	return 0, false
}

// encrypted reports whether the system's partition is.
func encrypted(d *machine.Drive) bool {
	i, ok := windowsOn(d)
	return ok && d.Contents.Volumes[i].Kind == volume.KindBitLocker
}

// linuxOn returns where a Linux system lies whose volume a repair can reach.
func linuxOn(d *machine.Drive) (machine.Address, bool) {
	if d.Contents == nil {
		return machine.Address{}, false
	}
	root, ok := d.Contents.LinuxRoot()
	return root, ok && d.Contents.Whole(root) && namable(d.Contents, root)
}

// validName is what a volume group or a logical volume may be called. lvm(8), "VALID NAMES".
var validName = regexp.MustCompile(`^[A-Za-z0-9+_.][A-Za-z0-9+_.-]*$`)

// namable reports whether all that a volume lies in has names that its tools take for names.
func namable(c *machine.Contents, at machine.Address) bool {
	for _, around := range append(c.Around(at), machine.Address{Index: at.Index, Inside: at.Inside}) {
		if around.Inside == 0 {
			continue
		}
		n := c.Volumes[around.Index].Inner[around.Inside-1]
		if n.Name != "" && (!validName.MatchString(n.Of) || !validName.MatchString(n.Name)) {
			return false
		}
	}
	return true
}

// bootOf returns the partition that boot files belong on under the firmware's
// mode; -1 when there is none that is fit for them.
func bootOf(m machine.Machine, c *machine.Contents) int {
	if isUEFI(m) {
		if i := espOf(c); i >= 0 && writable(&c.Volumes[i]) {
			return i
		}
		return -1
	}
	for i, p := range c.Layout.Partitions {
		if p.Active && c.Layout.Style == disk.StyleMBR {
			return i
		}
	}
	return -1
}

// writable reports whether files can be put on a volume: on a FAT whose table does not say
// what is in use, they would be written over others.
func writable(v *machine.Volume) bool {
	_, damaged := v.Problem(volume.CodeFATTable)
	return v.IsFAT() && !damaged
}

// windowsPlace is where Windows' boot files belong on the clone, where its system
// lies, and the mode that they are for.
func windowsPlace(m machine.Machine) (boot, system int, mode firmware.Mode, ok bool) {
	d := clone(m)
	system, ok = windowsOn(d)
	mode, known := m.Firmware.Mode.Get()
	if !ok || !known {
		return 0, 0, "", false
	}
	if mode == firmware.UEFICSM {
		mode = firmware.UEFI
	}
	boot = bootOf(m, d.Contents)
	return boot, system, mode, boot >= 0
}

// embeds reports whether GRUB's core image has a place on a disk: a BIOS boot
// partition on a GPT, room before the first partition on an MBR. GRUB manual,
// section "BIOS installation".
func embeds(c *machine.Contents) bool {
	if c.Layout.Style != disk.StyleGPT {
		return gapAfterTable(c) >= 256
	}
	return slices.ContainsFunc(c.Layout.Partitions,
		func(p disk.Partition) bool { return p.TypeGUID == disk.TypeBIOSBoot })
}

// What a Mac's recovery can do. start-rules, stage 7; common practice, no source.

func isMac(m machine.Machine) bool {
	mac, known := m.Firmware.Behaviour.Of(firmware.ReadsMacVolumes).Get()
	return known && mac
}

// toldOnly reports whether nobody has read the clone's tables.
func toldOnly(m machine.Machine) bool {
	d := clone(m)
	return d != nil && d.Contents != nil && isTold(d.Contents)
}

// isTold reports whether a listing or a person tells of a disk, and not its bytes.
func isTold(c *machine.Contents) bool {
	return c.Layout.GPT.Told() ||
		slices.ContainsFunc(c.Volumes, func(v machine.Volume) bool { return v.Told })
}

func clone(m machine.Machine) *machine.Drive {
	return m.Drive(machine.RoleClone)
}

// with returns the machine with a changed drive.
func with(m machine.Machine, name string, change func(*machine.Drive)) machine.Machine {
	m.Drives = slices.Clone(m.Drives)
	for i := range m.Drives {
		if m.Drives[i].Name == name {
			change(&m.Drives[i])
		}
	}
	return m
}

var afterRepair = fact.Source{Origin: fact.Computed, Structure: "after the repair"}

// diskpartID is a disk's identifier as uniqueid prints it: a GUID in braces, or
// eight hexadecimal digits; "" when it is not known.
func diskpartID(d *machine.Drive) string {
	id, known := d.Contents.Layout.DiskID().Get()
	switch {
	case !known || !disk.IsID(id):
		return ""
	case d.Contents.Layout.Style == disk.StyleGPT:
		return "{" + strings.ToUpper(strings.Trim(id, "{}")) + "}"
	}
	return strings.ToUpper(id)
}
