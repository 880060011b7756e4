package fit

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// Line is something to have ready before the copy, or to see to after it. It is there
// because of a fact of the case.
type Line struct {
	Key     string
	Text    string
	Why     string // the fact that it is there for
	How     string // how to look, or how it is done
	Command string // to copy; "" for none
	// Evidence is set where the evidence itself shows that it is done.
	Evidence bool
	// First is set for what would make the copy fail or harm something.
	First bool
}

// Situation is what the list is computed from.
type Situation struct {
	Machine  machine.Machine
	Parts    []Part
	Answer   Answer
	Target   Target
	From, To End
	// Models and serial numbers of the two drives, "" where they are not known.
	Original, Clone string
	// BusLater is what the new drive hangs on at its first start.
	BusLater string
	Time     Time
}

// List computes the list: what can make the copy fail or lose something first, then in
// the order in which the work goes.
func (s *Situation) List() []Line {
	var first, rest []Line
	for _, l := range append(append(append(s.health(), s.drives()...), s.around()...), s.swap()...) {
		if l.First && !l.Evidence {
			first = append(first, l)
		} else {
			rest = append(rest, l)
		}
	}
	return append(first, rest...)
}

// health lists what the original's own state asks for.
func (s *Situation) health() []Line {
	var out []Line
	c := s.Machine.ContentsOf(machine.RoleOriginal)
	if c == nil {
		return []Line{{Key: "capture", Text: "Take a capture of the original while it still runs",
			Why: "nothing of it is in evidence", How: "Evidence hands out the command for each system; it only reads."}}
	}
	for _, p := range c.Layout.Problems {
		if p.Code == disk.CodeUnreadable {
			out = append(out, Line{Key: "failing", First: true, Text: "The original is failing: save what matters from it first, and read it once only", Why: p.Text,
				How: "Copy the main partition's files before anything else; then copy every sector with a tool that goes on after errors."})
		}
	}
	whole, known := c.Size()
	for i := range c.Volumes {
		for _, l := range ofVolume(c, i) {
			if strings.HasPrefix(l.Key, "check-") && !l.Evidence && known && s.Target.Bytes > 0 && whole > s.Target.Bytes {
				l.Why += ", which does not fit"
			}
			out = append(out, l)
		}
	}
	windows, _, _ := c.Systems()
	if windows {
		out = append(out, Line{Key: "fast-start", Text: "Switch fast start-up off, and shut Windows down wholly", Why: "Windows is on the original: with fast start-up its file system stays open when it is off",
			How: "In a terminal that was opened as an administrator.", Command: line("shutdown", "/s", "/f", "/t", "0")})
		out = append(out, Line{Key: "security", Text: "Take security software out of the way for the copy, and allow the copying program what it asks for", Why: "Windows is on the original: software that guards the boot record or the files may stop a copy",
			How: "Pause it from its own window; set it back afterwards."})
	}
	return out
}

