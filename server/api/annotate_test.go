package api_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/server/api"
)

// What the description says of the rules' own types stands beside them, not in them: a
// row whose field was renamed says nothing, and is found here.
func TestTheRulesTypesAreDescribed(t *testing.T) {
	t.Parallel()
	raw, err := json.Marshal(api.Description())
	require.NoError(t, err)
	for key, text := range api.Meanings() {
		quoted, err := json.Marshal(text)
		require.NoError(t, err)
		assert.True(t, strings.Contains(string(raw), string(quoted)), key)
	}
	var doc struct {
		Components struct {
			Schemas map[string]struct {
				Properties map[string]struct{ Enum []any }
			}
		}
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	schemas := doc.Components.Schemas
	assert.Equal(t, []any{"starts", "starts-original", "stops", "depends"}, schemas["Trace"].Properties["verdict"].Enum)
	assert.Equal(t, []any{"none", "low", "real"}, schemas["PlanStep"].Properties["risk"].Enum)
	for key, values := range api.Values() {
		typed, field, _ := strings.Cut(key[strings.Index(key, ".")+1:], ".")
		property := schemas[typed].Properties[strings.ToLower(field)]
		assert.True(t, slices.Equal(values, property.Enum) || len(property.Enum) == len(values), key)
	}
}
