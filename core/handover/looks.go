package handover

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// State is what is known of a thing to look at.
type State string

// The states.
const (
	Open  State = "open" // not looked at, or the answer does not tell
	Right State = "right"
	Wrong State = "wrong"
	Aside State = "aside" // wrong, and a person leaves it so
)

// Look is a thing to look at in the running system. It is there because of a fact of the
// case.
type Look struct {
	Key   string
	Text  string // what is looked at, or what was found of it
	Wants string // what is wanted of it, as a part of a sentence
	Why   string
	State State
	// Ask prints what the answer is judged by; "" where a person looks.
	Ask    string
	Shell  string // where it is typed
	Remedy string // what puts it right, "" for none
	ByHand bool   // a person may say that it is right
	Hide   int    // index of the clone's partition that a letter is to be taken off; -1 for none
}

// Told is what the running system told of itself in the answers of its commands; what is
// nil or empty is not told.
type Told struct {
	Disks      []machine.Described
	Recovery   *bool // the recovery environment is on
	Protected  *bool // every encrypted volume is protected
	Licensed   *bool
	FastStart  *bool
	Mounts     *bool // the table of mounts was checked, and can be mounted
	Services   *bool // all services run
	Encryption *bool // FileVault is on
}

// Situation is what the looks are computed from.
type Situation struct {
	Machine machine.Machine
	Told    Told
	// Beside: both drives will hang in the machine.
	Beside bool
	// FastStart: it was switched off for the copy.
	FastStart bool
	// Seen are what persons said that they looked at, by the look's key.
	Seen map[string]bool
}

const (
	powershell = "PowerShell, as an administrator"
	terminal   = "a terminal"
	asRoot     = "a terminal, as root"
)

// Looks lists what to look at, in the order in which it is done.
func (s *Situation) Looks() []Look {
	clone, original := s.drive(machine.RoleClone), s.drive(machine.RoleOriginal)
	c := contentsOf(clone)
	if c == nil {
		c = contentsOf(original) // as it was copied
	}
	var out []Look
	windows, linux, mac := systems(c)
	switch {
	case windows:
		out = append(out, s.letters(c, original), s.partitions(c, "Get-Partition | Format-List DiskNumber,PartitionNumber,DriveLetter,Offset,Size,GptType,MbrType", powershell))
		out = append(out, s.recoveryLetter(c)...)
		out = append(out, s.recovery(c)...)
		out = append(out, s.activation())
		out = append(out, s.protection(c, contentsOf(original))...)
		out = append(out, s.fastStart()...)
	case linux:
		out = append(out, s.partitions(c, "lsblk --json -b -O", terminal),
			s.told("mounts", s.Told.Mounts, "Everything in /etc/fstab can be mounted", "every line of /etc/fstab to be mountable", "the copy may have new identifiers", "findmnt --verify", asRoot, "Give the line in /etc/fstab the UUID that blkid shows, or take it out."),
			s.told("services", s.Told.Services, "All services run", "all services to run", "what did not come along fails quietly", "systemctl is-system-running", terminal, "systemctl --failed names what does not run."))
	case mac:
		out = append(out, s.partitions(c, "diskutil list -plist", terminal),
			s.told("filevault", s.Told.Encryption, "FileVault stands as before", "FileVault to stand as before", "a copy may come up without it", "fdesetup status", terminal, "System Settings, Privacy & Security: switch FileVault on."))
	default:
		out = append(out, s.partitions(c, "", ""))
	}
	out = append(out, s.identifiers(clone, original, windows)...)
	out = append(out, Look{Key: "programs", Text: "Programs and files are there", Wants: "a look at programs and files", Why: "what was not copied is missed by who works with it", State: Open, ByHand: true, Hide: -1})
	for i := range out {
		if after, can := map[State]State{Open: Right, Wrong: Aside}[out[i].State]; can && s.Seen[out[i].Key] &&
			out[i].ByHand {
			out[i].State = after
		}
	}
	return out
}

func (s *Situation) drive(role machine.Role) *machine.Drive {
	for i := range s.Machine.Drives {
		if s.Machine.Drives[i].Role == role {
			return &s.Machine.Drives[i]
		}
	}
	return nil
}

func contentsOf(d *machine.Drive) *machine.Contents {
	if d == nil {
		return nil
	}
	return d.Contents
}

// systems says which systems a disk holds.
func systems(c *machine.Contents) (windows, linux, mac bool) {
	if c == nil {
		return false, false, false
	}
	for i := range c.Volumes {
		v := &c.Volumes[i]
		windows = windows || v.HasWindows() || v.LegacyManager != "" || v.Kind == volume.KindBitLocker
		linux = linux || v.HasLinux()
		mac = mac || v.Kind == volume.KindAPFS || v.Kind == volume.KindHFS
	}
	return windows, linux, mac
}

// told is a look that one fact of the running system decides.
func (s *Situation) told(key string, is *bool, text, wants, why, ask, shell, remedy string) Look {
	l := Look{Key: key, Text: text, Wants: wants, Why: why, State: Open, Ask: ask, Shell: shell, ByHand: true, Hide: -1}
	if is == nil {
		return l
	}
	l.State = Right
	if !*is {
		l.State, l.Remedy = Wrong, remedy
	}
	return l
}

