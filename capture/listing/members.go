package listing

import (
	"path"
	"regexp"
	"strings"

	"latchkey/core/volume"
)

// What Linux says of partitions that are parts of something: pvs(8) and pvdisplay(8),
// mdadm(8) --detail and --examine, /proc/mdstat, cryptsetup(8) luksDump, mount(8), findmnt(8) and swapon(8).
// From memory.

var (
	pvsRow     = regexp.MustCompile(`^\s*(/dev/\S+)\s+(?:\S+\s+)?lvm2\s`)
	pvName     = regexp.MustCompile(`^\s*PV Name\s+(/dev/\S+)\s*$`)
	raidMember = regexp.MustCompile(`^\s*(?:\d+|-)\s+\d+\s+\d+\s+(?:\d+|-)\s+[a-z ]*?\s+(/dev/\S+)\s*$`)
	raidLevel  = regexp.MustCompile(`^\s*Raid Level : `)
	raidDevice = regexp.MustCompile(`^(/dev/\S+):$`)
	mdstatRow  = regexp.MustCompile(`^md\S* : (?:in)?active (?:\([a-z-]+\) )?(?:[a-z]+\d* )?((?:\S+\[\d+\](?:\([A-Z]\))* ?)+)$`)
	lvsDevice  = regexp.MustCompile(`\s(/dev/\S+)\(\d+\)\s*$`)
	luksHead   = regexp.MustCompile(`^LUKS header information(?: for (/dev/\S+))?`)
	luksOf     = regexp.MustCompile(`luksDump\s+(?:-\S+\s+)*(/dev/\S+)`)
	luksUUID   = regexp.MustCompile(`^UUID:\s+([0-9a-f-]{36})\s*$`)
	mountedRow = regexp.MustCompile(`^(/dev/\S+) on (/\S*) type (\w+) \(`)
	// mountedNow is a line of /proc/mounts, proc(5): its options begin with rw or ro.
	mountedNow = regexp.MustCompile(`^(/dev/\S+) (/\S*) (\w+) r[ow](?:,\S*)? 0 0\s*$`)
	// foundMount is a row of findmnt(8): where, which device (and folder in it), its kind and options.
	foundMount = regexp.MustCompile("^[\\s│├└─|`-]*(/\\S*)\\s+(/dev/[^\\s\\[]+)(?:\\[[^\\]]*\\])?\\s+(\\w+)\\s+r[ow](?:,|\\s*$)")
	// swapsOn is a row of swapon(8) --show or of /proc/swaps.
	swapsOn = regexp.MustCompile(`^(/dev/\S+)\s+partition\s+\S+\s+\S+\s+-?\d+\s*$`)
)

func isMembers(t *text) bool {
	return anyLine(t, func(s string) bool {
		return pvsRow.MatchString(s) || pvName.MatchString(s) || lvsDevice.MatchString(s) ||
			raidMember.MatchString(s) || mdstatRow.MatchString(s) || swapsOn.MatchString(s) ||
			mountedOn(s) != nil && diskName.MatchString(path.Base(mountedOn(s)[1]))
	}) || luksDevice(t) != "" || examined(t)
}

// mountedOn is a device, where it is mounted, and its kind, as mount, findmnt or /proc/mounts tell.
func mountedOn(s string) []string {
	if m := mountedRow.FindStringSubmatch(s); m != nil {
		return m
	}
	if m := foundMount.FindStringSubmatch(s); m != nil {
		return []string{m[0], m[2], m[1], m[3]}
	}
	return mountedNow.FindStringSubmatch(s)
}

// examined recognises mdadm --examine, which names the member first.
func examined(t *text) bool {
	return anyLine(t, raidLevel.MatchString) && anyLine(t, func(s string) bool {
		m := raidDevice.FindStringSubmatch(s)
		return m != nil && diskName.MatchString(path.Base(m[1]))
	})
}

// luksDevice finds the device of which luksDump tells: in its first line, or in the command.
func luksDevice(t *text) string {
	for _, s := range t.lines {
		if m := luksHead.FindStringSubmatch(s); m != nil {
			if m[1] != "" {
				return m[1]
			}
			if c := luksOf.FindStringSubmatch(t.command); c != nil {
				return c[1]
			}
		}
	}
	return ""
}

func readMembers(t *text, l *Listing) {
	crypt := luksDevice(t)
	for i, s := range t.lines {
		n := i + 1
		switch {
		case match(pvsRow, s) != "":
			l.lies(match(pvsRow, s), "", volume.KindLVM, "", n)
		case match(pvName, s)+match(lvsDevice, s) != "":
			l.lies(match(pvName, s)+match(lvsDevice, s), "", volume.KindLVM, "", n)
		case match(raidMember, s) != "":
			l.lies(match(raidMember, s), "", volume.KindRAID, "", n)
		case match(raidDevice, s) != "":
			l.lies(match(raidDevice, s), "", volume.KindRAID, "", n)
		case match(mdstatRow, s) != "":
			for _, member := range strings.Fields(match(mdstatRow, s)) {
				name, _, _ := strings.Cut(member, "[")
				l.lies(name, "", volume.KindRAID, "", n)
			}
		case match(swapsOn, s) != "":
			l.lies(match(swapsOn, s), "", volume.KindSwap, "", n)
		case luksHead.MatchString(s) && crypt != "":
			l.lies(crypt, "", volume.KindLUKS, "", n)
		case match(luksUUID, s) != "" && crypt != "":
			l.lies(crypt, match(luksUUID, s), volume.KindLUKS, "", n)
		case mountedOn(s) != nil:
			m := mountedOn(s)
			kind, _ := volume.Named(m[3])
			l.lies(m[1], "", kind, m[2], n)
		case strings.TrimSpace(s) != "":
			l.mark(n, Passed, "")
		}
	}
}

// match is the first group of a form in a line.
func match(form *regexp.Regexp, s string) string {
	if m := form.FindStringSubmatch(s); m != nil {
		return m[1]
	}
	return ""
}

// lies says what lies in a partition, where it is one of a disk.
func (l *Listing) lies(device, serial string, kind volume.Kind, mounted string, n int) {
	m := diskName.FindStringSubmatch(path.Base(device))
	if m == nil || m[2] == "" {
		l.mark(n, Passed, "no partition of a disk")
		return
	}
	d := l.disk(m[1], n)
	if d == nil {
		return
	}
	p := partition(d, trailingNumber(path.Base(device)), n)
	if p == nil {
		return
	}
	if kind != "" {
		p.Kind = kind
	}
	if serial != "" {
		p.Serial = serial
	}
	if mounted != "" {
		l.mark(n, Understood, "partition %d of %s: %s, mounted at %s", p.Number, d.Name, kind, mounted)
		return
	}
	l.mark(n, Understood, "partition %d of %s: %s", p.Number, d.Name, kind)
}
