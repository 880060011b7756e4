package api_test

import (
	"bytes"
	"fmt"
	"mime/multipart"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
	"latchkey/server/store/storetest"
)

// captureOf is a capture file, taken by a system that runs from the disk or not.
func captureOf(t testing.TB, m *diskmaker.Image, running bool) []byte {
	t.Helper()
	d := &capture.Device{ReaderAt: m, Size: m.Size, Model: "Ostra N3", Serial: "C2", Bus: "nvme", Running: running}
	manifest, err := capture.Take(t.Context(), d, capture.Taking{Source: "nvme0n1", SectorSize: 512, Now: time.Now()})
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, capture.WriteCapture(&b, manifest.Manifest, m, nil))
	return b.Bytes()
}

func (c client) startCapture(id, version string, file []byte, kind string) reply {
	c.t.Helper()
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	part, err := w.CreateFormFile("file", "running.lkcap")
	require.NoError(c.t, err)
	_, err = part.Write(file)
	require.NoError(c.t, err)
	require.NoError(c.t, w.WriteField("kind", kind))
	require.NoError(c.t, w.Close())
	return c.do(http.MethodPost, "/cases/"+id+"/starts/capture", version, &body, w.FormDataContentType())
}

// otherDisk is the clone of the tests with another identifier.
func otherDisk() *diskmaker.Image {
	return diskmaker.Disk{Sectors: 3 << 13, Style: diskmaker.GPT, GUID: disk.TypeBasicData,
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, MiB: 8, Volume: diskmaker.Volume{Kind: "fat16"}}}}.MustBuild()
}

func TestAFirstStartProvedByACapture(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	clone := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	require.Equal(t, http.StatusCreated, c.upload(id, "original", `"1"`, upload{file: whole(t, otherDisk())}).status)
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"2"`, upload{file: whole(t, clone)}).status)

	r := c.startCapture(id, `"3"`, captureOf(t, clone, false), "")
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	assert.Contains(t, r.body["detail"], "take the capture there")
	r = c.startCapture(id, `"3"`, []byte("no capture"), "")
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	assert.Contains(t, r.body["detail"], "capture: zip: not a valid zip file")
	assert.EqualValues(t, 3, c.get("/cases/" + id).body["version"], "nothing was stored")

	r = c.startCapture(id, `"3"`, captureOf(t, otherDisk(), true), "")
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "original", r.body["from"])
	assert.NotContains(t, r.body["case"], "provedAt")

	r = c.startCapture(id, `"4"`, captureOf(t, clone, true), "cold")
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "clone", r.body["from"])
	proved := r.body["case"].(map[string]any)
	assert.NotEmpty(t, proved["provedAt"])
	assert.Contains(t, proved["proof"], "By a capture that the running system took of its own disk.")
	drive := proved["drives"].([]any)[1].(map[string]any)
	assert.Equal(t, "running.lkcap", drive["filename"], "the capture is the clone's evidence now")
	assert.Equal(t, "Ostra N3", drive["model"])
	assert.Equal(t, http.StatusConflict, c.startCapture(id, `"4"`, captureOf(t, clone, true), "").status)
}

func TestAFirstStartThatWasTyped(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"1"`, upload{file: whole(t, otherDisk())}).status)
	path := "/cases/" + id + "/starts"
	r := c.send(http.MethodPost, path, `"2"`, map[string]any{"capacity": "large", "kind": "cold"})
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	assert.Contains(t, r.body["detail"], "capacity:")
	r = c.send(http.MethodPost, path, `"2"`, map[string]any{"kind": "cold", "answer": "sda  Ostra N3   67108864 EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n"})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "clone", r.body["from"])
	assert.Contains(t, r.body["why"], "By what the running system answered.")
	r = c.send(http.MethodPost, path, `"3"`, map[string]any{"failed": "0xc000000e", "kind": "cold"})
	require.Equal(t, http.StatusOK, r.status, r.body)
	after := r.body["case"].(map[string]any)
	assert.NotContains(t, after, "provedAt", "it goes back to the repair")
	assert.Equal(t, "0xc000000e", after["said"], "with the new symptom")
	starts := c.get("/cases/" + id + "/hand-over").body["starts"].([]any)
	require.Len(t, starts, 2)
	failed := starts[1].(map[string]any)
	assert.Equal(t, "failed", failed["from"])
	back := c.send(http.MethodDelete, fmt.Sprintf("/cases/%s/starts/%v", id, failed["id"]), `"4"`, nil)
	require.Equal(t, http.StatusOK, back.status, back.body)
	assert.Contains(t, back.body, "provedAt", "without the one that was recorded by mistake it is proved")
	future := c.send(http.MethodPost, path, `"5"`, map[string]any{"id": "x", "kind": "cold", "at": time.Now().Add(time.Hour)})
	assert.Equal(t, http.StatusUnprocessableEntity, future.status)
}

