package api_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// dump is an sfdisk dump of a disk with a boot partition, in the form of
// sfdisk(8).
const dump = `label: gpt
label-id: 7E21B6D0-4C1A-4F0B-9A55-3C5A19E00071
device: /dev/sda
unit: sectors
first-lba: 34
last-lba: 976773134
sector-size: 512

/dev/sda1 : start=        2048, size=      204800, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, uuid=7E21B6D0-4C1A-4F0B-9A55-3C5A19E00072
/dev/sda2 : start=      206848, size=   976564224, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, uuid=7E21B6D0-4C1A-4F0B-9A55-3C5A19E00073
`

// entries is a listing of boot entries in the layout of efibootmgr 18.
const entries = `$ efibootmgr -v
BootCurrent: 0001
BootOrder: 0001
Boot0001* Windows Boot Manager	HD(1,GPT,7e21b6d0-4c1a-4f0b-9a55-3c5a19e00072,0x800,0x32000)/\EFI\Microsoft\Boot\bootmgfw.efi
`

// store is a listing of BCDEdit's, from its reference.
const bcd = `Windows Boot Manager
--------------------
identifier              {9dea862c-5cdd-4e70-acc1-f32b344d4795}
path                    \EFI\Microsoft\Boot\bootmgfw.efi
default                 {0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}

Windows Boot Loader
-------------------
identifier              {0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
device                  unknown
path                    \Windows\system32\winload.efi
osdevice                unknown
`

// listingNamed sends a text out of a file.
func (c client) listingNamed(path, version, name, text string) reply {
	c.t.Helper()
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	part, err := w.CreateFormFile("file", name)
	require.NoError(c.t, err)
	_, err = part.Write([]byte(text))
	require.NoError(c.t, err)
	require.NoError(c.t, w.Close())
	return c.do(http.MethodPost, path, version, &body, w.FormDataContentType())
}

// listing sends a text that was pasted.
func (c client) listing(path, version, text, format string, disks map[string]string) reply {
	c.t.Helper()
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	part, err := w.CreateFormFile("file", "paste")
	require.NoError(c.t, err)
	_, err = part.Write([]byte(text))
	require.NoError(c.t, err)
	if disks != nil {
		raw, err := json.Marshal(disks)
		require.NoError(c.t, err)
		require.NoError(c.t, w.WriteField("disks", string(raw)))
	}
	require.NoError(c.t, w.WriteField("format", format))
	require.NoError(c.t, w.Close())
	return c.do(http.MethodPost, path, version, &body, w.FormDataContentType())
}

func (c client) version(id string) string {
	return fmt.Sprintf(`"%v"`, c.get("/cases/" + id).body["version"])
}

func (c client) list(t *testing.T, id, text string, disks map[string]string) {
	t.Helper()
	r := c.listing("/cases/"+id+"/listings", c.version(id), text, "", disks)
	require.Equal(t, http.StatusCreated, r.status, r.body)
}

func texts(r reply) string { return fmt.Sprint(r.body["trace"]) }

func TestACaseFromListingsAlone(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	r := c.send(http.MethodPost, "/cases", "", map[string]any{"title": "On the telephone", "drives": []any{map[string]any{"role": "clone", "attached": true, "bus": "sata"},
		map[string]any{"role": "original", "attached": false, "bus": "sata"}}})
	id := fmt.Sprint(r.body["id"])
	read := c.listing("/cases/"+id+"/listings/reading", "", dump, "", nil)
	require.Equal(t, http.StatusOK, read.status, read.body)
	assert.Equal(t, "sfdisk --dump", read.body["format"])
	assert.EqualValues(t, 0, read.body["unread"])
	d := read.body["disks"].([]any)[0].(map[string]any)
	assert.Equal(t, "sda", d["name"])
	assert.Empty(t, d["size"], "a dump does not tell where the disk ends")
	assert.Equal(t, "Nothing tells which disk of the case this is.", d["why"])

	c.list(t, id, dump, map[string]string{"sda": "clone"})
	c.list(t, id, entries, nil)
	check := c.get("/cases/" + id + "/check")
	clone := check.body["drives"].([]any)[1].(map[string]any)["disk"].(map[string]any)
	assert.Equal(t, "GPT", clone["style"])
	assert.Len(t, clone["partitions"], 2)
	source := clone["partitions"].([]any)[0].(map[string]any)["source"].(map[string]any)
	assert.Equal(t, "text", source["origin"])
	assert.EqualValues(t, 9, source["line"])
	assert.Equal(t, "depends", verdict(check))
	assert.Contains(t, texts(check), "bootmgfw.efi")
	refs := c.fetch(t, "/cases/"+id+"/references.csv")
	assert.Contains(t, refs, "Boot entry 0001, Windows Boot Manager")
	assert.Contains(t, refs, "partition 1")

	// A store that names a device which is not there settles it, once the loader
	// itself is known to be sound.
	c.list(t, id, bcd, map[string]string{"store": "clone"})
	current := c.get("/cases/" + id).body
	firmware := current["firmware"].(map[string]any)
	firmware["answers"] = map[string]string{"loader:clone": "yes", "startsAnyFATPartition": "no"}
	r = c.send(http.MethodPut, "/cases/"+id, c.version(id), map[string]any{"title": "On the telephone", "firmware": firmware})
	require.Equal(t, http.StatusOK, r.status, r.body)
	check = c.get("/cases/" + id + "/check")
	assert.Contains(t, texts(check), "a device that is not there")
	assert.Equal(t, "stops", verdict(check), texts(check))

	pieces := c.get("/cases/" + id + "/evidence").body["listings"].([]any)
	require.Len(t, pieces, 3)
	number := fmt.Sprint(pieces[0].(map[string]any)["id"])
	shown := c.get("/cases/" + id + "/listings/" + number)
	store := shown.body["disks"].([]any)[0].(map[string]any)
	assert.Equal(t, "clone", store["role"])
	assert.Equal(t, "boot configuration store", store["holds"])
	r = c.send(http.MethodPut, "/cases/"+id+"/listings/"+number+"/withdrawn", c.version(id), map[string]any{"withdrawn": true})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "depends", verdict(c.get("/cases/"+id+"/check")), "without the store it is open again")
}

