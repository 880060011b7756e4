package api_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/planfile"
	"latchkey/internal/sample"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// The plan for the stick names the case's disks and steps, and no command; it is in the
// history.
func TestAPlanForTheStick(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	refused := c.get("/cases/" + id + "/plan/stick")
	assert.Equal(t, http.StatusConflict, refused.status, refused.body)
	stale := sample.LinuxDisk(2, 1).MustBuild() // its configuration names another disk's file system
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"1"`, upload{file: captureOf(t, stale, false)}).status)
	put := c.send(
		http.MethodPut,
		"/cases/"+id,
		c.version(id),
		map[string]any{"title": "Kiosk", "deviceOrder": []string{"clone"},
			"firmware": map[string]any{
				"mode":       "uefi",
				"arch":       "x64",
				"secureBoot": false,
				"answers":    map[string]string{"entry:clone": "yes", "driver:clone": "yes"},
			},
			"drives": []map[string]any{
				{"role": "clone", "bus": "sata", "attached": true},
				{"role": "original", "attached": false},
			}},
	)
	require.Equal(t, http.StatusOK, put.status, put.body)
	plan := c.get("/cases/" + id + "/plan").body
	require.Equal(t, true, plan["forStick"], plan)

	status, header, text := c.raw(http.MethodGet, "/api/v1/cases/"+id+"/plan/stick", nil, nil)
	require.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, header.Get("Content-Disposition"), planfile.Name)
	assert.NotContains(t, text, "dd ")
	f, err := planfile.Decode(strings.NewReader(text))
	require.NoError(t, err)
	assert.Equal(t, "Kiosk", f.Case)
	require.Len(t, f.Drives, 1)
	assert.Equal(t, stale.Size, f.Drives[0].Bytes)
	assert.NotEmpty(t, f.Drives[0].ID)
	assert.Len(t, f.Steps, len(plan["steps"].([]any)))
	assert.Equal(t, "yes", f.Answers["driver:clone"])
	assert.Contains(t, c.history(id), "Ada: script downloaded")
	assert.Equal(t, http.StatusNotFound, c.get("/cases/999999/plan/stick").status)
}

// What the stick did comes into the history with its own times, once, and no step that was
// done there counts again: the evidence that came with it shows how it ended.
func TestWhatTheStickDid(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"1"`, upload{file: whole(t, inactive())}).status)
	c.legacy(id)
	key := c.get("/cases/" + id + "/plan").body["steps"].([]any)[0].(map[string]any)["key"].(string)
	ahead := time.Now().Add(48 * time.Hour).UTC().Format(time.RFC3339)
	steps := `[{"key":"` + key + `","title":"A step","state":"done","began":"2026-01-02T03:04:05Z","ended":"` + ahead + `","now":"Starts"},
		{"key":"` + key + `","title":"A step","state":"undone","began":"2026-01-02T03:04:05Z","ended":"2026-01-02T03:05:00Z","now":"Stops"}]`
	record := "2026-01-02T03:04:05Z step 1 begins: A step\r\n2026-01-02T03:04:09Z check: Stops\x1b[2J\r\n"
	body := map[string]any{"steps": steps, "record": record}
	send := func(version string, body map[string]any) reply {
		return c.send(http.MethodPost, "/cases/"+id+"/stick-record", version, body)
	}
	assert.Equal(t, http.StatusConflict, send(`"1"`, body).status)
	r := send(c.version(id), body)
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.EqualValues(t, 4, r.body["added"])
	again := send(c.version(id), body)
	require.Equal(t, http.StatusOK, again.status, again.body)
	assert.EqualValues(t, 0, again.body["added"], "the same folder brought twice")

	plan := c.get("/cases/" + id + "/plan").body
	assert.Empty(t, plan["done"])
	marks := plan["marks"].([]any)
	require.Len(t, marks, 2)
	assert.Equal(t, "On the stick. Starts", marks[0].(map[string]any)["note"])
	assert.Equal(t, "2026-01-02T03:05:00Z", marks[1].(map[string]any)["at"])
	at, err := time.Parse(time.RFC3339, marks[0].(map[string]any)["at"].(string))
	require.NoError(t, err)
	assert.False(t, at.After(time.Now()), "a clock that is ahead")
	lines := 0
	for _, e := range c.get("/cases/" + id + "/history").list {
		if e := e.(map[string]any); e["what"] == store.WhatStick {
			lines++
			assert.True(t, strings.HasPrefix(e["detail"].(string), "2026-01-02T03:04:0"), e["detail"])
			assert.NotContains(t, e["detail"], "\x1b")
		}
	}
	assert.Equal(t, 2, lines)

	for says, body := range map[string]map[string]any{
		"no record of steps": {"steps": "nonsense"}, "step 1 of the record": {"steps": `[{"key":"x","state":"run"}]`},
		"line 1 does not begin with a time": {"record": "rm -rf /"}, "line 2": {"record": "2026-01-02T03:04:05Z a\nb c"},
	} {
		bad := send(c.version(id), body)
		assert.Equal(t, http.StatusUnprocessableEntity, bad.status)
		assert.Contains(t, bad.body["detail"], says)
	}
}
