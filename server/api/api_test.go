package api_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

func TestACaseFromNothingToItsVerdict(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Harbour desktop")
	k := c.get("/cases/" + id + "/check")
	assert.Equal(t, "depends", verdict(k), "nothing is in evidence")
	good := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	r := c.upload(id, "original", `"1"`, upload{file: whole(t, good)})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	assert.Equal(t, `"2"`, r.header.Get("ETag"))
	r = c.upload(id, "clone", `"2"`, upload{file: whole(t, bootDisk(nil))})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	assert.Equal(t, "stops", r.body["verdict"])
	assert.Equal(t, "loader", r.body["stage"])
	assert.Equal(t, "13 MB · 12 MiB", r.body["drives"].([]any)[1].(map[string]any)["capacity"])

	k = c.get("/cases/" + id + "/check")
	assert.Equal(t, "stops", verdict(k))
	what := c.send(http.MethodPost, "/cases/"+id+"/what-if", "", map[string]any{"attached": map[string]bool{"original": true}, "deviceOrder": []string{"original", "clone"}})
	assert.Equal(t, "depends", verdict(what), "which system the original's program leads to is not proven")
	assert.Equal(t, "starts-original", what.body["trace"].(map[string]any)["reaches"])
	assert.Equal(t, "stops", verdict(c.get("/cases/"+id+"/check")), "nothing was saved")
	view := c.get("/cases/" + id + "/drives/clone/bytes?offset=512&length=92")
	assert.Equal(t, true, view.body["held"])
	assert.True(t, strings.HasPrefix(view.body["hex"].(string), "4546492050415254"))
	assert.Equal(t, "Signature", view.body["fields"].([]any)[0].(map[string]any)["name"])
}

func TestEvidenceInTwoParts(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("In two parts")
	m := diskmaker.Disk{Sectors: uint64(disk.AdvertisedSectors(500)), Style: diskmaker.GPT, GUID: disk.TypeESP,
		Partitions: []diskmaker.Partition{{Type: disk.TypeBasicData, Volume: diskmaker.Volume{Kind: "ntfs"}}}}.MustBuild()
	r := c.upload(id, "clone", `"1"`, upload{file: part(t, m, 0, 2<<20), tail: part(t, m, m.Size-1<<20, 1<<20),
		fields: map[string]string{"capacity": fmt.Sprint(m.Size)}})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	check := c.get("/cases/" + id + "/check")
	clone := check.body["drives"].([]any)[1].(map[string]any)["disk"].(map[string]any)
	assert.Empty(t, clone["problems"], "both copies of the table are in evidence")
	assert.Equal(t, "500 GB", clone["size"].(map[string]any)["label"])
	view := c.get("/cases/" + id + "/drives/clone/bytes?offset=1073741824&length=16")
	assert.Equal(t, false, view.body["held"], "what is not in evidence does not read as zeros")
	r = c.upload(id, "clone", `"2"`, upload{file: part(t, m, 0, 2<<20), fields: map[string]string{"capacity": "1000"}})
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	assert.Contains(t, r.body["detail"], "do not fit together")
}

func TestACaptureAsEvidence(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	made := c.send(http.MethodPost, "/cases", "",
		map[string]any{"title": "Captured", "firmware": map[string]any{"mode": "uefi", "arch": "x64", "secureBoot": false, "choices": map[string]any{"fallbackOnFixedDisks": true}},
			"drives": []any{map[string]any{"role": "original", "attached": false}, map[string]any{"role": "clone", "attached": true}}})
	id := fmt.Sprint(made.body["id"])
	m := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	d := &capture.Device{ReaderAt: m, Size: m.Size, Bus: "nvme", Model: "Ostra N3"}
	order := map[string][]byte{"BootOrder-8be4df61-93ca-11d2-aa0d-00e098032b8c": {7, 0, 0, 0}}
	manifest, err := capture.Take(t.Context(), d, capture.Taking{Source: "sda", SectorSize: 512, Now: time.Now()})
	require.NoError(t, err)
	var file bytes.Buffer
	require.NoError(t, capture.WriteCapture(&file, manifest.Manifest, d, order))
	r := c.upload(id, "clone", `"1"`, upload{file: file.Bytes()})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	clone := r.body["drives"].([]any)[1].(map[string]any)
	assert.Equal(t, "Ostra N3", clone["model"], "the capture tells the model")
	assert.Nil(t, clone["bus"], "how it hung when it was read is no statement of how it hangs at the start")
	k := c.get("/cases/" + id + "/check")
	trace := k.body["trace"].(map[string]any)
	assert.Equal(t, "choice:startsFromNVMe", trace["missing"].([]any)[0].(map[string]any)["fact"], "no list of the firmware's has shown the drive")
	r = c.upload(id, "clone", `"2"`, upload{file: file.Bytes()[:file.Len()/2]})
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	assert.Contains(t, r.body["detail"], "The file is an archive, but capture:")
}

