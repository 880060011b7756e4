package truth

import (
	"slices"

	"latchkey/internal/diskmaker"
)

// besideScenarios are copies of a small Linux with identifiers of their own, in a machine in which
// the original is as well, behind the clone or before it. Something keeps each copy from starting,
// or has it start from the original, and each is repaired in a way that writes other structures.
// None is repaired by a program of the system's own: the small Linux has none.
func besideScenarios(bus string) (all []Scenario) {
	for _, before := range []bool{false, true} {
		for _, b := range besides() {
			all = append(all, b.scenario(bus, before))
		}
	}
	return all
}

// usbScenarios are those machines with the original, or the copy, in a case on USB. Drivers for NVMe
// are in the small Linux' kernel, which nothing on the disk tells.
func usbScenarios() (all []Scenario) {
	for _, b := range besides() {
		for _, role := range []string{"original", "clone"} {
			s := b.scenario("nvme", false)
			s.Name += ", the " + role + " on USB"
			if role == "original" {
				s.Answers = map[string]string{"driver:b": "yes"}
			}
			for i := range s.Drives {
				if s.Drives[i].Role == role {
					s.Drives[i].Bus = "usb"
				}
			}
			all = append(all, s)
		}
	}
	return all
}

// beside is what is wrong with such a copy.
type beside struct {
	firmware Firmware
	name     string
	n        names
	spoil    func(*diskmaker.Image)
}

func besides() []beside {
	const boot = 2048 * 512
	gone, other := "UUID="+goneUUID, "UUID="+otherUUID
	var all []beside
	for _, f := range []Firmware{OVMF, SeaBIOS} {
		all = append(all,
			beside{firmware: f, name: "kernel line names the original's file system", n: names{root: other}},
			beside{firmware: f, name: "kernel line names the original's partition", n: names{root: "PARTUUID=" + rootPartUUID(linuxDisk(f, 7, names{}).Disk)}},
			beside{firmware: f, name: "kernel line names another file system", n: names{root: gone}},
			beside{firmware: f, name: "mount table names another file system", n: names{fstab: gone}})
	}
	return append(all,
		beside{firmware: OVMF, name: "no table", spoil: zeros(0, 34*512, -34*512, 34*512)},
		beside{firmware: OVMF, name: "no header, good entries", spoil: zeros(512, 512, -512, 512)},
		beside{firmware: OVMF, name: "no protective record", spoil: zeros(446, 66)},
		beside{firmware: OVMF, name: "no boot sector", spoil: zeros(boot, 512)},
		beside{firmware: OVMF, name: "a cluster of three sectors", spoil: put(boot+13, 3)},
		beside{firmware: OVMF, name: "no first FAT", spoil: zeros(boot+32*512, 512)},
		beside{firmware: SeaBIOS, name: "no signature of sector 0", spoil: zeros(510, 2)},
		beside{firmware: SeaBIOS, name: "no partition in the table", spoil: zeros(446, 64)},
		beside{firmware: SeaBIOS, name: "the root begins a sector later", spoil: put(446+16+8, 1)},
	)
}

func (b beside) scenario(bus string, before bool) Scenario {
	clone := linuxDisk(b.firmware, 9, b.n)
	original := linuxDisk(b.firmware, 7, names{uuid: otherUUID, drive: "a"})
	original.Role, clone.Role, original.Bus, clone.Bus = "original", "clone", bus, bus
	s := Scenario{Name: "Linux, the original beside it: " + b.name, Firmware: b.firmware, Whole: true, Order: []string{"b", "a"}}
	if b.firmware.UEFI() { // which of two NVMe drives the firmware's own entries lead to is not in evidence
		s.Entries = []diskmaker.Entry{entry(3, clone.Disk, 1, fallbackX64)}
	}
	if b.spoil != nil {
		clone = clone.spoiled(b.spoil)
	}
	if s.Drives = []Drive{clone, original}; before {
		slices.Reverse(s.Drives)
		s.Name = "Linux, the original before it: " + b.name
	}
	return s
}

// zeros writes zeros over pairs of a place in bytes, from the end where it is negative, and a length.
func zeros(ranges ...int64) func(*diskmaker.Image) {
	return func(m *diskmaker.Image) {
		for r := range slices.Chunk(ranges, 2) {
			write(m, (r[0]+m.Size)%m.Size, make([]byte, r[1])...)
		}
	}
}