// ofVolume lists what one volume's state asks for.
func ofVolume(c *machine.Contents, i int) []Line {
	var out []Line
	p, v := c.Layout.Partitions[i], &c.Volumes[i]
	letter := "C"
	if len(v.Letter) == 1 && v.Letter >= "A" && v.Letter <= "Z" {
		letter = v.Letter
	}
	key := func(s string) string { return fmt.Sprintf("%s-%d", s, p.Number) }
	if unclean, known := v.Unclean.Get(); known {
		l := Line{Key: key("check"), First: true, Evidence: !unclean, Text: fmt.Sprintf("Check the file system of partition %d", p.Number),
			Why: "it was not closed cleanly: many ways of copying refuse it, or go on sector by sector"}
		if !unclean {
			l.Text, l.Why = fmt.Sprintf("The file system of partition %d was closed cleanly", p.Number), "its own flag says so"
		}
		switch {
		case unclean && v.Kind == volume.KindNTFS:
			l.Command, l.How = line("chkdsk", letter+":", "/f"), "In Windows, as an administrator; for the running system's own volume it asks for a restart. The letter is the one that Windows gives the volume."
		case unclean && v.Kind == volume.KindExt:
			l.How = "In a live Linux, with the volume not mounted: e2fsck -f and the partition's device."
		}
		if v.Kind == volume.KindNTFS || v.Kind == volume.KindExt {
			out = append(out, l)
		}
	}
	if _, bad := v.Problem(volume.CodeExtErrors); bad {
		out = append(out, Line{Key: key("errors"), First: true, Text: fmt.Sprintf("Repair the file system of partition %d before it is copied", p.Number),
			Why: "it says itself that it has errors: a copy by used blocks takes them along", How: "In a live Linux, with the volume not mounted: e2fsck -f and the partition's device."})
	}
	if asleep, known := v.Hibernated.Get(); known && asleep {
		out = append(out, Line{Key: key("asleep"), First: true, Text: "Wake Windows up and shut it down", Why: fmt.Sprintf("its memory sleeps on partition %d: a copy would wake up in the past", p.Number),
			How: "Start it once, and shut down with the command.", Command: line("shutdown", "/s", "/f", "/t", "0")})
	}
	if v.Kind == volume.KindBitLocker {
		out = append(out, Line{Key: key("encryption"), First: true, Text: fmt.Sprintf("Suspend the encryption of partition %d, and have its recovery key at hand", p.Number),
			Why: "it is encrypted: another drive or another order makes it ask for the key at the first start", How: "In Windows, as an administrator; the key is shown by the second command of manage-bde, -protectors -get.",
			Command: line("manage-bde", "-protectors", "-disable", letter+":", "-RebootCount", "0")})
	}
	if used, known := v.Used.Get(); known {
		if size := disk.Span(p.Length, c.Layout.SectorSize); size > 0 && v.Kind != "" && int64(used) > size/100*95 &&
			size > 1<<30 {
			out = append(out, Line{Key: key("room"), Text: fmt.Sprintf("Make room on partition %d", p.Number),
				Why: fmt.Sprintf("%s of its %s are in use: checking and resizing want some room", disk.Binary(int64(used)), disk.Binary(size)),
				How: "Empty the bin and the downloads, or move what is large elsewhere."})
		}
	}
	return out
}

// drives lists what tells the two drives apart, and the state of the new one.
func (s *Situation) drives() []Line {
	var out []Line
	o, c := s.Machine.ContentsOf(machine.RoleOriginal), s.Machine.ContentsOf(machine.RoleClone)
	if o != nil {
		size, known := o.Size()
		alike := known && s.Target.Bytes > 0 && abs(size-s.Target.Bytes) < size/nearly
		why := "numbers that programs give to disks change when one is pulled; some begin at 0, some at 1"
		if alike {
			why = "both have nearly the same capacity: only serial number, bus and partitions tell them apart"
		}
		out = append(out, Line{Key: "which", First: alike, Text: "Know which disk is which by more than one sign, and put the cards on them", Why: why,
			How: "Compare capacity, model, serial number, bus and partitions on the cards with what the copying program shows."})
	}
	if o != nil && c != nil {
		a, _ := o.Layout.DiskID().Get()
		if b, known := c.Layout.DiskID().Get(); known && a == b {
			out = append(out, Line{Key: "twice", First: true, Text: "See whether the evidence of both is of one and the same disk", Why: fmt.Sprintf("both bear the identifier %s, as a copy does, and as the original does that was looked at twice", b),
				How: "Compare the serial numbers on their labels; a disk is never copied onto itself."})
		}
	}
	switch {
	case c == nil:
	case c.Layout.Style == disk.StyleNone && len(c.Layout.Partitions) == 0:
		out = append(out, Line{Key: "empty", Evidence: true, Text: "The new drive is not initialised: nothing on it is lost", Why: "its first sectors hold no table", How: "A system that asks to initialise it may be answered with no."})
	case len(c.Layout.Partitions) > 0:
		out = append(out, Line{Key: "keep", First: true, Text: "Is anything on the new drive to be kept?", Why: fmt.Sprintf("it holds %s, and the copy overwrites all of it", count(len(c.Layout.Partitions))),
			How: "Look at each of them in the system's file manager."})
	}
	if s.To.Link == "" {
		out = append(out, Line{Key: "shown", Text: "See that the new drive is shown, and online", Why: "how it hangs while it is copied to is not known",
			How: "If no list shows it: cable and power, another port, another enclosure; in Windows the disk-management screen, where it may be offline; last the firmware's own list."})
	}
	return out
}