func TestFilesThatAreNoDisk(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Wrong input")
	for name, u := range map[string]struct {
		upload
		want string
	}{
		"empty":       {upload{file: []byte{}}, "empty"},
		"text":        {upload{file: []byte(strings.Repeat("Dear harbour office, ", 100))}, "text/plain"},
		"picture":     {upload{file: append([]byte("\x89PNG\r\n\x1a\n"), make([]byte, 900)...)}, "image/png"},
		"zeros":       {upload{file: make([]byte, 4096)}, "nothing but zeros"},
		"FF":          {upload{file: bytes.Repeat([]byte{0xFF}, 4096)}, "nothing but FF"},
		"sector size": {upload{file: whole(t, bootDisk(nil)), fields: map[string]string{"sectorSize": "520"}}, "expected 512 or 4096"},
		"no file":     {upload{fields: map[string]string{"capacity": "1"}}, "expected a file"},
		"too large":   {upload{file: make([]byte, 64<<20+1)}, "larger than 64 MiB"},
	} {
		t.Run(name, func(t *testing.T) {
			r := c.upload(id, "clone", `"1"`, u.upload)
			assert.GreaterOrEqual(t, r.status, 400)
			assert.Less(t, r.status, 500)
			raw, _ := json.Marshal(r.body)
			assert.Contains(t, string(raw), u.want)
		})
	}
	assert.EqualValues(t, 1, c.get("/cases/" + id).body["version"], "nothing was stored")
	r := c.upload(id, "clone", `"1"`, upload{file: make([]byte, 1<<20), fields: map[string]string{"confirm": "true"}})
	require.Equal(t, http.StatusCreated, r.status, "a person may insist that the drive is blank")
	assert.Equal(t, "table", r.body["stage"])
}

func TestTwoBrowsersSaveTheSameCase(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	first := c.send(http.MethodPut, "/cases/"+id, `"1"`, map[string]any{"title": "Kiosk, first browser"})
	assert.Equal(t, http.StatusOK, first.status)
	second := c.send(http.MethodPut, "/cases/"+id, `"1"`, map[string]any{"title": "Kiosk, second browser"})
	assert.Equal(t, http.StatusConflict, second.status)
	assert.Contains(t, second.body["detail"], "Someone else changed this case")
	assert.Equal(t, "application/problem+json", second.header.Get("Content-Type"))
	assert.Equal(t, "Kiosk, first browser", c.get("/cases/" + id).body["title"])
	assert.Equal(t, http.StatusConflict, c.upload(id, "clone", `"1"`, upload{file: whole(t, bootDisk(nil))}).status)
	assert.Equal(t, http.StatusPreconditionRequired, c.send(http.MethodPut, "/cases/"+id, "", map[string]any{"title": "x"}).status)
}