// A mount table that was pasted says who refers to what: the clone's copy still names what only
// the original carries.
func TestAPastedMountTableNamesTheOriginal(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := fmt.Sprint(c.send(http.MethodPost, "/cases", "", map[string]any{"title": "Pasted"}).body["id"])
	lsblk := `{"blockdevices":[{"name":"sda","type":"disk","size":500107862016,"pttype":"gpt","children":[{"name":"sda1","type":"part","partn":1,"size":107374182400,"start":2048,"fstype":"ext4","uuid":"3f1b2c4d-0000-4000-8000-00000000000%d","parttype":"0fc63daf-8483-4772-8e79-3d69d8477de4"}]}]}`
	c.list(t, id, fmt.Sprintf(lsblk, 1), map[string]string{"sda": "original"})
	c.list(t, id, fmt.Sprintf(lsblk, 2), map[string]string{"sda": "clone"})
	const fstab = "$ cat /etc/fstab\nUUID=3f1b2c4d-0000-4000-8000-000000000001 / ext4 errors=remount-ro 0 1\n"
	read := c.listing("/cases/"+id+"/listings/reading", "", fstab, "", nil)
	require.Equal(t, http.StatusOK, read.status, read.body)
	lies := read.body["disks"].([]any)[0].(map[string]any)
	assert.Equal(t, "/etc/fstab", lies["holds"])
	assert.Equal(t, "original", lies["role"], "the volume that it names lies there")
	assert.Contains(t, lies["why"], "this drive carries")
	c.list(t, id, fstab, map[string]string{"/etc/fstab": "clone"})
	assert.Contains(t, c.fetch(t, "/cases/"+id+"/references.csv"), "\"/etc/fstab, /\",clone,file system UUID,3f1b2c4d-0000-4000-8000-000000000001,other")
	assert.Equal(t, "depends", verdict(c.get("/cases/"+id+"/check")), "a pasted file proves nothing of a start")
}

func (c client) fetch(t *testing.T, path string) string {
	t.Helper()
	res, err := http.DefaultClient.Do(c.request(http.MethodGet, path, "", nil, ""))
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, res.StatusCode, string(raw))
	return string(raw)
}

func TestACaseFromTypedFactsAlone(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Read aloud")
	r := c.send(http.MethodPut, "/cases/"+id+"/drives/clone/told", c.version(id), map[string]any{"style": "GPT", "capacity": "931 GB", "whole": true,
		"partitions": []any{map[string]any{"purpose": "system", "size": "930 GB", "fileSystem": "NTFS"}}})
	require.Equal(t, http.StatusOK, r.status, r.body)
	check := c.get("/cases/" + id + "/check")
	assert.Equal(t, "stops", verdict(check))
	assert.Contains(t, texts(check), "no EFI system partition")
	clone := check.body["drives"].([]any)[1].(map[string]any)["disk"].(map[string]any)
	assert.Equal(t, "1 TB", clone["size"].(map[string]any)["label"])
	assert.Equal(t, false, clone["partitions"].([]any)[0].(map[string]any)["placed"])
	for want, body := range map[string]map[string]any{
		"capacity":                {"capacity": "big"},
		"partitions[0].size":      {"partitions": []any{map[string]any{"size": "x"}}},
		"partitions[0].fileSyst":  {"partitions": []any{map[string]any{"fileSystem": "ZZ"}}},
		"expected value to be on": {"style": "XYZ"},
	} {
		r := c.send(http.MethodPut, "/cases/"+id+"/drives/clone/told", c.version(id), body)
		assert.Equal(t, http.StatusUnprocessableEntity, r.status, want)
		assert.Contains(t, fmt.Sprint(r.body), want)
	}
	assert.Equal(t, "stops", verdict(c.get("/cases/"+id+"/check")), "what was told is still there")
	r = c.send(http.MethodPut, "/cases/"+id+"/drives/clone/told", c.version(id), map[string]any{})
	require.Equal(t, http.StatusOK, r.status)
	assert.Equal(t, "depends", verdict(c.get("/cases/"+id+"/check")), "nothing is told any more")
}

