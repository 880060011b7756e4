package stick_test

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// starting are boot variables whose first entry has a path, by which the system was started where
// that is told.
func (b *bench) starting(t *testing.T, path []byte, current bool) *bench {
	t.Helper()
	order := []uint16{5}
	files := diskmaker.Variables([]diskmaker.Entry{{Number: 5, Description: "Cart", Path: path}}, order, nil)
	if current {
		files["BootCurrent"] = []byte{5, 0}
	}
	for name, raw := range files {
		file := filepath.Join(b.variables, name+"-8be4df61-93ca-11d2-aa0d-00e098032b8c")
		require.NoError(t, os.WriteFile(file, append([]byte{7, 0, 0, 0}, raw...), 0o600))
	}
	return b
}

// The entry by which the stick was started leads to the stick, and to no other drive on USB: that is
// known by BootCurrent (UEFI Specification 2.10, section 3.3), where the entry names a connector.
func TestTheEntryThatLeadsToTheStick(t *testing.T) {
	port := slices.Concat(diskmaker.PCINodes(0x14, 0), diskmaker.USBNode(3))
	for name, c := range map[string]struct {
		path    []byte
		current bool
		asked   bool
	}{
		"started by it":                     {port, true, false},
		"by which it was started is open":   {port, false, true},
		"a program on a drive on USB":       {slices.Concat(port, diskmaker.HardDriveNode(1, 2048, 4096, nil, 7)), true, true},
		"an entry of a drive that is fixed": {slices.Concat(diskmaker.PCINodes(0x14, 0), diskmaker.SATANode(3)), true, true},
	} {
		original, clone := harbour(t)
		b := newBench(t).attach("/dev/sda", original).attach("/dev/sdb", clone).starting(t, c.path, c.current)
		b.found[0].Bus = "usb"
		require.NoError(t, b.Look(t.Context(), "", nil), name)
		b.SetRole(b.Drives[0], machine.RoleOriginal)
		b.SetRole(b.Drives[1], machine.RoleClone)
		require.NoError(t, b.Judge())
		own := startup.DeviceOf(b.Machine.Firmware.Entries.All[5])
		assert.Equal(t, c.asked, b.Answers[own] == "", name)
		of := func(q course.Question) bool { return q.ID == own }
		assert.False(t, !c.asked && slices.ContainsFunc(b.Trace.Missing, of), name)

		require.NoError(t, os.Remove(filepath.Join(b.variables, "Boot0005-8be4df61-93ca-11d2-aa0d-00e098032b8c")))
		require.NoError(t, b.Look(t.Context(), "", nil))
		assert.Empty(t, b.Answers[own], "what the variables tell no more is forgotten")
	}
}

// Left in, the stick is what its entry leads to.
func TestTheEntryOfTheStickLeftIn(t *testing.T) {
	original, clone := harbour(t)
	path := slices.Concat(diskmaker.PCINodes(0x14, 0), diskmaker.USBNode(3))
	b := newBench(t).attach("/dev/sdb", clone).starting(t, path, true)
	b.disks["/dev/sdc"] = original // a disk that firmware starts from
	b.found = append(b.found, b.found[0])
	b.found[1].Path, b.found[1].Size = "/dev/sdc", original.Size
	require.NoError(t, b.Look(t.Context(), "/dev/sdc", nil))
	require.NoError(t, b.Judge())
	trace, ok := b.LeftIn("/dev/sdc")
	require.True(t, ok)
	require.NotEmpty(t, trace.Attempts)
	assert.Equal(t, "the stick", trace.Attempts[0].Drive)
	assert.Equal(t, startup.Elsewhere, b.Answers[startup.DeviceOf(b.Machine.Firmware.Entries.All[5])], "the session's own answer stays")
}

// A step whose commands failed is not offered again until a person asks for it.
func TestAStepThatFailedIsLeftOut(t *testing.T) {
	original, clone := harbour(t)
	b := newBench(t).attach("/dev/sda", original).attach("/dev/sdb", clone)
	require.NoError(t, b.Look(t.Context(), "", nil))
	b.SetRole(b.Drives[0], machine.RoleOriginal)
	b.SetRole(b.Drives[1], machine.RoleClone)
	require.NoError(t, b.Judge())
	first, ok := b.Next()
	require.True(t, ok)
	assert.Empty(t, b.Failed())
	keyed := func(s repair.PlanStep) bool { return s.Key == first.Key }
	b.fails = errors.New("a program is not there")
	for range 2 {
		failing := first
		failing.Form = step("sdb").Form
		_, err := b.Do(t.Context(), failing, "", "")
		require.NoError(t, err)
	}
	assert.Equal(t, []string{first.Title}, b.Failed())
	assert.False(t, slices.ContainsFunc(b.Plan.Steps, keyed))
	require.NoError(t, b.TryAgain())
	assert.Empty(t, b.Failed())
	assert.True(t, slices.ContainsFunc(b.Plan.Steps, keyed))
}
