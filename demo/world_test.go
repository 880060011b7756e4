package demo_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/startup"
	"latchkey/demo"
)

// ending is how a demo case must end when its real bytes are examined.
type ending struct {
	verdict startup.Verdict
	reaches startup.Verdict
	stage   startup.Stage
}

var endings = map[string]ending{
	"harbour-desktop": {startup.Starts, startup.Starts, ""},
	"kiosk-north":     {startup.Stops, startup.Stops, startup.StageBootPartition},
	"bridge-laptop":   {startup.Stops, startup.Stops, startup.StageMode},
	"engine-log":      {startup.Depends, startup.Depends, ""},
	"camera-recorder": {startup.Stops, startup.Stops, startup.StageSystem},
	"kiosk-south":     {startup.StartsOriginal, startup.StartsOriginal, ""},
	"booking-office":  {startup.Stops, startup.Stops, startup.StageBootPartition},
	"timetable":       {startup.Depends, startup.Depends, ""},
	"kiosk-east":      {startup.Stops, startup.Stops, startup.StageLoader},
	"crew-mess":       {startup.Stops, startup.Stops, startup.StageDrive},
	"stores-laptop":   {startup.Stops, startup.Stops, startup.StageTable},
	"lounge-display":  {startup.Stops, startup.Stops, startup.StageConfiguration},
	"purser-laptop":   {startup.Stops, startup.Stops, startup.StageConfiguration},
	"chart-table":     {startup.Depends, startup.Depends, ""},
	"tide-office":     {startup.Depends, startup.Depends, ""},
	"weather-station": {startup.Starts, startup.Starts, ""},
	"wharf-scales":    {startup.Starts, startup.Starts, ""},
	"design-mac":      {startup.Depends, startup.Depends, ""},
	"cargo-server":    {startup.Starts, startup.Starts, ""},
}

func machineOf(t *testing.T, c demo.Case) startup.Machine {
	t.Helper()
	f := c.Firmware
	m := startup.Machine{DeviceOrder: c.DeviceOrder, Firmware: firmware.Settings{
		Mode: fact.Tell(firmware.Mode(f.Mode)), Arch: fact.Tell(firmware.Arch(f.Arch)), SecureBoot: fact.Maybe(f.SecureBoot),
		Behaviour: firmware.Behaviour{FallbackOnFixedDisks: fact.Maybe(f.Fallback), StartsFromNVMe: fact.Maybe(f.StartsFromNVMe), StartsFromUSB: fact.Maybe(f.StartsFromUSB), ReadsMacVolumes: fact.Maybe(f.ReadsMacVolumes)},
	}}
	for role, d := range map[startup.Role]demo.Drive{startup.RoleOriginal: c.Original, startup.RoleClone: c.Clone} {
		if d.Disk == nil {
			m.Drives = append(m.Drives, startup.Drive{Name: string(role), Role: role, Bus: fact.Tell(d.Bus), Attached: fact.Maybe(d.Attached)})
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
		m.Drives = append(m.Drives, startup.Drive{Name: string(role), Role: role, Bus: fact.Tell(d.Bus), Attached: fact.Maybe(d.Attached), Contents: startup.Examine(on)})
	}
	return m
}

func TestEveryDemoCaseEndsAsItIsMeantTo(t *testing.T) {
	for _, c := range demo.Cases() {
		t.Run(c.Name, func(t *testing.T) {
			if c.Original.Disk == nil {
				t.Skip("told by listings: the command's tests load it as the demo does")
			}
			want, known := endings[c.Name]
			require.True(t, known, "the case has no ending here")
			m := machineOf(t, c)
			trace := startup.Simulate(m)
			assert.Equal(t, want, ending{trace.Verdict, trace.Reaches, trace.Stage}, trace.Headline)
			// The original of every case is sound: alone, in a machine that suits it,
			// it reaches its loader, or hangs on the very fact that the case asks for.
			for _, p := range startup.Pins(m, "original") {
				assert.NotEqual(t, startup.Blocks, p.State, "%s: %s", p.Stage, p.Text)
			}
		})
	}
	assert.Equal(t, len(endings)+4, len(demo.Cases()), "four cases have no bytes")
}

func TestTheDemoShowsEveryStageThatIsJudged(t *testing.T) {
	shown := map[startup.Stage]bool{}
	for _, e := range endings {
		shown[e.stage] = true
	}
	for _, stage := range []startup.Stage{startup.StageDrive, startup.StageMode, startup.StageTable, startup.StageBootPartition, startup.StageLoader, startup.StageConfiguration, startup.StageSystem} {
		assert.True(t, shown[stage], stage)
	}
}

func TestDemoNamesAreTheirOwn(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range demo.Cases() {
		assert.False(t, seen[c.Name] || seen[c.Title])
		seen[c.Name], seen[c.Title] = true, true
	}
}
