// Package machine describes a machine and the disks in it: firmware, drives, what
// their bytes and listings hold, where each fact comes from, and what refers to
// what. It says what a machine is; what it does is package startup's.
package machine

import (
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
)

// Role is what a drive is in the case.
type Role string

// The roles of drives.
const (
	RoleOriginal Role = "original"
	RoleClone    Role = "clone"
	RoleOther    Role = "other"
)

// Machine is everything that is known about a start. Absent facts are unknown.
type Machine struct {
	Firmware firmware.Settings
	Drives   []Drive
	// DeviceOrder names the drives in the legacy boot order, and under UEFI in
	// the order in which the firmware goes through its devices; nil is unknown.
	DeviceOrder []string
	// MacStart is the partition that a Mac's firmware was told to start, by its unique GUID.
	MacStart fact.Of[disk.GUID]
	// Answers are typed answers to questions, by their ID.
	Answers map[string]string
	// Until is how far the start is judged.
	Until Until
}

// Until is how far a start is judged.
type Until string

// Where the judgement can end before the whole start.
const (
	UntilSystem        Until = ""              // the whole start
	UntilLoader        Until = "loader"        // the loader was started
	UntilConfiguration Until = "configuration" // the system to start is known
)

// Drive is a drive of the machine.
type Drive struct {
	Name string
	Role Role
	Bus  fact.Of[string] // "sata", "nvme", "usb", "ide", "virtio"
	Port fact.Of[int]    // of its SATA or USB controller, from 0
	// Controller is the way to what it hangs on in this machine, as firmware.Path tells it.
	Controller fact.Of[string]
	Attached   fact.Of[bool]
	// HasEntry tells whether a boot entry leads to the drive's own loader; it
	// counts only while the boot entries themselves are not known.
	HasEntry fact.Of[bool]
	// Shown: the firmware's boot list shows the drive.
	Shown    fact.Of[bool]
	Hardware Hardware
	Contents *Contents // nil when nothing of the disk is in evidence
}

// Called names a drive in a sentence; the original always carries the word.
func (d *Drive) Called() string {
	switch d.Role {
	case RoleOriginal:
		return "the original"
	case RoleClone:
		return "the clone"
	}
	return "drive " + d.Name
}

// Alone returns the machine with one drive attached and no other.
func Alone(m Machine, drive string) Machine {
	drives := append([]Drive{}, m.Drives...)
	for i := range drives {
		drives[i].Attached = fact.Known(drives[i].Name == drive, fact.Source{Origin: fact.Computed})
	}
	m.Drives = drives
	return m
}

// Drive returns the drive of a role, nil for none.
func (m Machine) Drive(role Role) *Drive {
	for i := range m.Drives {
		if m.Drives[i].Role == role {
			return &m.Drives[i]
		}
	}
	return nil
}

// ContentsOf returns what is known of the disk of a role, nil for nothing.
func (m Machine) ContentsOf(role Role) *Contents {
	if d := m.Drive(role); d != nil {
		return d.Contents
	}
	return nil
}

// Without reports whether no drive of a role is attached.
func (m Machine) Without(role Role) bool {
	for i := range m.Drives {
		attached, known := m.Drives[i].Attached.Get()
		if m.Drives[i].Role == role && (attached || !known) {
			return false
		}
	}
	return true
}
