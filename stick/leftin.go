package stick

import (
	"maps"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// own is what the stick is called among the machine's drives.
const own = "the stick"

// LeftIn is the start with the stick left in the machine, where it is a drive like any other;
// ok is false where the stick itself could not be read.
func (s *Session) LeftIn(stick string) (trace startup.Trace, ok bool) {
	device, err := s.world.open(stick)
	if err != nil {
		return trace, false
	}
	defer device.Close()
	on, err := disk.New(device, device.Size, device.SectorSizeOr(512))
	if err != nil {
		return trace, false
	}
	m := s.Machine
	m.Drives = append(slices.Clone(m.Drives), machine.Drive{Name: own, Role: machine.RoleOther, Bus: fact.Tell("usb"),
		Attached: fact.Tell(true), Contents: machine.Examine(on)})
	if s.ownEntry != "" {
		m.Answers = maps.Clone(m.Answers)
		m.Answers[s.ownEntry] = own
	}
	return startup.Simulate(m), true
}