// line is a command of fixed words.
func line(words ...string) string { return strings.Join(words, " ") }

func abs(n int64) int64 {
	if n < 0 {
		return -n
	}
	return n
}

// around lists what is beside the two drives: the stick, and the power.
func (s *Situation) around() []Line {
	style := "a style that the machine starts"
	switch firmwareMode(s.Machine) {
	case firmware.UEFI, firmware.UEFICSM:
		style = "FAT32 with an EFI program, which UEFI starts"
	case firmware.Legacy:
		style = "an MBR with boot code, which legacy firmware starts"
	}
	_, _, mac := s.Machine.ContentsOf(machine.RoleOriginal).Systems()
	room := "About 1 GB of it is used; "
	if mac {
		room = "A Mac's installer needs 16 GB or more; "
	}
	out := []Line{
		{Key: "stick", Text: "Make a rescue stick, and start this machine from it once before anything is taken apart", Why: "the machine that needs it most is the one that starts nothing", How: room + style + "."},
		{Key: "stick-out", Text: "Take the stick out before the first start", Why: "a machine that starts from it seems to have started from nothing else", How: "Let the copying program switch off when it is done, and not restart."},
	}
	if !s.Time.Known || s.Time.To.Minutes() > 20 {
		why := "how long the copy takes is not known"
		if s.Time.Known {
			why = "the copy takes " + s.Time.Words()
		}
		out = append(out, Line{Key: "power", Text: "Mains power, and no sleep", Why: why, How: "Plug a portable computer in, and set sleep to never."})
	}
	return out
}

// swap lists the exchange of the drives, and the way into the firmware's setup.
func (s *Situation) swap() []Line {
	out := []Line{{Key: "swap", Text: "Exchange the drives: power off, battery out, hold the power button for ten seconds", Why: "the new drive is to hang where the old one hung",
		How: "Photograph brackets and connector before they are undone; look at the orientation of the connector; take the old drive out or unplug it for the first start."}}
	if s.BusLater == "nvme" {
		out = append(out, Line{Key: "slot", Text: "Choose the slot with more lanes and the newer generation", Why: "the new drive hangs on NVMe: slots differ, and some share their lanes with other connectors", How: "The board's handbook, or what is printed beside the slots."})
	}
	windows, linux, mac := s.Machine.ContentsOf(machine.RoleOriginal).Systems()
	l := Line{Key: "setup", Text: "Know the way into the setup and to the one-time start menu", Why: "order and mode are set there",
		How: "By key, held or tapped right after power-on: F2, Delete, F1, F10 or Esc for the setup; F12, F11, F9, F8 or Esc for the one-time menu."}
	switch {
	case mac && !windows && !linux:
		l.How = "Hold Option at power-on, or on newer Macs the power button, until the choice of disks is shown."
	case windows:
		l.Command = line("shutdown", "/r", "/fw", "/t", "0")
	case linux && firmwareMode(s.Machine) != firmware.Legacy:
		l.Command = line("systemctl", "reboot", "--firmware-setup")
	}
	return append(out, l)
}

func count(partitions int) string {
	if partitions == 1 {
		return "a partition"
	}
	return fmt.Sprintf("%d partitions", partitions)
}
