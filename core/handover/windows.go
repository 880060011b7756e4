package handover

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// partitionList prints the partitions with their places and letters.
const partitionList = "Get-Partition | Format-List DiskNumber,PartitionNumber,DriveLetter,Offset,Size,GptType,MbrType"

// letters holds the letters in the running Windows against those that the original had.
func (s *Situation) letters(c *machine.Contents, original *machine.Contents) Look {
	l := Look{Key: "letters", Text: "Drive letters as before", Wants: "a look at the drive letters", Why: "programs and links name their files by letters", State: Open,
		Ask: partitionList, Shell: powershell, ByHand: true, Hide: -1}
	before := lettersOf(original)
	if len(before) > 0 {
		l.Text = "Drive letters as before: " + strings.Join(before, ", ")
	}
	d, twice := s.onClone(c)
	if twice {
		l.Text += ". " + bothAnswer
		return l
	}
	if d == nil {
		return l
	}
	var now, wrong []string
	system := false // its letter is told
	for _, p := range d.Partitions {
		i := indexOf(c, p)
		if i < 0 || p.Letter == "" {
			continue
		}
		now = append(now, p.Letter+":")
		system = system || c.Volumes[i].HasWindows()
		if c.Volumes[i].HasWindows() && p.Letter != "C" {
			wrong = append(wrong, fmt.Sprintf("the system has the letter %s", p.Letter))
		}
	}
	for _, letter := range before {
		if !slices.Contains(now, letter) && d.Whole {
			wrong = append(wrong, "nothing has the letter "+letter)
		}
	}
	switch {
	case len(wrong) > 0:
		l.State, l.Text, l.Wants = Wrong, machine.UpperFirst(sentence(wrong)), "the letters as before"
		l.Remedy = "Where the system's own letter changed, Windows remembers the old drive: unplug it, and remove what is remembered (mountvol /R). Others are given in Disk Management."
	case system && !slices.ContainsFunc(before, func(s string) bool { return !slices.Contains(now, s) }):
		l.State, l.Text = Right, "Drive letters: "+strings.Join(now, ", ")
	}
	return l
}

// lettersOf are the letters of a disk's volumes, as far as evidence tells them.
func lettersOf(c *machine.Contents) []string {
	var out []string
	if c != nil {
		for i := range c.Volumes {
			if l := c.Volumes[i].Letter; l != "" {
				out = append(out, l+":")
			}
		}
	}
	slices.Sort(out)
	return out
}

// recoveryLetter is there where a recovery partition has a letter: it will say that it is
// full.
func (s *Situation) recoveryLetter(c *machine.Contents) []Look {
	if c == nil {
		return nil
	}
	d, twice := s.onClone(c)
	var out []Look
	for i, p := range c.Layout.Partitions {
		if p.Type.Role != disk.RoleRecovery && !strings.Contains(strings.ToLower(p.Name+" "+c.Volumes[i].Label), "recovery") {
			continue
		}
		letter, shown := c.Volumes[i].Letter, false
		if d != nil && !twice {
			for _, q := range d.Partitions {
				if indexOf(c, q) == i {
					letter, shown = q.Letter, q.Unlettered
				}
			}
		}
		l := Look{Key: fmt.Sprintf("recovery-letter-%d", p.Number), Hide: -1, State: Open, Why: "with a letter it turns up among the drives, and nags that it is full",
			Text: fmt.Sprintf("The recovery partition (%d) has no letter", p.Number), Wants: "the recovery partition without a letter",
			Ask: partitionList, Shell: powershell, ByHand: true}
		switch {
		case letter != "":
			l.State, l.Text, l.Hide = Wrong, fmt.Sprintf("The recovery partition (%d) has the letter %s, and will say that it is full", p.Number, letter), i
		case shown:
			l.State = Right
		}
		out = append(out, l)
	}
	return out
}

func (s *Situation) recovery(c *machine.Contents) []Look {
	if c == nil || !slices.ContainsFunc(c.Layout.Partitions,
		func(p disk.Partition) bool { return p.Type.Role == disk.RoleRecovery }) && s.Told.Recovery == nil {
		return nil
	}
	l := s.told("recovery", s.Told.Recovery, "The recovery environment is on", "the recovery environment switched on", "the disk has a recovery partition, and a copy often leaves it switched off", "reagentc /info", "a command prompt, as an administrator", "reagentc /enable")
	if l.State == Wrong {
		l.Text = "The recovery environment is off"
	}
	return []Look{l}
}

func (s *Situation) activation() Look {
	l := s.told("activation", s.Told.Licensed, "Windows is activated", "Windows activated", "another drive can be taken for another machine",
		`Get-CimInstance SoftwareLicensingProduct -Filter "PartialProductKey is not null" | Format-List Name,LicenseStatus`, powershell, "Settings, Activation: troubleshoot; it takes a network.")
	if l.State == Wrong {
		l.Text = "Windows is not activated"
	}
	return l
}

// protection is there where a volume is or was encrypted.
func (s *Situation) protection(all ...*machine.Contents) []Look {
	encrypted := s.Told.Protected != nil
	for _, c := range all {
		if c != nil {
			encrypted = encrypted ||
				slices.ContainsFunc(c.Volumes, func(v machine.Volume) bool { return v.Kind == volume.KindBitLocker })
		}
	}
	if !encrypted {
		return nil
	}
	l := s.told("protection", s.Told.Protected, "The encryption's protection is on again", "the encryption's protection resumed", "it is suspended for a copy, and stays so until it is resumed", "manage-bde -status", "a command prompt, as an administrator", "manage-bde -protectors -enable C:")
	if l.State == Wrong {
		l.Text = "The encryption's protection is suspended or off"
	}
	return []Look{l}
}

// fastStart is there where it was switched off for the copy.
func (s *Situation) fastStart() []Look {
	if !s.FastStart && s.Told.FastStart == nil {
		return nil
	}
	l := s.told("fast-start", s.Told.FastStart, "Fast start-up is on again", "fast start-up as it was", "it was switched off for the copy",
		`reg query "HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Power" /v HiberbootEnabled`, "a command prompt", `Control Panel, Power Options, what the power button does: fast start-up. Leave it off where it was off before.`)
	if l.State == Wrong { // it may have been off before
		l.State, l.Text = Open, "Fast start-up is off: leave it so where it was off before"
	}
	return []Look{l}
}
