package listing

import (
	"fmt"
	"path"
	"regexp"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// blkid(8), default output.

var (
	blkidLine = regexp.MustCompile(`^(/dev/\S+):((?: +[A-Z0-9_]+="[^"]*")+) *$`)
	blkidTag  = regexp.MustCompile(`([A-Z0-9_]+)="([^"]*)"`)
	diskName  = regexp.MustCompile(`^((?:[shv]d[a-z]+)|(?:(?:nvme\d+n|mmcblk)\d+))(?:p?(\d+))?$`)
)

func isBlkid(t *text) bool {
	return anyLine(t, blkidLine.MatchString) || anyLine(t, func(s string) bool { return strings.HasPrefix(s, "DEVNAME=/dev/") }) ||
		anyLine(t, func(s string) bool { return len(blkidColumns.heads(s)) == 5 })
}

// blkidColumns are the heads of "-o list".
var blkidColumns = newVocabulary(map[string]string{"device": "device", "fs_type": "TYPE", "label": "LABEL", "mount point": "mount", "UUID": "UUID"})

func readBlkid(t *text, l *Listing) {
	for _, v := range t.tables(l, blkidColumns, 5) {
		blkidDevice(l, path.Base(v.str("device")), map[string]string{"TYPE": v.str("TYPE"), "LABEL": v.str("LABEL"),
			"UUID": v.str("UUID")}, v.line)
	}
	blkidExport(t, l)
	for _, one := range t.unwrap(func(s string) bool { return strings.HasPrefix(s, "/dev/") }) {
		m := blkidLine.FindStringSubmatch(strings.TrimRight(one.text, "\r"))
		if m == nil {
			if strings.HasPrefix(one.text, "/dev/") && strings.Contains(one.text, ": ") {
				l.unread(one.line, `expected /dev/…: TAG="value"`)
			}
			continue
		}
		tags := map[string]string{}
		for _, t := range blkidTag.FindAllStringSubmatch(m[2], -1) {
			tags[t[1]] = t[2]
		}
		blkidDevice(l, path.Base(m[1]), tags, one.line)
	}
}

// blkidExport reads "-o export": a line for each tag, DEVNAME first.
func blkidExport(t *text, l *Listing) {
	name, tags, at := "", map[string]string{}, 0
	end := func() {
		if name != "" {
			blkidDevice(l, path.Base(name), tags, at)
		}
		name, tags = "", map[string]string{}
	}
	for i, s := range t.lines {
		key, val, is := strings.Cut(strings.TrimSpace(s), "=")
		switch {
		case t.brokenOff(i):
		case is && key == "DEVNAME":
			end()
			name, at = val, i+1
		case is && name != "":
			tags[key] = strings.ReplaceAll(val, `\ `, " ")
			l.mark(i+1, Understood, "")
		}
	}
	end()
}

func blkidDevice(l *Listing, name string, tags map[string]string, n int) {
	parts := diskName.FindStringSubmatch(name)
	if parts == nil {
		l.mark(n, Passed, "no disk or partition")
		return
	}
	d := l.disk(parts[1], n)
	if d == nil {
		return
	}
	if parts[2] == "" {
		d.Style, d.StyleLine = styleNamed(tags["PTTYPE"]), n
		d.ID, d.IDLine = diskID(tags["PTUUID"]), n
		l.mark(n, Understood, "disk %s", name)
		return
	}
	p := partition(d, trailingNumber(name), n)
	if p == nil {
		return
	}
	p.Kind, _ = volume.Named(tags["TYPE"])
	p.Label, p.Serial, p.Name = tags["LABEL"], wholeSerial(tags["UUID"]), tags["PARTLABEL"]
	partUUID(d, p, tags["PARTUUID"], n)
	l.mark(n, Understood, "partition %d of %s: %s", p.Number, d.Name, p.Kind)
}

// partUUID takes what the kernel calls a partition by: its unique GUID, or the MBR's signature
// with its number. A GUID that was cut off is neither. The kernel's block/partitions/core.c;
// blkid(8), PARTUUID.
func partUUID(d *machine.Described, p *machine.DescribedPartition, s string, line int) {
	if g, err := disk.ParseGUID(s); err == nil {
		p.GUID = g
		if d.Style == "" {
			d.Style, d.StyleLine = disk.StyleGPT, line
		}
		return
	}
	signature, number, _ := strings.Cut(s, "-")
	if len(signature) == 8 && number == fmt.Sprintf("%02x", p.Number) && d.Style == "" {
		d.Style, d.StyleLine, d.ID, d.IDLine = disk.StyleMBR, line, diskID(signature), line
	}
}