// A whole hand-over: starts on several days, what was looked at, the old drive's commands
// refused until the rule is met, and then handed out.
func TestAHandOverToTheOldDrivesRelease(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	clone := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	require.Equal(t, http.StatusCreated, c.upload(id, "original", `"1"`, upload{file: whole(t, otherDisk())}).status)
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"2"`, upload{file: whole(t, clone)}).status)
	version := 3
	do := func(method, path string, body map[string]any) reply {
		t.Helper()
		r := c.send(method, "/cases/"+id+path, fmt.Sprintf(`"%d"`, version), body)
		if r.status == http.StatusOK {
			version++
		}
		return r
	}
	commands := func() reply { return c.get("/cases/" + id + "/hand-over/old-drive?fate=wiped&system=linux") }
	cloneID := c.get("/cases/" + id + "/check").body["drives"].([]any)[1].(map[string]any)["disk"].(map[string]any)["id"]
	for day := range 5 {
		assert.Equal(t, http.StatusUnprocessableEntity, commands().status)
		r := do(http.MethodPost, "/starts", map[string]any{"id": cloneID, "kind": "cold", "at": time.Now().AddDate(0, 0, -min(day, 2))})
		require.Equal(t, http.StatusOK, r.status, r.body)
	}
	h := c.get("/cases/" + id + "/hand-over").body
	assert.Equal(t, "watched", h["phase"])
	assert.EqualValues(t, 5, h["good"])
	assert.Contains(t, h["still"], "Still wanted:")
	assert.Equal(t, http.StatusUnprocessableEntity, do(http.MethodPut, "/hand-over/release", map[string]any{"fate": "wiped"}).status)
	for _, l := range h["looks"].([]any) {
		key := l.(map[string]any)["key"].(string)
		r := do(http.MethodPut, "/hand-over/looks/"+key, map[string]any{"seen": true})
		require.Equal(t, http.StatusOK, r.status, r.body)
	}
	assert.Equal(t, http.StatusUnprocessableEntity, do(http.MethodPut, "/hand-over/looks/nothing", map[string]any{"seen": true}).status)
	r := commands()
	assert.Contains(t, r.body["detail"], "image or copy")
	require.Equal(t, http.StatusOK, do(http.MethodPut, "/hand-over", map[string]any{"saved": true, "place": "drawer 3"}).status)
	r = commands()
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Contains(t, r.body["script"], "wipefs --all")
	require.Equal(t, http.StatusOK, do(http.MethodPut, "/hand-over", map[string]any{"saved": true, "keepUntil": time.Now().AddDate(0, 0, 3)}).status)
	assert.Equal(t, http.StatusUnprocessableEntity, commands().status, "it is the way back until then")
	require.Equal(t, http.StatusOK, do(http.MethodPut, "/hand-over", map[string]any{"saved": true}).status)
	require.Equal(t, http.StatusOK, c.startCapture(id, fmt.Sprintf(`"%d"`, version), captureOf(t, clone, true), "warm").status)
	version++
	require.Equal(t, http.StatusOK, do(http.MethodPut, "/hand-over", map[string]any{"saved": true, "serial": "C2"}).status)
	r = commands()
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	assert.Contains(t, r.body["detail"], "C2 is the clone's", "the label of the wrong drive was read")
	require.Equal(t, http.StatusOK, do(http.MethodPut, "/hand-over", map[string]any{"saved": true}).status)
	require.Equal(t, http.StatusOK, do(http.MethodPut, "/hand-over/release", map[string]any{"fate": "wiped"}).status)
	h = c.get("/cases/" + id + "/hand-over").body
	assert.Equal(t, "released", h["phase"])

	// Answers and times.
	for text, status := range map[string]int{"FileVault is On.\n": http.StatusOK, "hello": http.StatusUnprocessableEntity} {
		assert.Equal(t, status, do(http.MethodPost, "/hand-over/answers", map[string]any{"text": text}).status, text)
	}
	for _, one := range [][2]string{{"original", "1:05"}, {"clone", "10 s"}, {"clone", "14,5"}} {
		require.Equal(t, http.StatusOK, do(http.MethodPost, "/hand-over/times", map[string]any{"side": one[0], "text": one[1]}).status, one)
	}
	assert.Equal(t, http.StatusUnprocessableEntity, do(http.MethodPost, "/hand-over/times", map[string]any{"side": "clone", "text": "quick"}).status)
	sides := c.get("/cases/" + id + "/hand-over").body["sides"].([]any)
	require.Len(t, sides, 2)
	assert.EqualValues(t, 65, sides[0].(map[string]any)["seconds"])
	assert.EqualValues(t, 12.25, sides[1].(map[string]any)["seconds"])
	assert.Equal(t, http.StatusConflict, c.send(http.MethodDelete, "/cases/"+id+"/hand-over/times", `"1"`, nil).status)
}
