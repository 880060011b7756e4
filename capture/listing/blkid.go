package listing

import (
	"path"
	"regexp"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/volume"
)

// blkid(8), default output.

var (
	blkidLine = regexp.MustCompile(`^(/dev/\S+):((?: +[A-Z0-9_]+="[^"]*")+) *$`)
	blkidTag  = regexp.MustCompile(`([A-Z0-9_]+)="([^"]*)"`)
	diskName  = regexp.MustCompile(`^((?:[shv]d[a-z]+)|(?:(?:nvme\d+n|mmcblk)\d+))(?:p?(\d+))?$`)
)

func isBlkid(t *text) bool { return anyLine(t, blkidLine.MatchString) }

func readBlkid(t *text, l *Listing) {
	for i, raw := range t.lines {
		m := blkidLine.FindStringSubmatch(strings.TrimRight(raw, "\r"))
		if m == nil {
			if strings.HasPrefix(raw, "/dev/") {
				l.unread(i+1, `expected /dev/…: TAG="value"`)
			}
			continue
		}
		tags := map[string]string{}
		for _, t := range blkidTag.FindAllStringSubmatch(m[2], -1) {
			tags[t[1]] = t[2]
		}
		blkidDevice(l, path.Base(m[1]), tags, i+1)
	}
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
	p.Label, p.Serial, p.Name = tags["LABEL"], tags["UUID"], tags["PARTLABEL"]
	if g, err := disk.ParseGUID(tags["PARTUUID"]); err == nil {
		p.GUID = g
		if d.Style == "" {
			d.Style, d.StyleLine = disk.StyleGPT, n
		}
	} else if signature, _, ok := strings.Cut(tags["PARTUUID"], "-"); ok && d.Style == "" {
		d.Style, d.StyleLine, d.ID, d.IDLine = disk.StyleMBR, n, diskID(signature), n
	}
	l.mark(n, Understood, "partition %d of %s: %s", p.Number, d.Name, p.Kind)
}
