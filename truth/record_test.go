package truth_test

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/truth"
)

// A record that says what another firmware would have done is held against what is computed: the
// machine is not started again, but it is computed.
func TestWhatWasStartedIsHeldAgainstWhatIsComputed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "folder", "started")
	s := scenario(t, "OVMF: GPT, fallback, SATA")
	kept := `{"Name":"OVMF: GPT, fallback, SATA","Result":{"Mark":"a:2:\\EFI\\BOOT\\BOOTX64.EFI","Ended":"mark"}}` + "\n"
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
	require.NoError(t, os.WriteFile(path, []byte(kept+`{"Name":"cut off`), 0o600))
	record, err := truth.OpenRecord(path)
	require.NoError(t, err)
	r := record.Run(s)
	require.NoError(t, r.Err)
	assert.Contains(t, r.Differs, `started a:2:`)
	assert.NotEqual(t, truth.Agrees, r.Verdict())
	require.NoError(t, record.Close())
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, kept, string(after), "what was cut off goes, what was whole stays")
}

func TestAStartIsKept(t *testing.T) {
	ready(t)
	path := filepath.Join(t.TempDir(), "started")
	s := scenario(t, "OVMF: GPT, fallback, SATA")
	for range 2 {
		record, err := truth.OpenRecord(path)
		require.NoError(t, err)
		r := record.Run(s)
		require.NoError(t, r.Err)
		assert.Equal(t, truth.Agrees, r.Verdict())
		assert.Equal(t, `a:1:\EFI\BOOT\BOOTX64.EFI`, r.Result.Mark)
		require.NoError(t, record.Close())
	}
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Len(t, regexp.MustCompile(`(?m)^\{.*\}$`).FindAll(raw, -1), 1, "the second time nothing was started")
}

func TestARecordThatCannotBeReadIsNotWrittenOver(t *testing.T) {
	path := filepath.Join(t.TempDir(), "started")
	require.NoError(t, os.WriteFile(path, []byte("[table]\nname = x\n"), 0o600))
	_, err := truth.OpenRecord(path)
	require.ErrorContains(t, err, "line 1: expected what became of a machine")
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "[table]\nname = x\n", string(after))
}

func scenario(t *testing.T, called string) truth.Scenario {
	t.Helper()
	for _, s := range truth.Scenarios() {
		if s.Called() == called {
			return s
		}
	}
	require.Fail(t, "there is no scenario "+called)
	return truth.Scenario{}
}
