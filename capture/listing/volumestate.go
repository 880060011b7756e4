package listing

import (
	"regexp"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// What Windows says of its volumes' state and letters: fsutil dirty query, and mountvol. On
// a GPT the GUID of a volume's name is that of its partition. From memory.

var (
	dirtyLine  = regexp.MustCompile(`(?i)^Volume - ([A-Z]): (?:is|ist) (NOT |NICHT )?(?:Dirty|schmutzig|fehlerhaft)\.?\s*$`)
	volumeName = regexp.MustCompile(`^\s*\\\\\?\\Volume(\{[0-9A-Fa-f-]{36}\})\\\s*$`)
	mountPoint = regexp.MustCompile(`^\s+([A-Z]):\\\s*$`)
	noMount    = regexp.MustCompile(`^\s+\*\*\*.*\*\*\*\s*$`)
)

// mounted is a volume with its letter; none is set where it is told to have none.
type mounted struct {
	guid   disk.GUID
	letter string
	none   bool
	line   int
}

func isDirtyQuery(t *text) bool { return anyLine(t, dirtyLine.MatchString) }

func readDirtyQuery(t *text, l *Listing) {
	for i, s := range t.lines {
		m := dirtyLine.FindStringSubmatch(strings.TrimSpace(s))
		if m == nil {
			if strings.TrimSpace(s) != "" {
				l.mark(i+1, Passed, "")
			}
			continue
		}
		dirty, says := "yes", "was not closed cleanly"
		if m[2] != "" {
			dirty, says = "no", "was closed cleanly"
		}
		l.volumes = append(l.volumes, object(i+1, []string{"DriveLetter", "Dirty"}, []string{strings.ToUpper(m[1]), dirty}))
		l.mark(i+1, Understood, "volume %s %s", strings.ToUpper(m[1]), says)
	}
}

func isMountvol(t *text) bool { return anyLine(t, volumeName.MatchString) }

func readMountvol(t *text, l *Listing) {
	var last *mounted
	for i, s := range t.lines {
		switch {
		case volumeName.MatchString(s):
			last = nil
			if g, err := disk.ParseGUID(strings.Trim(volumeName.FindStringSubmatch(s)[1], "{}")); err == nil {
				l.mounts = append(l.mounts, mounted{guid: g, line: i + 1})
				last = &l.mounts[len(l.mounts)-1]
			}
			l.mark(i+1, Understood, "a volume by its GUID")
		case mountPoint.MatchString(s) && last != nil:
			last.letter = mountPoint.FindStringSubmatch(s)[1]
			l.mark(i+1, Understood, "it has the letter %s", last.letter)
		case noMount.MatchString(s) && last != nil:
			last.none = true
			l.mark(i+1, Understood, "it has no letter")
		case strings.TrimSpace(s) != "":
			l.mark(i+1, Passed, "")
		}
	}
}

// placeMounts gives partitions the letters of the volumes that bear their GUIDs.
func (l *Listing) placeMounts() {
	for _, m := range l.mounts {
		p := l.withGUID(m.guid)
		switch {
		case p == nil:
			l.Unplaced = append(l.Unplaced, m.line)
		case m.letter != "":
			p.Letter, p.Unlettered = m.letter, false
		case m.none && p.Letter == "":
			p.Unlettered = true
		}
	}
	l.mounts = nil
}

// withGUID finds the one partition of a GUID; nil where there is none, or where a disk and
// its copy are both in the text.
func (l *Listing) withGUID(g disk.GUID) (found *machine.DescribedPartition) {
	for i := range l.Disks {
		for j := range l.Disks[i].Partitions {
			if p := &l.Disks[i].Partitions[j]; !g.IsZero() && p.GUID == g {
				if found != nil {
					return nil
				}
				found = p
			}
		}
	}
	return found
}
