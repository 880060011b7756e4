package api_test

import (
	"bytes"
	"fmt"
	"mime/multipart"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
	"latchkey/server/store/storetest"
)

// piece says what a text is, under a file's name.
func (c client) piece(t *testing.T, id, name string, content []byte) map[string]any {
	t.Helper()
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	part, err := w.CreateFormFile("file", name)
	require.NoError(t, err)
	_, err = part.Write(content)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	r := c.do(http.MethodPost, "/cases/"+id+"/pieces/reading", "", &body, w.FormDataContentType())
	require.Equal(t, http.StatusOK, r.status, r.body)
	return r.body
}

func firstDisk(piece map[string]any) map[string]any {
	return piece["disks"].([]any)[0].(map[string]any)
}

func TestWhatAPieceIsAndWhose(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Pieces")
	boot := whole(t, bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}))
	p := c.piece(t, id, "some.img", boot)
	assert.Equal(t, "sectors", p["kind"])
	assert.Equal(t, "Nothing tells which disk of the case this is.", firstDisk(p)["why"])
	assert.Equal(t, "clone", firstDisk(c.piece(t, id, "clone.img", boot))["role"], "its name says so")
	p = c.piece(t, id, "clone-head.img", boot[:1<<20])
	assert.Equal(t, "refused", p["kind"], "the beginning of a disk is not a small disk")
	assert.Contains(t, p["says"], "with the disk's capacity")
	for name, content := range map[string]string{
		"photo.jpg": "\xFF\xD8\xFF\xE0", "notes.txt": "Dear colleague", "x.zip": "PK\x03\x04 and no more",
	} {
		p := c.piece(t, id, name, []byte(content))
		assert.Equal(t, "refused", p["kind"], name)
		assert.NotEmpty(t, p["says"], name)
	}
	p = c.piece(t, id, "fstab", []byte("UUID=1 / ext4 defaults 0 1\n"))
	assert.Equal(t, "listing", p["kind"])
	assert.Equal(t, "/etc/fstab", firstDisk(p)["holds"])
	p = c.piece(t, id, "paste", []byte("$ efibootmgr -v\nBootCurrent: 0001\nBootOrder: 0001\nBoot0001* x\n"))
	assert.Equal(t, "listing", p["kind"])
	assert.EqualValues(t, 1, p["entries"])
	assert.Contains(t, fmt.Sprint(p["tells"]), "UEFI mode")

	// The bytes are there already: what bears the same identifier may be the copy.
	r := c.upload(id, "original", c.version(id), upload{file: boot})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	p = c.piece(t, id, "twin.img", boot)
	assert.Empty(t, firstDisk(p)["role"])
	assert.Contains(t, firstDisk(p)["why"], "a copy can bear the same")
	// Another identifier is the other disk.
	p = c.piece(t, id, "paste", []byte(dump))
	assert.Equal(t, "clone", firstDisk(p)["role"])
	assert.Contains(t, firstDisk(p)["why"], "identifier is not the original's")
}

func TestTheTwoDisksExchanged(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Swapped")
	boot := whole(t, bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}))
	require.Equal(t, http.StatusCreated, c.upload(id, "original", c.version(id), upload{file: boot}).status)
	c.list(t, id, dump, map[string]string{"sda": "clone"})
	r := c.send(http.MethodPut, "/cases/"+id+"/drives/clone/told", c.version(id), map[string]any{"capacity": "500 GB"})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, http.StatusConflict, c.do(http.MethodPost, "/cases/"+id+"/swap", `"1"`, nil, "").status)
	r = c.do(http.MethodPost, "/cases/"+id+"/swap", c.version(id), nil, "")
	require.Equal(t, http.StatusOK, r.status, r.body)
	pieces := c.get("/cases/" + id + "/evidence").body
	assert.Equal(t, "clone", pieces["bytes"].([]any)[0].(map[string]any)["role"])
	assert.Equal(t, map[string]any{"sda": "original"}, pieces["listings"].([]any)[0].(map[string]any)["disks"])
	assert.Equal(t, "original", pieces["told"].([]any)[0].(map[string]any)["role"])
	drives := c.get("/cases/" + id + "/check").body["drives"].([]any)
	assert.Equal(t, "500 GB", drives[0].(map[string]any)["disk"].(map[string]any)["size"].(map[string]any)["label"])
}

func TestABootListBecomesFacts(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Boot list")
	r := c.send(http.MethodPut, "/cases/"+id+"/boot-list", c.version(id), map[string]any{"lines": []string{"some drive"}})
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	r = c.send(http.MethodPut, "/cases/"+id+"/boot-list", c.version(id), map[string]any{"lines": []string{"Windows Boot Manager (new)", "", "the new one", "UEFI OS, old drive"}})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Len(t, r.body["lines"], 3)
	got := r.body["case"].(map[string]any)
	assert.Equal(t, []any{"clone", "original"}, got["deviceOrder"])
	firmware := got["firmware"].(map[string]any)
	assert.Equal(t, map[string]any{"clone": true, "original": true}, firmware["shown"])
	assert.Equal(t, map[string]any{"clone": true, "original": true}, firmware["entries"])
	assert.Equal(t, "clone", firmware["answers"].(map[string]any)["first-entry"])
}

func TestTheSituationIsKept(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Situation")
	r := c.send(http.MethodPut, "/cases/"+id, c.version(id), map[string]any{"title": "Situation", "stands": "fails", "reach": "screens"})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "fails", r.body["stands"])
	assert.Equal(t, "screens", c.get("/cases/" + id).body["reach"])
	r = c.send(http.MethodPut, "/cases/"+id, c.version(id), map[string]any{"title": "Situation", "stands": "nowhere"})
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
}