func TestBytesOutrankTextAndContradictionsAreShown(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Contradicting")
	m := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	r := c.upload(id, "clone", c.version(id), upload{file: whole(t, m)})
	require.Equal(t, http.StatusCreated, r.status)
	c.list(t, id, dump, map[string]string{"sda": "clone"})
	check := c.get("/cases/" + id + "/check")
	found := fmt.Sprint(check.body["contradictions"])
	for _, what := range []string{"disk identifier", "partition 1: size", "partition 2"} {
		assert.Contains(t, found, what)
	}
	clone := check.body["drives"].([]any)[1].(map[string]any)["disk"].(map[string]any)
	assert.Equal(t, "12 MiB", clone["size"].(map[string]any)["binary"], "the bytes are used")

	evidence := c.get("/cases/" + id + "/evidence").body["bytes"].([]any)[0].(map[string]any)
	assert.Equal(t, true, evidence["inForce"])
	at := "/cases/" + id + "/evidence/" + fmt.Sprint(evidence["id"]) + "/withdrawn"
	r = c.send(http.MethodPut, at, c.version(id), map[string]any{"withdrawn": true})
	require.Equal(t, http.StatusOK, r.status, r.body)
	check = c.get("/cases/" + id + "/check")
	assert.Empty(t, check.body["contradictions"])
	left := check.body["drives"].([]any)[1].(map[string]any)["disk"].(map[string]any)
	assert.Equal(t, "Basic data", left["partitions"].([]any)[1].(map[string]any)["type"], "the listing is what is left")
	r = c.send(http.MethodPut, at, c.version(id), map[string]any{"withdrawn": false})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.NotEmpty(t, c.get("/cases/" + id + "/check").body["contradictions"])
	r = c.send(http.MethodPut, at, `"1"`, map[string]any{"withdrawn": true})
	assert.Equal(t, http.StatusConflict, r.status)
	r = c.send(http.MethodPut, "/cases/"+id+"/evidence/999/withdrawn", c.version(id), map[string]any{"withdrawn": true})
	assert.Equal(t, http.StatusNotFound, r.status)

	layout := c.fetch(t, "/cases/"+id+"/drives/clone/layout")
	assert.Contains(t, layout, "label: gpt")
	assert.Contains(t, c.fetch(t, "/cases/"+id+"/drives/clone/layout?form=json"), `"partitiontable"`)
}

func TestListingsThatAreRefused(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Refused")
	for text, want := range map[string]string{"": "expected", "Dear colleague": "none of the listings"} {
		r := c.listing("/cases/"+id+"/listings", c.version(id), text, "", nil)
		assert.Equal(t, http.StatusUnprocessableEntity, r.status, text)
		if text != "" {
			assert.Contains(t, fmt.Sprint(r.body), want)
		}
	}
	r := c.listing("/cases/"+id+"/listings", c.version(id), dump, "", map[string]string{"sda": "third"})
	assert.Contains(t, fmt.Sprint(r.body), "expected original, clone or nothing")
	r = c.listing("/cases/"+id+"/listings", c.version(id), "no dump", "sfdisk --dump", nil)
	assert.Contains(t, fmt.Sprint(r.body), "Nothing of the listing was understood")
	assert.Empty(t, c.get("/cases/" + id + "/evidence").body["listings"])
}

func TestDownloads(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	for _, name := range []string{"latchkey-capture-linux-amd64", "latchkey-capture-windows-arm64.exe", "latchkey-capture-linux-arm64.part", "secret"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte("program"), 0o600))
	}
	s := storetest.Open(t)
	server := serving(t, s, folder)
	c := client{t: t, url: server.URL + "/api/v1", store: s}.as("Ada", store.Reader)
	list := c.fetch(t, "/downloads")
	assert.Equal(t, 2, strings.Count(list, `"name"`), list)
	assert.Equal(t, 2, strings.Count(list, fmt.Sprintf("%x", sha256.Sum256([]byte("program")))), list)
	for path, want := range map[string]int{"latchkey-capture-linux-amd64": 200, "secret": 404, "latchkey-capture-linux-arm64.part": 404, "latchkey-capture-linux-arm64": 404} {
		res, err := http.Get(server.URL + "/downloads/" + path)
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, want, res.StatusCode, path)
	}
}
