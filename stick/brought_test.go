package stick_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/capture/planfile"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/stick"
)

// bringing is a bench that has looked, and the plan that a case makes of the same disks.
func bringing(t *testing.T) (*bench, planfile.File) {
	t.Helper()
	original, clone := harbour(t)
	b := newBench(t).attach("/dev/sda", original).attach("/dev/sdb", clone)
	require.NoError(t, b.Look(t.Context(), "/dev/sdc", nil))
	b.SetRole(b.Drives[0], machine.RoleOriginal)
	b.SetRole(b.Drives[1], machine.RoleClone)
	require.NoError(t, b.Judge())
	plan := repair.Find(b.Machine, repair.Linux, repair.Firmware)
	require.NotEmpty(t, plan.Steps, plan.Reason)
	f := planfile.File{Case: "The hall"}
	for _, d := range b.Drives {
		id, _ := d.Contents.Layout.DiskID().Get()
		f.Drives = append(f.Drives, planfile.Drive{Role: d.Role, Bytes: d.Size, ID: id, Serial: d.Serial})
	}
	for _, s := range plan.Steps {
		f.Steps = append(f.Steps, planfile.Step{Key: s.Key, Title: s.Title})
	}
	return b, f
}

func (b *bench) put(t *testing.T, f planfile.File) *stick.Brought {
	t.Helper()
	raw, err := f.Encode()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(b.root, planfile.Name), raw, 0o600))
	found := stick.FindPlan(b.root)
	require.NotNil(t, found)
	return found
}

// A plan gives the drives their roles and the questions their answers; its steps are made for
// the machine that it is carried out on.
func TestAPlanThatWasBrought(t *testing.T) {
	b, f := bringing(t)
	assert.Nil(t, stick.FindPlan(b.root))
	f.Answers = map[string]string{"driver:clone": "yes", "else": "no"}
	b.SetRole(b.Drives[0], machine.RoleClone) // as a wrong guess has it
	brought := b.put(t, f)
	b.Bring(brought)
	require.NoError(t, brought.Err)
	assert.Equal(t, machine.RoleOriginal, b.Drives[0].Role)
	assert.Equal(t, machine.RoleClone, b.Drives[1].Role)
	assert.Equal(t, "yes", b.Answers["driver:sdb"])
	assert.Equal(t, "no", b.Answers["else"])
	require.NoError(t, b.Judge())
	assert.True(t, b.ByBrought())
	var keys []string
	for _, s := range b.Plan.Steps {
		keys = append(keys, s.Key)
	}
	assert.Equal(t, f.Keys(), keys)
}

// A plan for another machine, one that was changed, and one whose steps do not lead to a start
// here are refused with a sentence; nothing is taken from them.
func TestAPlanThatIsRefused(t *testing.T) {
	b, f := bringing(t)
	other := f
	other.Drives = append([]planfile.Drive{}, f.Drives...)
	other.Drives[1].Serial = "ANOTHER"
	other.Answers = map[string]string{"driver:clone": "yes"}
	brought := b.put(t, other)
	b.Bring(brought)
	assert.ErrorContains(t, brought.Err, "another machine")
	assert.False(t, b.ByBrought())
	assert.Empty(t, b.Answers)

	raw, err := f.Encode()
	require.NoError(t, err)
	path := filepath.Join(b.root, planfile.Name)
	require.NoError(t, os.WriteFile(path, append(raw[:len(raw)-3], []byte(" }\n{}")...), 0o600))
	brought = stick.FindPlan(b.root)
	assert.Error(t, brought.Err)
	b.Bring(brought)
	assert.False(t, b.ByBrought())

	elsewhere := f
	elsewhere.Steps = []planfile.Step{{Key: "rm -rf /", Title: "A step"}}
	brought = b.put(t, elsewhere)
	b.Bring(brought)
	require.NoError(t, brought.Err)
	require.NoError(t, b.Judge())
	assert.ErrorContains(t, brought.Err, "cannot be done")
	assert.False(t, b.ByBrought())
	assert.NotEmpty(t, b.Plan.Steps, "one is made on the spot")
}

// What became of each step is told in a file that the application reads.
func TestTheRecordOfSteps(t *testing.T) {
	_, clone := harbour(t)
	b := newBench(t).attach("/dev/sdb", clone)
	require.NoError(t, b.Look(t.Context(), "/dev/sdc", nil))
	require.NoError(t, b.Judge())
	s := step("sdb")
	s.Key = "a-key"
	_, err := b.Do(t.Context(), s, "", "/dev/sdc")
	require.NoError(t, err)
	_, err = b.Undo(t.Context(), "/dev/sdc")
	require.NoError(t, err)
	b.fails = os.ErrInvalid
	_, err = b.Do(t.Context(), s, "", "/dev/sdc")
	require.NoError(t, err)
	f, err := os.Open(filepath.Join(b.Folder, planfile.RecordName))
	require.NoError(t, err)
	defer f.Close()
	list, err := planfile.ReadRecords(f)
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, "done undone failed", list[0].State+" "+list[1].State+" "+list[2].State)
	assert.Equal(t, "a-key", list[0].Key)
	assert.Equal(t, b.Trace.Headline, list[2].Now)
}

// The stick left in is a drive of the machine: with no entry of the clone's it is what starts.
func TestTheStickLeftIn(t *testing.T) {
	original, clone := harbour(t)
	b := newBench(t).attach("/dev/sdb", clone)
	b.disks["/dev/sdc"] = original // a disk that firmware starts from
	b.found = append(b.found, capture.Found{Path: "/dev/sdc", Size: original.Size})
	require.NoError(t, b.Look(t.Context(), "/dev/sdc", nil))
	require.NoError(t, b.Judge())
	trace, ok := b.LeftIn("/dev/sdc")
	require.True(t, ok)
	assert.NotEqual(t, b.Trace.Reason, trace.Reason)
	assert.Len(t, b.Machine.Drives, 1, "the check itself is without the stick")
	_, ok = b.LeftIn("/dev/none")
	assert.False(t, ok)
}