func TestInputThatIsRefused(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	for path, r := range map[string]reply{
		"title missing":   c.send(http.MethodPost, "/cases", "", map[string]any{"machine": "x"}),
		"title of spaces": c.send(http.MethodPost, "/cases", "", map[string]any{"title": "   "}),
		"unknown key":     c.send(http.MethodPost, "/cases", "", map[string]any{"title": "x", "colour": "red"}),
		"unknown mode":    c.send(http.MethodPost, "/cases", "", map[string]any{"title": "x", "firmware": map[string]any{"mode": "bios"}}),
		"order":           c.send(http.MethodPost, "/cases", "", map[string]any{"title": "x", "deviceOrder": []string{"clone", "clone"}}),
		"what-if role":    c.send(http.MethodPost, "/cases/"+id+"/what-if", "", map[string]any{"attached": map[string]bool{"other": true}}),
		"what-if order":   c.send(http.MethodPost, "/cases/"+id+"/what-if", "", map[string]any{"deviceOrder": []string{"other"}}),
		"what-if entries": c.send(http.MethodPost, "/cases/"+id+"/what-if", "", map[string]any{"bootOrder": []string{"one"}}),
		"kept entries":    c.send(http.MethodPut, "/cases/"+id, `"1"`, map[string]any{"title": "x", "firmware": map[string]any{"bootOrder": []string{"0001", "0001"}}}),
		"said too much":   c.send(http.MethodPut, "/cases/"+id, `"1"`, map[string]any{"title": "x", "said": strings.Repeat("x", 501)}),
		"bench drives":    c.send(http.MethodPost, "/bench", "", map[string]any{"drives": []map[string]any{{"case": 1, "disk": "clone", "as": "spare", "on": true}}}),
		"bench two clones": c.send(http.MethodPost, "/bench", "", map[string]any{"drives": []map[string]any{
			{"case": 1, "disk": "clone", "as": "clone", "on": true}, {"case": 1, "disk": "original", "as": "clone", "on": true}}}),
		"cursor": c.get("/cases?cursor=zzz"),
	} {
		assert.Equal(t, http.StatusUnprocessableEntity, r.status, path)
		assert.NotEmpty(t, r.body["detail"], path)
	}
	for _, path := range []string{"/cases/999", "/cases/999/check", "/cases/" + id + "/drives/clone/bytes?offset=0"} {
		assert.Equal(t, http.StatusNotFound, c.get(path).status, path)
	}
}

