package api_test

import (
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

func TestAPlanAndItsMarks(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	vendor := bootDisk(map[string][]byte{`\EFI\debian\grubx64.efi`: diskmaker.Program{}.Bytes()})
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"1"`, upload{file: whole(t, vendor)}).status)
	put := c.send(http.MethodPut, "/cases/"+id, `"2"`, map[string]any{"title": "Kiosk", "deviceOrder": []string{"clone"},
		"firmware": map[string]any{"mode": "legacy", "arch": "x64", "secureBoot": false, "choices": map[string]any{"triesNextDisk": false, "runsEmptyBootCode": true}},
		"drives":   []map[string]any{{"role": "clone", "bus": "sata", "attached": true}, {"role": "original", "attached": false}}})
	require.Equal(t, http.StatusOK, put.status, put.body)
	plan := c.get("/cases/" + id + "/plan")
	require.Equal(t, http.StatusOK, plan.status, plan.body)
	assert.Equal(t, "stops", plan.body["before"].(map[string]any)["verdict"])
	assert.NotEmpty(t, plan.body["reason"])
	assert.Equal(t, http.StatusUnprocessableEntity, c.get("/cases/"+id+"/plan?toolboxes=hammer").status)
	assert.Equal(t, http.StatusNotFound, c.get("/cases/"+id+"/plan/script?toolbox=linux").status)

	gone := c.send(http.MethodPost, "/cases/"+id+"/marks", `"3"`, map[string]any{"step": "no such step", "state": "done", "note": ""})
	assert.Equal(t, http.StatusConflict, gone.status)
	assert.Contains(t, gone.body["detail"], "not in the plan any more")
	assert.Equal(t, http.StatusUnprocessableEntity,
		c.send(http.MethodPost, "/cases/"+id+"/marks", `"3"`, map[string]any{"step": "", "state": "done"}).status)
	assert.Equal(t, http.StatusPreconditionRequired,
		c.send(http.MethodPost, "/cases/"+id+"/marks", "", map[string]any{"step": "x", "state": "done", "note": ""}).status)
}

// inactive is a disk for legacy firmware on which no partition is active.
func inactive() *diskmaker.Image {
	files := diskmaker.WindowsFiles(diskmaker.Program{}.Bytes(), diskmaker.Registry{})
	files[`\bootmgr`] = []byte{1}
	return diskmaker.Disk{Sectors: 3 << 13, Style: diskmaker.MBR, Signature: 7, BootCode: "classic",
		Partitions: []diskmaker.Partition{{MBRType: 7,
			Volume: diskmaker.Volume{Kind: "ntfs", Files: files}}}}.MustBuild()
}

// legacy says that the machine of a case starts in legacy mode.
func (c client) legacy(id string) {
	c.t.Helper()
	put := c.send(http.MethodPut, "/cases/"+id, c.version(id), map[string]any{"title": "Kiosk", "deviceOrder": []string{"clone"},
		"firmware": map[string]any{"mode": "legacy"},
		"drives":   []map[string]any{{"role": "clone", "bus": "sata", "attached": true}, {"role": "original", "attached": false}}})
	require.Equal(c.t, http.StatusOK, put.status, put.body)
}

// A step that is ticked off counts until new evidence tells better; two
// technicians see each other's ticks.
func TestTicksUntilNewEvidence(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	image := whole(t, inactive())
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"1"`, upload{file: image}).status)
	c.legacy(id)
	plan := c.get("/cases/" + id + "/plan").body
	steps := plan["steps"].([]any)
	require.Len(t, steps, 2, plan["reason"])
	first := steps[0].(map[string]any)
	assert.Equal(t, "set-active", first["action"])
	mark := map[string]any{"step": first["key"], "state": "done", "note": "DiskPart marked the current partition as active."}
	r := c.send(http.MethodPost, "/cases/"+id+"/marks", `"3"`, mark)
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Len(t, r.body["done"], 1)
	assert.Len(t, r.body["steps"], 1, "the plan goes on from there")
	assert.Equal(t, "Ada", r.body["marks"].([]any)[0].(map[string]any)["who"])
	mark["state"] = "failed"
	assert.Equal(t, http.StatusConflict, c.as("Bo", store.Technician).send(http.MethodPost, "/cases/"+id+"/marks", `"3"`, mark).status,
		"Bo had not seen Ada's tick")
	mark["state"] = "undone"
	r = c.send(http.MethodPost, "/cases/"+id+"/marks", `"4"`, mark)
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Empty(t, r.body["done"])
	assert.Len(t, r.body["marks"], 2, "the history keeps both")
	mark["state"] = "done"
	require.Equal(t, http.StatusOK, c.send(http.MethodPost, "/cases/"+id+"/marks", `"5"`, mark).status)
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"6"`, upload{file: image}).status)
	after := c.get("/cases/" + id + "/plan").body
	assert.Empty(t, after["done"], "the new capture shows that the partition is still not active")
	assert.Len(t, after["steps"], 2)
	res, err := http.DefaultClient.Do(c.request(http.MethodGet, "/cases/"+id+"/plan/script?toolbox=windows-recovery&plan="+fmt.Sprint(after["fingerprint"]), "", nil, ""))
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Contains(t, res.Header.Get("Content-Disposition"), "repair.cmd")
	script, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.Contains(t, string(script), "No partition of the clone begins at byte 1048576")
	sum := fmt.Sprintf("%x", sha256.Sum256(script))
	assert.Contains(t, fmt.Sprint(after["scripts"]), sum, "the plan tells the sum of its scripts")
	assert.Equal(t, http.StatusConflict, c.get("/cases/"+id+"/plan/script?toolbox=windows-recovery&plan=another").status)
	assert.Equal(t, http.StatusNotFound, c.get("/cases/"+id+"/plan/script?toolbox=windows-recovery&toolboxes=linux").status, "the plan for other toolboxes has no step for this one")
	assert.Contains(t, fmt.Sprint(c.get("/cases/" + id + "/history").list[0]), sum)

	// The disk is not in the evidence any more: the plan says so, and a tick is refused.
	for _, piece := range c.get("/cases/" + id + "/evidence").body["bytes"].([]any) {
		at := "/cases/" + id + "/evidence/" + fmt.Sprint(piece.(map[string]any)["id"]) + "/withdrawn"
		require.Equal(t, http.StatusOK, c.send(http.MethodPut, at, c.version(id), map[string]any{"withdrawn": true}).status)
	}
	blind := c.get("/cases/" + id + "/plan").body
	assert.Empty(t, blind["steps"])
	assert.Contains(t, blind["reason"], "Nothing of its partition table is in evidence")
	late := map[string]any{"step": "windows-files", "state": "done", "note": ""}
	assert.Equal(t, http.StatusConflict, c.send(http.MethodPost, "/cases/"+id+"/marks", c.version(id), late).status)
	assert.Contains(t, string(script), "echo active")
}
