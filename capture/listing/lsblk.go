package listing

import (
	"path"
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
	if v.has("start") {
		p.Start = v.num("start") * 512 // the kernel counts in these, whatever the disk
	}
	p.Length, p.Rounded = size(v.str("size"))
	setType(p, v.str("parttype"))
	p.GUID, _ = disk.ParseGUID(v.str("partuuid"))
	p.Name, p.Label, p.Serial = v.str("partlabel"), v.str("label"), v.str("uuid")
	p.Kind, _ = volume.Named(v.str("fstype"))
	p.Used = v.num("fsused")
	if d.Style == disk.StyleMBR && v.get("partflags") != nil {
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