// onClone finds the disk of an answer that is the clone: the only one whose partitions
// begin where the clone's do. twice is set where more than one does.
func (s *Situation) onClone(c *machine.Contents) (found *machine.Described, twice bool) {
	if c == nil {
		return nil, false
	}
	for i := range s.Told.Disks {
		d := &s.Told.Disks[i]
		if size, known := c.Size(); known && d.Size > 0 && !d.Rounded && !c.Rounded && d.Size != size {
			continue
		}
		fits := 0
		for _, p := range d.Partitions {
			if indexOf(c, p) >= 0 {
				fits++
			}
		}
		if fits == 0 || fits*2 < len(d.Partitions) {
			continue
		}
		twice = found != nil
		found = d
	}
	return found, twice
}

// indexOf is the clone's partition that an answer tells of: the one that begins at the same
// byte, and where no place is told the one of the same GUID; -1 for none.
func indexOf(c *machine.Contents, told machine.DescribedPartition) int {
	return slices.IndexFunc(c.Layout.Partitions, func(p disk.Partition) bool {
		if told.Start > 0 && !told.Rounded {
			return disk.Span(p.Start, c.Layout.SectorSize) == told.Start
		}
		return !told.GUID.IsZero() && p.GUID == told.GUID
	})
}

const bothAnswer = "Two disks in the answer fit the clone: start with the clone alone, and paste it again."

// partitions holds the answer's partitions against the clone's. That one does not show is
// no proof that it is gone: the answer may be cut.
func (s *Situation) partitions(c *machine.Contents, ask, shell string) Look {
	n := 0
	if c != nil {
		n = len(c.Layout.Partitions)
	}
	l := Look{Key: "partitions", Text: "As many partitions as the clone has", Wants: "a look at the partitions", Why: "what a system does not see it does not use", State: Open, Ask: ask, Shell: shell, ByHand: true, Hide: -1}
	if n > 0 {
		l.Text = fmt.Sprintf("%d partitions, as the clone has", n)
	}
	d, twice := s.onClone(c)
	switch {
	case twice:
		l.Text += ". " + bothAnswer
	case d != nil:
		seen := map[int]bool{}
		for _, p := range d.Partitions {
			if i := indexOf(c, p); i >= 0 {
				seen[i] = true
			}
		}
		if len(seen) == n {
			l.State = Right
		} else {
			l.Text = fmt.Sprintf("The answer shows %d of the clone's %d partitions: paste the whole of it", len(seen), n)
		}
	}
	return l
}

// letters holds the letters in the running Windows against those that the original had.
func (s *Situation) letters(c *machine.Contents, original *machine.Drive) Look {
	l := Look{Key: "letters", Text: "Drive letters as before", Wants: "a look at the drive letters", Why: "programs and links name their files by letters", State: Open,
		Ask: "Get-Partition | Format-List DiskNumber,PartitionNumber,DriveLetter,Offset,Size,GptType,MbrType", Shell: powershell, ByHand: true, Hide: -1}
	before := lettersOf(contentsOf(original))
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
		l.State, l.Text, l.Wants = Wrong, capital(sentence(wrong)), "the letters as before"
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
			Ask: "Get-Partition | Format-List DiskNumber,PartitionNumber,DriveLetter,Offset,Size,GptType,MbrType", Shell: powershell, ByHand: true}
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

// identifiers is there where both drives will stay in the machine.
func (s *Situation) identifiers(clone, original *machine.Drive, windows bool) []Look {
	a, b := contentsOf(clone), contentsOf(original)
	if !s.Beside || a == nil || b == nil {
		return nil
	}
	l := Look{Key: "identifiers", Text: "Both disks have identifiers of their own", Wants: "an identifier of its own for each disk", Why: "both drives will hang in the machine", State: Open, Hide: -1, ByHand: true,
		Ask: "lsblk --json -b -O", Shell: terminal}
	if windows {
		l.Ask, l.Shell = "Get-Disk | Format-List Number,FriendlyName,Size,PartitionStyle,Guid,Signature", powershell
	}
	ids := map[string]int{}
	for _, d := range s.Told.Disks {
		if d.ID != "" {
			ids[strings.ToLower(d.ID)]++
		}
	}
	most := 0
	for _, n := range ids {
		most = max(most, n)
	}
	switch {
	case most > 1:
		l.State, l.Text = Wrong, "Two disks have the same identifier: the system takes one of them offline"
		l.Remedy = "Under Repair, what is worth doing afterwards gives the original a new one."
	case len(ids) > 1:
		l.State = Right
	case len(s.Told.Disks) == 0:
		x, known := a.Layout.DiskID().Get()
		if y, also := b.Layout.DiskID().Get(); known && also && strings.EqualFold(x, y) {
			l.Text = "Both disks had the same identifier when they were looked at"
		}
	}
	return []Look{l}
}
