package linux_test

import (
	"testing"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// Where a menu of GRUB ends that starts no kernel, or is not known to its end. GNU GRUB Manual 2.06, "chainloader",
// "default", "insmod".
func TestMenusThatLeadElsewhere(t *testing.T) {
	missing := &disk.NotCaptured{}
	chain := func(to string) func(d *machine.Drive) {
		return func(d *machine.Drive) {
			e := &menu(d).GRUB.Entries[0]
			e.Linux, e.Initrds, e.Chain, e.Searches = "", nil, to, nil
		}
	}
	for name, c := range map[string]spoilt{
		"another loader that is not there":        {chain("(hd0,gpt1)/EFI/BOOT/other.efi"), "chain-absent", startup.Stops, course.StageConfiguration},
		"a loader on a disk that is not there":    {chain("(hd7,gpt1)/EFI/BOOT/other.efi"), "prefix-absent", startup.Stops, course.StageConfiguration},
		"a boot sector":                           {chain("(hd0,gpt2)+1"), "boot-sector-unknown", startup.Depends, ""},
		"a menu that was not followed to its end": {func(d *machine.Drive) { menu(d).GRUB.Entries, menu(d).GRUB.Cut = nil, true }, "menu-unread", startup.Depends, ""},
		"a default that nobody knows": {func(d *machine.Drive) {
			g := menu(d).GRUB
			other := g.Entries[0]
			other.Root = &loader.Spec{Kind: loader.ByFSUUID, Value: "dead-beef"}
			g.Entries, g.Cut = append(g.Entries, other), true
		}, "default-unknown", startup.Depends, ""},
		"a menu that may be meant from the default subvolume": {func(d *machine.Drive) {
			d.Contents.Volumes[1].Subvolumes = &machine.Subvolumes{Default: "/@"}
			without(d, 1, "/boot/grub/grub.cfg")
		}, "menu-missing-evidence", startup.Depends, ""},
		"a menu that is at the top of no subvolume": {func(d *machine.Drive) {
			top := map[string]uint64{"/": 5}
			d.Contents.Volumes[1].Subvolumes = &machine.Subvolumes{Default: "/", Paths: top, Whole: true}
			without(d, 1, "/boot/grub/grub.cfg")
		}, "menu-absent", startup.Stops, course.StageConfiguration},
		"no initial RAM disk, and a root by its UUID": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Initrds = nil },
			"no-initial-ram-disk", startup.Depends, ""},
		"no initial RAM disk, and a root that is nowhere": {func(d *machine.Drive) {
			e := &menu(d).GRUB.Entries[0]
			e.Initrds, e.Root = nil, &loader.Spec{Kind: loader.ByPartUUID, Value: "dead-beef"}
		}, "root-absent", startup.Stops, course.StageConfiguration},
		"what is built in is not in evidence": {func(d *machine.Drive) { core(d).ModulesErr = missing }, "grub-modules-missing-evidence", startup.Depends, ""},
	} {
		t.Run(name, func(t *testing.T) { c.holds(t) })
	}
}
