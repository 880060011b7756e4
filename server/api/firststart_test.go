package api_test

import (
	"bytes"
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
func captureOf(t *testing.T, m *diskmaker.Image, running bool) []byte {
	t.Helper()
	d := &capture.Device{ReaderAt: m, Size: m.Size, Model: "Ostra N3", Bus: "nvme", Running: running}
	manifest, err := capture.Take(t.Context(), d, "nvme0n1", 512, time.Now(), nil)
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, capture.WriteCapture(&b, manifest, m, nil))
	return b.Bytes()
}

func (c client) firstStartCapture(id, version string, file []byte, looked string) reply {
	c.t.Helper()
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	part, err := w.CreateFormFile("file", "running.lkcap")
	require.NoError(c.t, err)
	_, err = part.Write(file)
	require.NoError(c.t, err)
	require.NoError(c.t, w.WriteField("looked", looked))
	require.NoError(c.t, w.Close())
	return c.do(http.MethodPost, "/cases/"+id+"/first-start/capture", version, &body, w.FormDataContentType())
}

// otherDisk is the clone of the tests with another identifier.
func otherDisk() *diskmaker.Image {
	return diskmaker.Disk{Sectors: 1 << 17, Style: diskmaker.GPT, GUID: disk.TypeBasicData,
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, MiB: 40, Volume: diskmaker.Volume{Kind: "fat32"}}}}.MustBuild()
}

func TestAFirstStartProvedByACapture(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	clone := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	require.Equal(t, http.StatusCreated, c.upload(id, "original", `"1"`, upload{file: whole(t, otherDisk())}).status)
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"2"`, upload{file: whole(t, clone)}).status)

	r := c.firstStartCapture(id, `"3"`, captureOf(t, clone, false), "")
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	assert.Contains(t, r.body["detail"], "take the capture there")
	r = c.firstStartCapture(id, `"3"`, []byte("no capture"), "")
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	assert.Contains(t, r.body["detail"], "capture: zip: not a valid zip file")
	assert.EqualValues(t, 3, c.get("/cases/" + id).body["version"], "nothing was stored")

	r = c.firstStartCapture(id, `"3"`, captureOf(t, otherDisk(), true), "")
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "original", r.body["from"])
	assert.NotContains(t, r.body["case"], "provedAt")

	r = c.firstStartCapture(id, `"4"`, captureOf(t, clone, true), "letters,files")
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "clone", r.body["from"])
	proved := r.body["case"].(map[string]any)
	assert.NotEmpty(t, proved["provedAt"])
	assert.Contains(t, proved["proof"], "By a capture that the running system took of its own disk.")
	assert.Contains(t, proved["proof"], "Seen too: the drive letters as before, programs and files there. Not told: as many partitions")
	drive := proved["drives"].([]any)[1].(map[string]any)
	assert.Equal(t, "running.lkcap", drive["filename"], "the capture is the clone's evidence now")
	assert.Equal(t, "Ostra N3", drive["model"])
	assert.Equal(t, http.StatusConflict, c.firstStartCapture(id, `"4"`, captureOf(t, clone, true), "").status)
}

func TestAFirstStartThatWasTyped(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"1"`, upload{file: whole(t, otherDisk())}).status)
	path := "/cases/" + id + "/first-start"
	r := c.send(http.MethodPost, path, `"2"`, map[string]any{"capacity": "large"})
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	assert.Contains(t, r.body["detail"], "capacity:")
	r = c.send(http.MethodPost, path, `"2"`, map[string]any{"id": disk.TypeBasicData.String(), "looked": []string{"activation"}})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "clone", r.body["from"])
	assert.Contains(t, r.body["why"], "Seen too: the system activated.")
	r = c.send(http.MethodPost, path, `"3"`, map[string]any{"failed": "0xc000000e"})
	require.Equal(t, http.StatusOK, r.status, r.body)
	after := r.body["case"].(map[string]any)
	assert.NotContains(t, after, "provedAt", "it goes back to the repair")
	assert.Equal(t, "0xc000000e", after["said"], "with the new symptom")
	marks := c.get("/cases/" + id + "/plan").body["marks"].([]any)
	assert.Len(t, marks, 2)
}
