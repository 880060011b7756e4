package repair_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/firmware"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// An encrypted system is unlocked before its boot files are made, unless the recovery environment has done so; with
// another key nothing is changed.
func TestABatchFileUnlocksAnEncryptedSystem(t *testing.T) {
	d := leftBehind()["no files"]
	d.Partitions = append([]diskmaker.Partition{}, d.Partitions...)
	d.Partitions[len(d.Partitions)-1].Volume = diskmaker.Volume{Kind: "raw", Raw: []byte("\xEB\x58\x90-FVE-FS-")}
	m := machineOf(t, firmware.UEFI, d.MustBuild())
	m.Answers = map[string]string{"recovery-key:clone": "yes"}
	p := repair.Find(m, repair.WindowsRecovery)
	require.Equal(t, []string{"windows-boot-files"}, actionsOf(p), p.Reason)
	assert.Contains(t, p.Steps[0].Why, "recovery key")
	const key = "111111-222222-333333-444444-555555-666666-777777-888888"
	for typed, works := range map[string]bool{key + "\r\n": true, "123\r\n": false, "1 & echo pwned>pwned\r\n": false, "": false} {
		t.Run(typed, func(t *testing.T) {
			t.Parallel()
			answer, ok, after := runBatchTyping(t, typed, script(p, repair.WindowsRecovery), standIn{Disk: d})
			assert.Equal(t, works, ok, answer)
			if !works {
				assert.Contains(t, answer, "It is locked yet: stop.")
				assert.Equal(t, placed(t, d).Partitions[0], placed(t, after[0].Disk).Partitions[0], "nothing was changed")
				return
			}
			then := machineOf(t, firmware.UEFI, after[0].Disk.MustBuild())
			then.Answers = m.Answers
			trace := startup.Simulate(then)
			assert.Equal(t, startup.Starts, trace.Verdict, "%s\n%s", trace.Headline, answer)
		})
	}
}