func TestLookUpAndBenchOverHTTP(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	found := c.get("/messages?q=bootmgr+missing").body["messages"].([]any)
	require.NotEmpty(t, found)
	assert.Equal(t, "BOOTMGR is missing", found[0].(map[string]any)["shown"])
	assert.Empty(t, c.get("/messages?q=bicycle").body["messages"])
	types := c.get("/partition-types").body["types"].([]any)
	assert.Contains(t, types, map[string]any{"code": "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", "name": "EFI system partition", "role": "boot"})
	assert.Contains(t, types, map[string]any{"code": "EF", "name": "EFI system partition", "role": "boot"})

	id := c.newCase("Kiosk")
	good := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"1"`, upload{file: whole(t, good)}).status)
	n, err := strconv.Atoi(id)
	require.NoError(t, err)
	r := c.send(http.MethodPost, "/bench", "", map[string]any{"mode": "uefi", "arch": "x64", "secureBoot": false, "behaviour": "edk2",
		"drives": []map[string]any{{"case": n, "disk": "clone", "as": "original", "on": true}}})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "starts-original", verdict(r))
	assert.Equal(t, http.StatusNotFound,
		c.send(http.MethodPost, "/bench", "", map[string]any{"drives": []map[string]any{{"case": 999, "disk": "clone", "as": "clone",
			"on": true}}}).status)

	said := c.send(http.MethodPut, "/cases/"+id, `"2"`, map[string]any{"title": "Kiosk", "said": "  No bootable device "})
	require.Equal(t, http.StatusOK, said.status, said.body)
	assert.Equal(t, "No bootable device", said.body["said"])
	assert.NotNil(t, c.get("/cases/" + id + "/check").body["symptom"])
}

func TestListSearchAndPages(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	c := newClient(t, s)
	for i := range 7 {
		c.newCase(fmt.Sprintf("Kiosk %d, K2 West Pier", i))
	}
	c.newCase("Schülerticket-Automat 100%")
	seen := map[string]bool{}
	cursor, pages := "", 0
	for {
		r := c.get("/cases?limit=3&cursor=" + cursor)
		require.Equal(t, http.StatusOK, r.status)
		for _, one := range r.body["cases"].([]any) {
			title := one.(map[string]any)["title"].(string)
			assert.False(t, seen[title], "no case comes twice")
			seen[title] = true
		}
		pages++
		next, more := r.body["next"].(string)
		if !more {
			break
		}
		cursor = next
	}
	assert.Len(t, seen, 8)
	assert.Equal(t, 3, pages)
	count := func(query string) int { return len(c.get("/cases?" + query).body["cases"].([]any)) }
	assert.Equal(t, 7, count("q=kiosk+k2"))
	assert.Equal(t, 7, count("q=wes"))
	assert.Equal(t, 8, count("q=corvane"), "found by a drive's model")
	assert.Equal(t, 1, count("q=schuler"), "accents do not matter")
	assert.Equal(t, 0, count("q=k2+nowhere"))
	assert.Equal(t, 0, count("q=%25zzz"), "a percent sign is no wildcard")
	assert.Equal(t, 8, count("reaches=depends"))
	assert.Equal(t, 0, count("reaches=stops"))
}

func TestInterfaceFiles(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	server := serving(t, s, t.TempDir())
	for path, want := range map[string]int{"/": 200, "/cases/7/check": 200, "/assets/a.js": 200, "/assets/none.js": 404, "/api/v1/none": 404, "/none": 404, "/wp-login.php": 404} {
		res, err := http.Get(server.URL + path)
		require.NoError(t, err)
		res.Body.Close()
		assert.Equal(t, want, res.StatusCode, path)
		assert.Equal(t, "nosniff", res.Header.Get("X-Content-Type-Options"))
	}
}

// The database is stopped and started again while the server runs: clear
// errors, nothing lost, the server stays up.
func TestDatabaseGoesAwayAndComesBack(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("takes ten seconds")
	}
	server := storetest.NewServer(t)
	s, err := store.Open(server.Start())
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	_, err = s.Migrate(t.Context())
	require.NoError(t, err)
	c := newClient(t, s)
	id := c.newCase("Before")
	r := c.upload(id, "clone", `"1"`, upload{file: whole(t, bootDisk(nil))})
	require.Equal(t, http.StatusCreated, r.status)
	server.Stop()
	for _, r := range []reply{c.get("/cases"), c.get("/cases/" + id + "/check"), c.get("/health"),
		c.send(http.MethodPost, "/cases", "", map[string]any{"title": "x"})} {
		assert.Equal(t, http.StatusServiceUnavailable, r.status, r.body)
		assert.Contains(t, r.body["detail"], "The database does not answer")
	}
	server.Start()
	assert.Equal(t, http.StatusOK, c.get("/health").status)
	assert.Equal(t, "stops", verdict(c.get("/cases/"+id+"/check")))
}

// Two servers on one database see each other's changes.
func TestTwoServersOnOneDatabase(t *testing.T) {
	t.Parallel()
	address := storetest.Address(t)
	var clients []client
	for range 2 {
		s, err := store.Open(address)
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		_, err = s.Migrate(t.Context())
		require.NoError(t, err)
		clients = append(clients, newClient(t, s))
	}
	id := clients[0].newCase("Shared")
	require.Equal(t, http.StatusCreated, clients[0].upload(id, "clone", `"1"`, upload{file: whole(t, bootDisk(nil))}).status)
	assert.Equal(t, "stops", verdict(clients[1].get("/cases/"+id+"/check")))
	good := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	require.Equal(t, http.StatusCreated, clients[1].upload(id, "clone", `"2"`, upload{file: whole(t, good)}).status)
	assert.Equal(t, "depends", verdict(clients[0].get("/cases/"+id+"/check")), "the replaced evidence counts at once")
}

// BenchmarkCheckRequest runs the start check over HTTP with 1,000 cases in the
// database.
func BenchmarkCheckRequest(b *testing.B) {
	s := storetest.Open(b)
	c := newClient(b, s)
	for i := range 999 {
		require.NoError(b, s.Create(b.Context(),
			&store.Case{Title: fmt.Sprintf("Case %d", i), Drives: []store.Drive{{Role: "original"}, {Role: "clone"}}}, storetest.Nobody))
	}
	id := c.newCase("Measured")
	image := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	require.Equal(b, http.StatusCreated, c.upload(id, "original", `"1"`, upload{file: whole(b, image)}).status)
	require.Equal(b, http.StatusCreated, c.upload(id, "clone", `"2"`, upload{file: whole(b, bootDisk(nil))}).status)
	b.Run("check", func(b *testing.B) {
		for b.Loop() {
			c.get("/cases/" + id + "/check")
		}
	})
	b.Run("check, evidence read anew", func(b *testing.B) {
		for b.Loop() {
			b.StopTimer()
			cold := newClient(b, s)
			b.StartTimer()
			cold.get("/cases/" + id + "/check")
		}
	})
	b.Run("list of 50", func(b *testing.B) {
		for b.Loop() {
			c.get("/cases?limit=50")
		}
	})
	b.Run("search", func(b *testing.B) {
		for b.Loop() {
			c.get("/cases?q=meas")
		}
	})
}
