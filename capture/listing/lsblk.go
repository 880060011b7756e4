package listing

import (
	"path"
	"regexp"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// lsblk(8).

func isLsblk(t *text) bool { return strings.Contains(strings.Join(t.head(40), ""), `"blockdevices"`) }

func readLsblk(t *text, l *Listing) {
	root := l.json(t)
	devices := root.list("blockdevices")
	other := map[string]bool{} // devices that are no disks, whatever lies on them
	for _, v := range devices {
		if kind := v.str("type"); kind != "disk" && kind != "part" {
			other[path.Base(v.str("name"))] = true
		}
	}
	for _, v := range devices {
		lsblkDevice(l, v, other, 0)
	}
}

func lsblkDevice(l *Listing, v *value, other map[string]bool, depth int) {
	switch v.str("type") {
	case "disk":
		lsblkDisk(l, v)
		return
	case "loop": // a file that is attached as a disk, with what lies on it
		l.mark(v.line, Passed, "no drive: a file that is attached as one")
		return
	case "part": // a flat list
		if parent := v.str("pkname"); parent != "" && !other[path.Base(parent)] {
			if d := l.disk(path.Base(parent), v.line); d != nil {
				lsblkPartition(l, d, v)
			}
			return
		}
	}
	l.mark(v.line, Passed, "%s", v.str("type"))
	if depth < 8 {
		for _, c := range v.list("children") {
			lsblkDevice(l, c, other, depth+1)
		}
	}
}

func lsblkDisk(l *Listing, v *value) {
	d := l.disk(path.Base(v.str("name")), v.line)
	if d == nil {
		return
	}
	d.Size, d.Rounded = size(v.str("size"))
	d.Model, d.Serial, d.SectorSize = strings.TrimSpace(v.str("model")), strings.TrimSpace(v.str("serial")), int(v.num("log-sec"))
	d.Bus = linuxBus(d.Name, v.str("tran"))
	d.Style, d.StyleLine = styleNamed(v.str("pttype")), v.lineOf("pttype")
	d.ID, d.IDLine = diskID(v.str("ptuuid")), v.lineOf("ptuuid")
	d.Whole = l.Problem == "" && len(v.list("children")) > 0
	l.mark(v.line, Understood, "disk %s", d.Name)
	for _, c := range v.list("children") {
		if c.str("type") == "part" {
			lsblkPartition(l, d, c)
		}
	}
}

func lsblkPartition(l *Listing, d *machine.Described, v *value) {
	number := int(v.num("partn"))
	if number == 0 {
		number = trailingNumber(v.str("name"))
	}
	p := partition(d, number, v.line)
	if p == nil {
		return
	}
	if d.Style == "" {
		d.Style, d.StyleLine = styleNamed(v.str("pttype")), v.lineOf("pttype")
		d.ID, d.IDLine = diskID(v.str("ptuuid")), v.lineOf("ptuuid")
	}
	if start, told := v.count("start"); told {
		p.Start = start * 512 // the kernel counts in these, whatever the disk
	}
	p.Length, p.Rounded = size(v.str("size"))
	setType(p, v.str("parttype"))
	partUUID(d, p, v.str("partuuid"), v.line)
	p.Name, p.Label, p.Serial = v.str("partlabel"), v.str("label"), wholeSerial(v.str("uuid"))
	p.Kind, _ = volume.Named(v.str("fstype"))
	p.Used, _ = size(v.str("fsused"))
	if d.Style == disk.StyleMBR && v.get("partflags") != nil && p.MBRType != 0 { // what tells one tells the other
		p.Active = fact.Known(v.num("partflags")&0x80 != 0, fact.Source{})
	}
	l.mark(v.line, Understood, "partition %d of %s", p.Number, d.Name)
}

// linuxBus names the bus of a disk by lsblk's transport and the kernel's name.
func linuxBus(name, transport string) string {
	switch t := strings.ToLower(transport); {
	case t == "sata" || t == "nvme" || t == "usb":
		return t
	case t == "ata":
		return "ide"
	case t == "sas" || t == "fc" || t == "iscsi":
		return "scsi"
	case strings.HasPrefix(name, "nvme"):
		return "nvme"
	case strings.HasPrefix(name, "vd"):
		return "virtio"
	case strings.HasPrefix(name, "mmcblk"):
		return "sd"
	}
	return ""
}

// lsblk as a table, with whatever columns, and as pairs of names and values.

var (
	lsblkPair  = regexp.MustCompile(`^(?:[A-Z][A-Z0-9_%:-]*="[^"]*"\s*)+$`)
	lsblkField = regexp.MustCompile(`([A-Z][A-Z0-9_%:-]*)="([^"]*)"`)
	lsblkTree  = regexp.MustCompile(`^[\s│├└─|` + "`" + `-]*`)
)

// lsblkColumns are the heads of the table: lsblk(8), "--list-columns"; from memory.
var lsblkColumns = columnsNamed("NAME KNAME PATH MAJ:MIN FSAVAIL FSSIZE FSTYPE FSUSED FSUSE% FSROOTS FSVER MOUNTPOINT " +
	"MOUNTPOINTS LABEL UUID PTUUID PTTYPE PARTTYPE PARTTYPENAME PARTLABEL PARTUUID PARTFLAGS PARTN RA RO RM HOTPLUG MODEL " +
	"SERIAL SIZE STATE OWNER GROUP MODE ALIGNMENT MIN-IO OPT-IO PHY-SEC LOG-SEC ROTA SCHED RQ-SIZE TYPE DISC-ALN DISC-GRAN " +
	"DISC-MAX DISC-ZERO WSAME WWN RAND PKNAME HCTL TRAN SUBSYSTEMS REV VENDOR ZONED DAX START ID ID-LINK MQ DISK-SEQ")

func columnsNamed(list string) vocabulary {
	names := map[string]string{}
	for _, n := range strings.Fields(list) {
		names[n] = strings.ToLower(n)
	}
	return newVocabulary(names)
}

// serialForms are the forms of a file system's UUID: 16 bytes, those of LVM, of FAT and exFAT, of
// NTFS, of an ISO 9660's date. As libblkid writes them, from memory.
var serialForms = regexp.MustCompile(`^([0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}|` +
	`\w{6}(-\w{4}){5}-\w{6}|[0-9a-fA-F]{4}-[0-9a-fA-F]{4}|[0-9a-fA-F]{16}|\d{4}(-\d\d){6})$`)

// wholeSerial is a UUID that is not cut off; "" for another, which would be taken for one that no
// volume carries.
func wholeSerial(s string) string {
	if !serialForms.MatchString(s) {
		return ""
	}
	return s
}

// lsblkAlways are the columns that no row leaves empty. lsblk(8).
var lsblkAlways = []string{"name", "kname", "path", "maj:min", "rm", "size", "ro", "type", "log-sec", "phy-sec"}

func lsblkHeads(s string) []head {
	h := lsblkColumns.heads(s)
	if len(h) < 3 || h[0].name != "name" && h[0].name != "kname" && h[0].name != "path" {
		return nil
	}
	return h
}

func isLsblkTable(t *text) bool {
	return anyLine(t, func(s string) bool { return lsblkHeads(s) != nil }) || anyLine(t, isLsblkPair)
}

func isLsblkPair(s string) bool {
	return strings.Contains(s, `NAME="`) && lsblkPair.MatchString(strings.TrimSpace(s)) && !strings.HasPrefix(s, "DEVNAME=")
}

func readLsblkTable(t *text, l *Listing) {
	var at []head
	var d *machine.Described
	for i, raw := range t.lines {
		s, n := strings.TrimRight(raw, " \r"), i+1
		switch h := lsblkHeads(s); {
		case strings.TrimSpace(s) == "":
		case h != nil:
			at = h
			l.mark(n, Passed, "%s", headsMark(at))
		case isLsblkPair(s) && strings.Count(" "+s, ` NAME="`) > 1:
			l.unread(n, "several rows stand in one line")
		case isLsblkPair(s):
			v := &value{line: n, object: true}
			for _, f := range lsblkField.FindAllStringSubmatch(s, -1) {
				v.fields = append(v.fields, field{strings.ToLower(f[1]), n, &value{line: n, text: f[2]}})
			}
			d = lsblkRow(l, v, d)
		case at != nil:
			names := make([]string, len(at))
			for j, c := range at {
				names[j] = c.name
			}
			// The branches of the tree stand before the name, which they may push to the right.
			lead := lsblkTree.FindString(s)
			if t.brokenOff(i) && diskName.FindString(firstWord(s[len(lead):])) == "" {
				l.unread(n, "the name may lack its end")
				continue
			}
			plain := strings.Repeat(" ", len([]rune(lead))) + s[len(lead):]
			d = lsblkRow(l, object(n, names, row(plain, at, lsblkAlways...)), d)
		}
	}
	if d != nil {
		d.Whole = t.goesOn(d)
	}
}

// lsblkRow takes a row: a disk, or a partition of the disk before it.
func lsblkRow(l *Listing, v *value, before *machine.Described) *machine.Described {
	name := path.Base(v.str("name") + v.str("kname"))
	if v.get("name") != nil {
		name = path.Base(v.str("name"))
	}
	parts := diskName.FindStringSubmatch(name)
	kind := v.str("type")
	if kind == "" && parts != nil {
		kind = map[bool]string{true: "disk", false: "part"}[parts[2] == ""]
	}
	switch {
	case kind == "disk":
		l.endOfDisk(before)
		lsblkDisk(l, v)
		if d := l.disk(name, v.line); d != nil {
			d.Whole = false
			return d
		}
	case kind == "part" && parts != nil:
		if d := l.disk(parts[1], v.line); d != nil {
			lsblkPartition(l, d, v)
			return d
		}
	default:
		l.endOfDisk(before)
		l.mark(v.line, Passed, "%s", kind)
		return nil
	}
	return before
}
