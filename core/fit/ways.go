package fit

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
)

// Way is a way of copying, by what it does and not by the program that does it.
type Way struct {
	Key  string
	Name string
	Does string // what it takes along, and what it changes
	// Whole is set for one that copies every sector, NewIDs for one that gives new
	// identifiers, Alone for the main partition alone, Files for files put into file
	// systems made anew, Twice for one that writes everything two times.
	Whole, NewIDs, Alone, Files, Twice bool
	// ToUEFI is set for one after which the firmware is changed to UEFI: of an MBR disk
	// alone.
	ToUEFI bool
	// Needed is set for the partitions alone without which the machine does not start;
	// Mac for what only a Mac's own system does.
	Needed, Mac bool
}

// Ways lists the ways of copying. Common practice, no source.
var Ways = []Way{
	{Key: "blocks", Name: "used blocks, all partitions", Does: "Every partition with its identifiers, and the boot record; only what is in use is read."},
	{Key: "blocks-new", Name: "the same, with new identifiers", Does: "As before, but disk and partitions get identifiers of their own.", NewIDs: true},
	{Key: "main", Name: "the main partition alone", Does: "One partition under a new table: what the machine starts from stays behind.", Alone: true, NewIDs: true},
	{Key: "needed", Name: "the partitions that the start needs", Does: "Boot and system partitions with their identifiers, and the boot record; recovery and data stay behind.", Needed: true},
	{Key: "restore", Name: "the Mac's own restore", Does: "The system's own tool copies whole volumes and blesses what it made; identifiers are new.", NewIDs: true, Mac: true},
	{Key: "image", Name: "through an image on a third disk", Does: "As used blocks, written to an image first and from there to the new drive.", Twice: true},
	{Key: "files", Name: "new partitions, then files", Does: "Partitions and file systems are made anew, and files copied into them.", NewIDs: true, Files: true},
	{Key: "to-uefi", Name: "used blocks, then GPT and UEFI", Does: "As used blocks; then the table becomes a GPT and the firmware's mode UEFI: beyond 2 TiB nothing else reaches.", ToUEFI: true},
	{Key: "whole", Name: "every sector", Does: "The whole disk as it lies, what is free and what is damaged, too.", Whole: true},
}

// WaysOf lists the ways that an original can be copied by.
func WaysOf(original *machine.Contents) []Way {
	_, _, mac := original.Systems()
	behind := original != nil && slices.ContainsFunc(Parts(original), func(p Part) bool { return !p.Needed })
	return slices.DeleteFunc(slices.Clone(Ways), func(w Way) bool {
		return w.ToUEFI && (original == nil || original.Layout.Style != disk.StyleMBR) || w.Mac && !mac || w.Needed &&
			!behind
	})
}

// Settings are what to see to before the first start, in the order in which the start
// comes to it.
func Settings(m machine.Machine) []string {
	var out []string
	if mode, known := m.Firmware.Mode.Get(); known {
		words := map[firmware.Mode]string{firmware.UEFI: "UEFI", firmware.Legacy: "legacy", firmware.UEFICSM: "UEFI first, then legacy"}
		out = append(out, fmt.Sprintf("Mode: leave it at %s.", words[mode]))
	}
	out = append(out, "Order: the new drive first, or its boot entry.")
	if on, known := m.Firmware.SecureBoot.Get(); known {
		out = append(out, "Secure boot: leave it "+map[bool]string{true: "on", false: "off"}[on]+".")
	}
	if mode, known := m.Firmware.StorageMode.Get(); known {
		out = append(out, "Controller mode: leave it at "+strings.ToUpper(mode)+".")
	}
	return out
}
