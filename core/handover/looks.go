package handover

import (
	"fmt"
	"strings"

	"latchkey/core/machine"
)

// Looks lists what to look at, in the order in which it is done.
func (s *Situation) Looks() []Look {
	clone, original := s.Machine.ContentsOf(machine.RoleClone), s.Machine.ContentsOf(machine.RoleOriginal)
	c := clone
	if c == nil {
		c = original // as it was copied
	}
	var out []Look
	windows, linux, mac := c.Systems()
	switch {
	case windows:
		out = append(out, s.letters(c, original), s.partitions(c, partitionList, powershell))
		out = append(out, s.recoveryLetter(c)...)
		out = append(out, s.recovery(c)...)
		out = append(out, s.activation())
		out = append(out, s.protection(c, original)...)
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

// identifiers is there where both drives will stay in the machine.
func (s *Situation) identifiers(a, b *machine.Contents, windows bool) []Look {
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
