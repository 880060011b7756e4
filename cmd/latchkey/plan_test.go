package main

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
)

func TestPlanKeepsItsContract(t *testing.T) {
	vendor := map[string][]byte{`\EFI\debian\grubx64.efi`: diskmaker.Program{}.Bytes()}
	out, code := run(t, "plan", "--json", "--toolbox", "linux", describe(t, withDisk(t, vendor), until("loader")))
	assert.Equal(t, 0, code, out)
	var got struct {
		Verdict string
		Steps   []map[string]any
		Reason  string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, "starts", got.Verdict)
	require.Len(t, got.Steps, 1)
	for _, key := range []string{"action", "toolbox", "risk", "commands", "undo"} {
		assert.NotEmpty(t, got.Steps[0][key], key)
	}
	assert.Equal(t, "linux", got.Steps[0]["toolbox"])

	out, code = run(t, "plan", describe(t, withDisk(t, nil), until("loader")))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "Copy again")
	_, code = run(t, "plan", "--toolbox", "hammer", describe(t, withDisk(t, nil), until("loader")))
	assert.Equal(t, 2, code)
	good := map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}
	out, code = run(t, "plan", describe(t, withDisk(t, good), until("loader")))
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "nothing is to be repaired")
}

func TestAPlansScript(t *testing.T) {
	dir := withDisk(t, map[string][]byte{`\EFI\debian\grubx64.efi`: diskmaker.Program{}.Bytes()})
	machine := describe(t, dir, until("loader"))
	out, code := run(t, "plan", machine, "--toolbox", "linux", "--script", "linux")
	require.Equal(t, 0, code, out)
	assert.True(t, strings.HasPrefix(out, "#!/bin/sh\n"), out)
	out, code = run(t, "plan", machine, "--toolbox", "windows-recovery", "--script", "windows-recovery")
	require.Equal(t, 0, code, out)
	assert.Contains(t, out, "call :find")
	assert.Contains(t, out, "\r\n:find\r\n", "the routines come along")
	out, code = run(t, "plan", machine, "--toolbox", "linux", "--script", "mac-recovery")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "no line to type for this toolbox")
	_, code = run(t, "plan", machine, "--script", "hammer")
	assert.Equal(t, 2, code)
}
