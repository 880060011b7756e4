package planfile_test

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/planfile"
	"latchkey/core/machine"
)

var (
	original = planfile.Drive{Role: machine.RoleOriginal, Bytes: 500e9, ID: "A", Serial: "S1"}
	clone    = planfile.Drive{Role: machine.RoleClone, Bytes: 1000e9, ID: "b", Serial: "S2"}
	plan     = planfile.File{
		Made:   time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC),
		Case:   "Hall",
		Drives: []planfile.Drive{original, clone},
		Answers: map[string]string{
			"driver:clone": "yes",
		},
		Steps: []planfile.Step{{Key: "linux-names", Title: "Names"}},
	}
)

func TestAPlanComesBackAsItWas(t *testing.T) {
	raw, err := plan.Encode()
	require.NoError(t, err)
	got, err := planfile.Decode(bytes.NewReader(raw))
	require.NoError(t, err)
	assert.Equal(t, []string{"linux-names"}, got.Keys())
	assert.Equal(t, plan.Drives, got.Drives)
	assert.Equal(t, plan.Answers, got.Answers)
}

// Every change of a plan file is refused, whatever is changed.
func TestAChangedPlanIsRefused(t *testing.T) {
	raw, err := plan.Encode()
	require.NoError(t, err)
	for i, b := range raw {
		if b == ' ' || b == '\n' { // between the fields they mean nothing
			continue
		}
		changed := bytes.Clone(raw)
		changed[i] ^= 1
		_, err := planfile.Decode(bytes.NewReader(changed))
		assert.Error(t, err, "byte %d, %q", i, changed[max(0, i-9):i+1])
	}
	for text, says := range map[string]string{
		"": "no plan", "{}": "format", "[": "no plan", `{"format":"latchkey-plan","version":2}`: "version 2",
		`{"format":"latchkey-plan","version":1,"run":"x"}`: "unknown field", strings.Repeat(" ", planfile.MaxSize+1): "more than",
		string(raw) + "{}": "behind",
	} {
		_, err := planfile.Decode(strings.NewReader(text))
		assert.ErrorContains(t, err, says)
	}
}

func TestAPlanHasItsBounds(t *testing.T) {
	for name, change := range map[string]func(*planfile.File){
		"two clones":     func(f *planfile.File) { f.Drives = []planfile.Drive{clone, clone} },
		"no clone":       func(f *planfile.File) { f.Drives = f.Drives[:1] },
		"a strange role": func(f *planfile.File) { f.Drives = []planfile.Drive{{Role: "x", Bytes: 1}, clone} },
		"no capacity":    func(f *planfile.File) { f.Drives = []planfile.Drive{{Role: machine.RoleClone}} },
		"no steps":       func(f *planfile.File) { f.Steps = nil },
		"many steps":     func(f *planfile.File) { f.Steps = make([]planfile.Step, 30) },
		"a nameless one": func(f *planfile.File) { f.Steps = []planfile.Step{{}} },
		"a long name":    func(f *planfile.File) { f.Case = strings.Repeat("x", 1000) },
	} {
		f := plan
		change(&f)
		raw, err := f.Encode()
		require.NoError(t, err)
		_, err = planfile.Decode(bytes.NewReader(raw))
		assert.Error(t, err, name)
	}
}

func TestAPlanIsForItsDisksAlone(t *testing.T) {
	is := func(bytes int64, id, serial string) planfile.Drive {
		return planfile.Drive{Bytes: bytes, ID: id, Serial: serial}
	}
	roles, err := plan.Match([]planfile.Drive{is(1, "", ""), is(1000e9, "B", "S2"), is(500e9, "A", "")})
	require.NoError(t, err)
	assert.Equal(t, map[int]machine.Role{1: machine.RoleClone, 2: machine.RoleOriginal}, roles)

	roles, err = plan.Match([]planfile.Drive{is(1000e9, "b", "")})
	require.NoError(t, err, "the original is away, and no serial number is told")
	assert.Len(t, roles, 1)

	for name, disks := range map[string][]planfile.Drive{
		"no disk": nil, "another capacity": {is(999e9, "b", "S2")}, "another identifier": {is(1000e9, "c", "S2")},
		"another serial number": {is(1000e9, "b", "S9")}, "two of it": {is(1000e9, "b", ""), is(1000e9, "b", "")},
	} {
		_, err := plan.Match(disks)
		assert.Error(t, err, name)
	}
	twins := plan
	twins.Drives = []planfile.Drive{
		{Role: machine.RoleOriginal, Bytes: 5, ID: "x"},
		{Role: machine.RoleClone, Bytes: 5, ID: "x"},
	}
	_, err = twins.Match([]planfile.Drive{is(5, "x", "")})
	assert.ErrorContains(t, err, "nothing tells them apart")
}

func FuzzDecode(f *testing.F) {
	raw, _ := plan.Encode()
	f.Add(raw)
	f.Add([]byte("{}"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		got, err := planfile.Decode(bytes.NewReader(raw))
		if err != nil {
			return
		}
		again, err := got.Encode()
		require.NoError(t, err)
		var a, b any
		require.NoError(t, json.Unmarshal(raw, &a))
		require.NoError(t, json.Unmarshal(again, &b))
	})
}
