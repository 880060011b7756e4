package capture_test

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/firmware"
)

// A description tells every choice of a firmware by its key, each for itself, and wins
// over the named behaviour.
func TestEveryChoiceIsDescribed(t *testing.T) {
	for _, c := range firmware.Choices {
		for _, made := range []bool{true, false} {
			path := machineOf(t, func(d map[string]any) { d["firmware"] = map[string]any{"behaviour": "edk2", c.Key: made} })
			m, err := capture.Load(path)
			require.NoError(t, err)
			got, known := m.Firmware.Behaviour.Of(c).Get()
			assert.True(t, known, c.Key)
			assert.Equal(t, made, got, c.Key)
			edk2, _ := firmware.Named("edk2")
			for _, other := range firmware.Choices {
				if other != c {
					assert.Equal(t, edk2.Of(other), m.Firmware.Behaviour.Of(other), "%s changes %s", c.Key, other.Key)
				}
			}
		}
		_, err := capture.ParseDescription([]byte(`{"firmware": {"` + c.Key + `": "yes"}, "drives": [{"name": "b", "role": "clone"}]}`))
		assert.ErrorContains(t, err, "firmware."+c.Key+` is "yes": expected true or false`)
	}
	_, err := capture.ParseDescription([]byte(`{"firmware": {"readsMinds": true}, "drives": [{"name": "b", "role": "clone"}]}`))
	assert.ErrorContains(t, err, "readsMinds")
}

func TestADescriptionIsWrittenAsItIsRead(t *testing.T) {
	mode := "uefi"
	told := capture.FirmwareDescription{Mode: &mode, Behaviour: "edk2", Choices: map[string]bool{}}
	for i, c := range firmware.Choices {
		told.Choices[c.Key] = i%2 == 0
	}
	raw, err := json.Marshal(told)
	require.NoError(t, err)
	var got capture.FirmwareDescription
	require.NoError(t, json.Unmarshal(raw, &got))
	assert.Equal(t, told, got)
}

// The schema on the page of formats has the very choices that there are.
func TestThePageOfFormatsHasEveryChoice(t *testing.T) {
	page, err := os.ReadFile("../docs/formats.md")
	require.NoError(t, err)
	var lines []string
	for _, c := range firmware.Choices {
		lines = append(lines, fmt.Sprintf(`        "%s": {"type": "boolean", "description": "%s"}`, c.Key, c.Means))
	}
	assert.Contains(t, string(page), strings.Join(lines, ",\n")+"\n      }\n")
}
