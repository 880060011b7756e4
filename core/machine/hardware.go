package machine

import (
	"regexp"
	"strconv"
	"strings"
)

// Hardware is what the system that read a drive told of it; "" is not told.
type Hardware struct {
	Bus    string // that it hung on then
	Serial string
}

// linked takes apart the name of a partition's link by the drive's own name, such as
// ata-MODEL_SERIAL-part2. udev's 60-persistent-storage.rules.
var linked = regexp.MustCompile(`^([a-z]+)-(.+)-part([0-9]+)$`)

// families are the buses after which such links are called, of drives that hang there.
var families = map[string]string{"sata": "ata", "ide": "ata", "nvme": "nvme", "virtio": "virtio", "sd": "mmc"}

// plainSerial is a serial number that every system tells alike.
var plainSerial = regexp.MustCompile(`^[A-Za-z0-9-]{4,}$`)

// byOwnName resolves a link that is called after a drive: that of another one is not this one's, where it
// is called after another bus than this was read on, or does not hold this one's serial number.
func (d *Drive) byOwnName(name string) (found []Spot, known bool) {
	parts := linked.FindStringSubmatch(name)
	if parts == nil {
		return nil, false
	}
	h, family := d.Hardware, families[d.Hardware.Bus]
	if plainSerial.MatchString(h.Serial) && strings.Contains(parts[2], h.Serial) {
		indexes, known := d.Numbered(linkedNumber(name))
		return d.Places(indexes), known
	}
	switch other := parts[1]; {
	case family == "" || other == "wwn" || other == "scsi" || other == "usb":
		return nil, false // a drive has several of these, or they are those of its enclosure
	case other != family:
		return nil, true
	}
	form, _, _ := strings.Cut(parts[2], ".")
	byIdentifier := family == "nvme" && (form == "eui" || form == "nvme" || form == "uuid")
	return nil, !byIdentifier && plainSerial.MatchString(h.Serial)
}

// linkedNumber is the partition's number in such a name; 0 for none.
func linkedNumber(name string) int {
	parts := linked.FindStringSubmatch(name)
	if parts == nil {
		return 0
	}
	number, _ := strconv.Atoi(parts[3])
	return number
}

// ofNumber is the partition that has the number in the name of another drive's: a copy keeps its numbers.
// Where the original is in evidence, nil is not, it must hold the same there.
func (c *Contents) ofNumber(link string, original *Contents) (to Address, ok bool) {
	number := linkedNumber(link)
	for i, p := range c.Layout.Partitions {
		if p.Number == number && len(c.Volumes[i].Inner) == 0 {
			to, ok = Address{Index: i}, true
		}
	}
	if original == nil {
		return to, ok
	}
	for i, p := range original.Layout.Partitions {
		if p.Number == number {
			return to, ok && original.Volumes[i].Kind == c.At(to).Kind
		}
	}
	return to, false
}
