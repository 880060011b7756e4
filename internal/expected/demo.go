package expected

import (
	"testing"

	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/demo"
)

// Demo is a case of the demo world, with its disks as examined.
func Demo(t testing.TB, c demo.Case) machine.Machine {
	t.Helper()
	f := c.Firmware
	m := machine.Machine{DeviceOrder: c.DeviceOrder, Answers: f.Answers, Firmware: firmware.Settings{
		Mode: fact.Tell(firmware.Mode(f.Mode)), Arch: fact.Tell(firmware.Arch(f.Arch)),
		SecureBoot: fact.Maybe(f.SecureBoot),
		Behaviour:  firmware.Behaviour{}.Tell(f.Choices),
	}}
	for i, d := range []demo.Drive{c.Original, c.Clone} {
		role := []machine.Role{machine.RoleOriginal, machine.RoleClone}[i]
		if d.Disk == nil {
			m.Drives = append(m.Drives, machine.Drive{Name: string(role), Role: role, Bus: fact.Tell(d.Bus),
				Attached: fact.Maybe(d.Attached)})
			continue
		}
		image, err := d.Disk()
		require.NoError(t, err)
		sectorSize := d.SectorSize
		if sectorSize == 0 {
			sectorSize = image.SectorSize
		}
		on, err := disk.New(image, image.Size, sectorSize)
		require.NoError(t, err)
		m.Drives = append(m.Drives, machine.Drive{Name: string(role), Role: role, Bus: fact.Tell(d.Bus),
			Attached: fact.Maybe(d.Attached), Contents: machine.Examine(on)})
	}
	for i := range m.Drives {
		if told, known := f.Entries[m.Drives[i].Name]; known {
			m.Drives[i].HasEntry = fact.Tell(told)
		}
	}
	return m
}
