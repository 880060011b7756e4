package api_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
	"latchkey/server/store/storetest"
)

func (c client) importCase(raw []byte) reply {
	c.t.Helper()
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	part, err := w.CreateFormFile("file", "case.zip")
	require.NoError(c.t, err)
	_, err = part.Write(raw)
	require.NoError(c.t, err)
	require.NoError(c.t, w.Close())
	return c.do(http.MethodPost, "/imports", "", &body, w.FormDataContentType())
}

// bytes fetches a file.
func (c client) bytes(path string) []byte {
	c.t.Helper()
	res, err := http.DefaultClient.Do(c.request(http.MethodGet, path, "", nil, ""))
	require.NoError(c.t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	require.Equal(c.t, http.StatusOK, res.StatusCode, string(raw))
	return raw
}

// full is a case with evidence of all sorts, steps, starts and decisions.
func (c client) full() string {
	c.t.Helper()
	id := c.newCase("Kiosk <b>")
	clone := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	require.Equal(c.t, http.StatusCreated, c.upload(id, "original", `"1"`, upload{file: whole(c.t, otherDisk())}).status)
	require.Equal(c.t, http.StatusCreated, c.upload(id, "clone", `"2"`, upload{file: whole(c.t, otherDisk())}).status)
	require.Equal(c.t, http.StatusOK, c.startCapture(id, `"3"`, captureOf(c.t, otherDisk(), true), "warm").status)
	require.Equal(c.t, http.StatusCreated, c.upload(id, "clone", `"4"`, upload{file: whole(c.t, clone)}).status)
	version := 5
	do := func(method, path string, body map[string]any) {
		r := c.send(method, "/cases/"+id+path, fmt.Sprintf(`"%d"`, version), body)
		require.Less(c.t, r.status, 300, r.body)
		version++
	}
	do(http.MethodPut, "/drives/original/told", map[string]any{"style": "GPT", "capacity": "64 MiB"})
	do(http.MethodPost, "/starts", map[string]any{"kind": "cold", "failed": "0xc000000e"})
	do(http.MethodPost, "/hand-over/answers", map[string]any{"text": "Windows RE status: Enabled\n"})
	do(http.MethodPost, "/hand-over/times", map[string]any{"side": "clone", "text": "10 s"})
	do(http.MethodPut, "/hand-over", map[string]any{"place": "drawer 3", "keepUntil": time.Now().AddDate(0, 0, 9)})
	do(http.MethodPut, "/prepare", map[string]any{"strategy": "keep", "capacity": "128 GB"})
	return id
}

// What was exported and taken in gives the same check, plan, hand-over and report.
func TestACaseGoesToAnotherBench(t *testing.T) {
	t.Parallel()
	here, there := newClient(t, storetest.Open(t)), newClient(t, storetest.Open(t))
	id := here.full()
	raw := here.bytes("/cases/" + id + "/export")
	r := there.importCase(raw)
	require.Equal(t, http.StatusCreated, r.status, r.body)
	other := fmt.Sprint(r.body["id"])
	same := func(path string, drop ...string) {
		t.Helper()
		a, b := here.get("/cases/"+id+path).body, there.get("/cases/"+other+path).body
		require.NotEmpty(t, a)
		for _, key := range drop {
			delete(a, key)
			delete(b, key)
		}
		assert.Equal(t, plain(t, a), plain(t, b), path)
	}
	same("/check")
	same("/plan", "version", "marks")
	same("/prepare")
	same("/hand-over", "answers", "starts", "times")
	assert.Len(t, there.get("/cases/" + other + "/hand-over").body["starts"], 2)
	history := there.get("/cases/" + other + "/history").list
	assert.Equal(t, "case imported", history[0].(map[string]any)["what"])
	assert.Contains(t, history[1].(map[string]any)["who"], ", elsewhere")
	again := there.importCase(there.bytes("/cases/" + other + "/export"))
	require.Equal(t, http.StatusCreated, again.status, again.body)
	assert.Equal(t, plain(t, there.get("/cases/"+other+"/check").body), plain(t, there.get(fmt.Sprintf("/cases/%v/check", again.body["id"])).body))
}

// plain is a body without what differs from bench to bench: the evidence's numbers.
func plain(t *testing.T, body map[string]any) string {
	var strip func(v any) any
	strip = func(v any) any {
		switch x := v.(type) {
		case map[string]any:
			delete(x, "evidence")
			delete(x, "at")
			for k := range x {
				x[k] = strip(x[k])
			}
		case []any:
			for i := range x {
				x[i] = strip(x[i])
			}
		}
		return v
	}
	raw, err := json.Marshal(strip(body))
	require.NoError(t, err)
	return string(raw)
}

// repacked changes a member of an archive; nil takes it out.
func repacked(t *testing.T, raw []byte, name string, change func([]byte) []byte) []byte {
	z, err := zip.NewReader(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		if f.Name == name {
			if content = change(content); content == nil {
				continue
			}
		}
		m, err := w.Create(f.Name)
		require.NoError(t, err)
		_, err = m.Write(content)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestABadParcelIsRefusedAndNothingStored(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	raw := c.bytes("/cases/" + c.full() + "/export")
	swap := func(from, to string) func([]byte) []byte {
		return func(b []byte) []byte {
			require.Contains(t, string(b), from)
			return []byte(strings.Replace(string(b), from, to, 1))
		}
	}
	for says, bad := range map[string][]byte{
		"is no archive (zip)":               []byte("hello"),
		"there is no case.json":             repacked(t, raw, "case.json", func([]byte) []byte { return nil }),
		"has version 2":                     repacked(t, raw, "case.json", swap(`"version": 1`, `"version": 2`)),
		"is no case as Latchkey exports it": repacked(t, raw, "case.json", swap("latchkey case", "another")),
		"there is no evidence/1.lkcap":      repacked(t, raw, "evidence/1.lkcap", func([]byte) []byte { return nil }),
		"evidence/2.lkcap: capture:":        repacked(t, raw, "evidence/2.lkcap", func(b []byte) []byte { return b[:len(b)/2] }),
		"firmware.mode":                     repacked(t, raw, "case.json", swap(`"mode": "uefi"`, `"mode": "magic"`)),
		"expected cold, warm or unknown":    repacked(t, raw, "case.json", swap(`"kind": "cold"`, `"kind": "hot"`)),
		"names capture 99":                  repacked(t, raw, "case.json", swap(`"evidence": 3`, `"evidence": 99`)),
		"of the drive":                      repacked(t, raw, "case.json", swap(`"role": "original",`+"\n   \"filename\"", `"role": "third",`+"\n   \"filename\"")),
	} {
		r := c.importCase(bad)
		assert.Equal(t, http.StatusUnprocessableEntity, r.status, says)
		assert.Contains(t, fmt.Sprint(r.body["detail"], r.body["errors"]), says)
	}
	assert.Len(t, c.get("/cases").body["cases"], 1, "nothing was stored")
}
