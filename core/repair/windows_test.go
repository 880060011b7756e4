package repair_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// registered is a clone of Windows with a registry, on a bus that the original was not on.
func registered(t *testing.T, r diskmaker.Registry, bus string) machine.Machine {
	disk := sample.WindowsDisk(1, 1)
	disk.Partitions[1].Volume.Files[diskmaker.RegistryPath] = r.Bytes()
	clone := sample.Drive(t, machine.RoleClone, disk.MustBuild())
	clone.Bus = fact.Tell(bus)
	original := machine.Drive{Name: "original", Role: machine.RoleOriginal, Bus: fact.Tell("sata"), Attached: fact.Tell(false)}
	return sample.Whole(firmware.UEFI, clone, original)
}

// What is done where the registry tells of the driver. Common practice, no source.
func TestARepairGoesByTheRegistry(t *testing.T) {
	starts := func(n uint32) map[string]uint32 { return map[string]uint32{"stornvme": n} }
	m := registered(t, diskmaker.Registry{Starts: starts(3)}, "nvme")
	plan := repair.Find(m)
	require.Equal(t, []string{"driver-at-start"}, actionsOf(plan), plan.Reason)
	assert.Equal(t, startup.Starts, plan.Verdict)
	text := ""
	for _, c := range plan.Steps[0].Commands {
		text += c.Text + "\n"
	}
	assert.Contains(t, text, `reg load HKLM\LatchkeySystem S:\Windows\System32\config\SYSTEM`)
	assert.Contains(t, text, `reg add HKLM\LatchkeySystem\ControlSet001\Services\stornvme /v Start /t REG_DWORD /d 0 /f`)
	assert.NotContains(t, text, "StartOverride")

	held := registered(t, diskmaker.Registry{Starts: starts(0), Overrides: starts(3)}, "nvme")
	held.Answers = map[string]string{"driver:clone": "no"}
	assert.Contains(t, []string{"driver-at-start", "safe-start"}, actionsOf(repair.Find(held))[0])

	// Without a driver there is none to load: no start in safe mode is promised.
	plan = repair.Find(registered(t, diskmaker.Registry{}, "nvme"))
	assert.NotContains(t, actionsOf(plan), "safe-start")
	assert.NotContains(t, actionsOf(plan), "driver-at-start")

	// In a USB enclosure: the drive goes inside.
	plan = repair.Find(registered(t, diskmaker.Registry{Starts: map[string]uint32{"USBSTOR": 3, "storahci": 0}}, "usb"))
	assert.Equal(t, []string{"build-in"}, actionsOf(plan), plan.Reason)
	assert.Equal(t, startup.Starts, plan.Verdict)
}

// The letter C: of the original's: it is unplugged.
func TestARepairUnplugsWhereTheLetterLeads(t *testing.T) {
	original, clone := sample.WindowsDisk(1, 1), sample.WindowsDisk(0x41, 0x41)
	old, _ := original.Place(1)
	clone.Partitions[1].Volume.Files[diskmaker.RegistryPath] = diskmaker.Registry{C: old}.Bytes()
	plan := repair.Find(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, clone.MustBuild()),
		sample.Drive(t, machine.RoleOriginal, original.MustBuild())))
	assert.Equal(t, []string{"detach-original"}, actionsOf(plan), plan.Reason)
	assert.Equal(t, startup.Starts, plan.Verdict)
}

// An intact system-reserved partition that is not active is marked so, rather than that
// boot files are made on the system's.
func TestTheReservedPartitionIsMarkedActive(t *testing.T) {
	disk := sample.LegacyWindowsDisk(true)
	disk.Partitions[0].Active, disk.Partitions[1].Active = false, true
	m := sample.Whole(firmware.Legacy, sample.Drive(t, machine.RoleClone, disk.MustBuild()))
	trace := startup.Simulate(m)
	require.Equal(t, startup.Stops, trace.Verdict)
	assert.Contains(t, sample.Words(trace), "BOOTMGR is missing")
	plan := repair.Find(m)
	require.Len(t, plan.Steps, 1, plan.Reason)
	assert.Equal(t, "set-active", plan.Steps[0].Action)
	assert.Equal(t, "active 1", plan.Steps[0].Key)
}

// What lies beside the system in its store goes with it: what it is woken by, and the memory
// test. Documentation of Windows' maker, BCDEdit, "/set": device, filedevice.
func TestTheReferencesBesideTheSystem(t *testing.T) {
	t.Parallel()
	for _, beside := range []bool{false, true} {
		d := sample.WindowsDisk(1, 1)
		boot, _ := sample.GPTDisk(2, nil).Place(0)
		system, _ := sample.GPTDisk(2, nil).Place(1)
		store := diskmaker.BootStore{Boot: boot, System: system, Beside: beside}
		d.Partitions[0].Volume.Files[sample.StorePath] = store.Bytes()
		m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
		plan := repair.Find(m)
		require.Equal(t, []string{"windows-references"}, actionsOf(plan), plan.Reason)
		text := ""
		for _, c := range plan.Steps[0].Commands {
			text += c.Text + "\n"
		}
		named := false
		for _, s := range plan.Afterwards {
			named = named || s.Action == "recovery-place"
		}
		assert.Equal(t, beside, named)
		for _, line := range []string{
			`/set {6c2d5f0b-71b3-4e0e-9a44-0d5e7c1b2f90} device partition=W:`,
			`/set {6c2d5f0b-71b3-4e0e-9a44-0d5e7c1b2f90} filedevice partition=W:`, `/set {memdiag} device partition=S:`,
		} {
			assert.Equal(t, beside, strings.Contains(text, line), line)
		}
		session := repair.Continue(m, repair.Progress{Done: []string{"references"}})
		require.Empty(t, session.Vanished)
		assert.Equal(t, startup.Starts, session.Done[0].After.Verdict)
		after, ok := m.Drives[0].Contents.WithStoreReferences(0, 1, firmware.UEFI).StoreOn(0, firmware.UEFI)
		require.True(t, ok)
		for _, o := range after.Objects {
			for _, e := range o.Elements {
				if e.Device != nil {
					found, _ := m.Drives[0].ResolveDevice(e.Device)
					assert.Len(t, found, 1, "%s of %s", e.Name(), o.What())
				}
			}
		}
	}
}
