package windows_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// A registry on the disk answers what would be asked otherwise. Start types by the maker's
// documentation of services; StartOverride, letters and USB: common practice, no source.
func TestWhatTheRegistrySaysOfTheDriver(t *testing.T) {
	type registry = diskmaker.Registry
	starts := func(name string, start uint32) registry { return registry{Starts: map[string]uint32{name: start}} }
	over := starts("stornvme", 0)
	over.Overrides = map[string]uint32{"stornvme": 3}
	portable := starts("USBSTOR", 3)
	portable.Portable = true
	for name, c := range map[string]struct {
		registry *registry
		bus      string
		mode     string // of the controller
		verdict  startup.Verdict
		rule     course.Rule
	}{
		"no registry in evidence":                {nil, "nvme", "", startup.Depends, ""},
		"a driver that the boot loader loads":    {new(starts("stornvme", 0)), "nvme", "", startup.Starts, ""},
		"a driver that is loaded on demand":      {new(starts("stornvme", 3)), "nvme", "", startup.Stops, "no-driver"},
		"a driver that is overridden":            {&over, "nvme", "", startup.Depends, ""},
		"no driver":                              {new(starts("storahci", 0)), "nvme", "", startup.Stops, "no-driver"},
		"on USB":                                 {new(starts("USBSTOR", 3)), "usb", "", startup.Stops, "no-driver"},
		"on USB, made for it":                    {&portable, "usb", "", startup.Depends, ""},
		"behind a controller that was turned on": {new(starts("iaStorVD", 0)), "sata", "raid", startup.Starts, ""},
		"behind a controller of another driver":  {new(starts("iaStorVD", 3)), "sata", "raid", startup.Depends, ""},
		"AHCI, by the older driver":              {new(starts("msahci", 0)), "sata", "ahci", startup.Starts, ""},
		"SATA of a kind that is not known":       {new(starts("storahci", 0)), "sata", "", startup.Depends, ""},
	} {
		t.Run(name, func(t *testing.T) {
			disk := sample.WindowsDisk(1, 1)
			if c.registry != nil {
				disk.Partitions[1].Volume.Files[diskmaker.RegistryPath] = c.registry.Bytes()
			}
			clone := sample.Drive(t, machine.RoleClone, disk.MustBuild())
			clone.Bus = fact.Tell(c.bus)
			original := machine.Drive{Name: "original", Role: machine.RoleOriginal, Bus: fact.Tell("ide"), Attached: fact.Tell(false)}
			m := sample.Whole(firmware.UEFI, clone, original)
			if c.mode != "" {
				m.Firmware.StorageMode, m.Firmware.StorageModeBefore = fact.Tell(c.mode), fact.Tell("ide")
			}
			trace := startup.Simulate(m)
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			var rules []course.Rule
			for _, f := range trace.Findings {
				rules = append(rules, f.Rule)
			}
			if c.rule != "" {
				assert.Contains(t, rules, c.rule)
				m.Answers = map[string]string{"driver:clone": "yes"}
				assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "a person's answer counts")
			}
		})
	}
}

// The letter C: of a copy with identifiers of its own leads to the original where that is
// attached; alone, the letter is given anew.
func TestTheLetterOfTheSystem(t *testing.T) {
	original, clone := sample.WindowsDisk(1, 1), sample.WindowsDisk(0x41, 0x41)
	old, _ := original.Place(1)
	own, _ := clone.Place(1)
	for name, c := range map[string]struct {
		c       diskmaker.Place
		both    bool
		verdict startup.Verdict
	}{
		"the original's, both attached": {old, true, startup.Stops},
		"the original's, alone":         {old, false, startup.Starts},
		"its own":                       {own, true, startup.Starts},
		"none":                          {diskmaker.Place{}, true, startup.Starts},
	} {
		t.Run(name, func(t *testing.T) {
			clone.Partitions[1].Volume.Files[diskmaker.RegistryPath] = diskmaker.Registry{C: c.c}.Bytes()
			second := sample.Drive(t, machine.RoleOriginal, original.MustBuild())
			second.Attached = fact.Tell(c.both)
			m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, clone.MustBuild()), second)
			trace := startup.Simulate(m)
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			if c.verdict == startup.Stops {
				assert.Equal(t, course.StageSystem, trace.Stage)
				assert.Contains(t, sample.Words(trace), "partition 2 of the original")
				assert.Equal(t, course.WrongLetter.ID, trace.SymptomID)
			}
		})
	}
}
