package listing

import (
	"regexp"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Get-Partition's table tells of which disk its partitions are by the disk's path alone, Get-Disk's
// by number and name. The path holds the drive's own words for itself: SCSI INQUIRY's, of 8 and 16
// characters, with underlines for what is no letter. The maker's "Identifiers for SCSI devices".

var diskPath = regexp.MustCompile(`(?i)^\s*DiskPath\s*:\s*(\\\\\?\\\S+)`)

var noWord = regexp.MustCompile(`[^a-z0-9]+`)

var pathWords = regexp.MustCompile(`(?i)&ven_([^&#]*)&prod_([^&#]*)`)

// pathNamed is the name of a disk that a path alone tells, until it is known which one it is.
const pathNamed = "Disk with path "

// byPath gives the partitions that a path names to the one disk of that name, where no other disk
// and no other path has it.
func (l *Listing) byPath() {
	of := map[string][]string{} // paths by the disk that may be meant
	meant := map[string]string{}
	for name, path := range l.paths {
		d := l.known(name)
		if d == nil {
			continue
		}
		var may []string
		for i := range l.Disks {
			o := &l.Disks[i]
			bare := !strings.HasPrefix(o.Name, pathNamed) && len(o.Partitions) == 0
			if bare && goesWith(d, o) && sameWords(path, o.Model) {
				may = append(may, o.Name)
			}
		}
		if len(may) == 1 {
			of[may[0]], meant[name] = append(of[may[0]], name), may[0]
		}
	}
	for name, number := range meant {
		if len(of[number]) > 1 {
			continue
		}
		from, to := l.known(name), l.known(number)
		to.Partitions, to.Whole = from.Partitions, from.Whole
		if to.Style == "" {
			to.Style, to.StyleLine = from.Style, from.StyleLine
		}
		l.Disks = slices.DeleteFunc(l.Disks, func(d machine.Described) bool { return d.Name == name })
	}
	l.alone()
}

// alone names the disk of the only path.
func (l *Listing) alone() {
	if d := l.known(pathNamed + "1"); d != nil && len(l.paths) == 1 && l.known("Disk") == nil {
		d.Name = "Disk"
	}
}

func (l *Listing) known(name string) *machine.Described {
	for i := range l.Disks {
		if l.Disks[i].Name == name {
			return &l.Disks[i]
		}
	}
	return nil
}

// goesWith reports whether partitions can be those of a disk, by style and capacity.
func goesWith(parts, d *machine.Described) bool {
	if parts.Style != "" && d.Style != "" && d.Style != disk.StyleNone && parts.Style != d.Style {
		return false
	}
	for _, p := range parts.Partitions {
		if d.Size > 0 && p.Start+p.Length > d.Size+d.Size/64 {
			return false
		}
	}
	return true
}

// sameWords reports whether a path's words for a drive are those that its name begins with.
func sameWords(path, name string) bool {
	m := pathWords.FindStringSubmatch(path)
	plain := func(s string) string {
		return strings.Trim(noWord.ReplaceAllString(strings.ToLower(s), "_"), "_")
	}
	if m == nil || plain(m[2]) == "" {
		return false
	}
	n, maker, product := plain(name), plain(m[1]), plain(m[2])
	return strings.HasPrefix(n, product) || maker != "" && strings.HasPrefix(n, maker+"_"+product)
}
