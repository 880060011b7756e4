package api_test

import (
	"bytes"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/machine"
	"latchkey/internal/field"
	"latchkey/server/store/storetest"
)

// captured is a capture of a drive of the machines as technicians meet them.
func captured(t *testing.T, d machine.Drive) []byte {
	t.Helper()
	l := d.Contents.Layout
	on := &capture.Device{ReaderAt: field.Image(d.Contents), Size: int64(l.Sectors) * int64(l.SectorSize),
		LogicalSectorSize: l.SectorSize}
	taken, err := capture.Take(t.Context(), on, capture.Taking{Source: "sda", Now: time.Now()})
	require.NoError(t, err)
	var file bytes.Buffer
	require.NoError(t, capture.WriteCapture(&file, taken.Manifest, on, nil))
	return file.Bytes()
}

// met makes a case of a machine, and returns its ID.
func (c client) met(t *testing.T, title string, m machine.Machine) string {
	t.Helper()
	mode, _ := m.Firmware.Mode.Get()
	drives := []any{}
	other := func(d machine.Drive) bool { return d.Role == machine.RoleOther }
	m.Drives = slices.DeleteFunc(slices.Clone(m.Drives), other)
	for _, d := range m.Drives {
		bus, _ := d.Bus.Get()
		attached, _ := d.Attached.Get()
		drives = append(drives, map[string]any{"role": d.Role, "attached": attached, "bus": bus})
	}
	made := c.send(http.MethodPost, "/cases", "", map[string]any{"title": title, "machine": "Fenmark D4", "drives": drives,
		"firmware": map[string]any{"mode": mode, "arch": "x64", "secureBoot": false}})
	require.Equal(t, http.StatusCreated, made.status, made.body)
	id := fmt.Sprint(made.body["id"])
	for _, d := range m.Drives {
		if d.Contents != nil {
			up := c.upload(id, string(d.Role), c.version(id), upload{file: captured(t, d)})
			require.Equal(t, http.StatusCreated, up.status, up.body)
		}
	}
	return id
}

// Whatever a machine is, each page of its case has what it shows: what is computed of one family alone would be an
// error on one page of it.
func TestEveryPageOfEveryFamilysMachine(t *testing.T) {
	c := newClient(t, storetest.Open(t))
	pages := []string{"", "/check", "/plan", "/evidence", "/references", "/tables", "/references.csv", "/hand-over", "/prepare", "/history",
		"/report.md", "/report.json", "/drives/clone/bytes?offset=0&length=512", "/drives/clone/layout", "/plan/script?toolbox=linux",
		"/plan/script?toolbox=windows-recovery", "/export"}
	seen := map[int]int{}
	for at, group := range slices.Sorted(maps.Keys(field.Groups)) {
		for i, met := range field.Groups[group](t) {
			if testing.Short() && i%8 != at%8 {
				continue
			}
			id := c.met(t, group+": "+met.Name, met.At(t))
			for _, page := range pages {
				r := c.get("/cases/" + id + page)
				seen[r.status]++
				assert.Less(t, r.status, 500, "%s: %s: %s: %v", group, met.Name, page, r.body)
				if !strings.Contains(page, "script") && !strings.Contains(page, "/layout") {
					assert.Equal(t, http.StatusOK, r.status, "%s: %s: %s: %v", group, met.Name, page, r.body)
				}
			}
		}
	}
	assert.Greater(t, seen[http.StatusOK], 100)
}
