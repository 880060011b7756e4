package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
	"latchkey/server/api"
	"latchkey/server/judge"
	"latchkey/server/people"
	"latchkey/server/store"
)

var files = fstest.MapFS{"index.html": {Data: []byte("the first page")}, "assets/a.js": {Data: []byte("script")}}

// client speaks to a server under test, as somebody who is signed in.
type client struct {
	t      testing.TB
	url    string
	store  *store.Store
	cookie string
}

// serving starts the application on a store.
func serving(t testing.TB, s *store.Store, builds string, hosts ...string) *httptest.Server {
	log := slog.New(slog.DiscardHandler)
	server := httptest.NewServer(api.New(api.Config{Store: s, Judge: judge.New(s), People: people.New(s, false, log),
		Web: files, Builds: builds, Hosts: append(hosts, "127.0.0.1"), Log: log}))
	t.Cleanup(server.Close)
	return server
}

// newClient is Ada, the lead.
func newClient(t testing.TB, s *store.Store) client {
	c := client{t: t, url: serving(t, s, t.TempDir()).URL + "/api/v1", store: s}
	return c.as("Ada", store.Lead)
}

// as is the client of another person, who comes in by a key.
func (c client) as(name string, role store.Role) client {
	c.t.Helper()
	a, err := c.store.AccountNamed(context.Background(), name)
	if errors.Is(err, store.ErrNotFound) {
		a = &store.Account{Name: name, Role: role}
		err = c.store.AddAccount(context.Background(), a)
	}
	require.NoError(c.t, err)
	key, err := c.store.NewKey(context.Background(), a.ID)
	require.NoError(c.t, err)
	c.cookie = ""
	r := c.send(http.MethodPost, "/session", "", map[string]any{"key": key})
	require.Equal(c.t, http.StatusOK, r.status, r.body)
	return c.with(r)
}

// with is the client with the cookie of an answer.
func (c client) with(r reply) client {
	c.cookie, _, _ = strings.Cut(r.header.Get("Set-Cookie"), ";")
	return c
}

// reply is a decoded answer.
type reply struct {
	status int
	body   map[string]any
	list   []any
	header http.Header
}

func (c client) request(method, path, version string, body io.Reader, contentType string) *http.Request {
	c.t.Helper()
	req, err := http.NewRequest(method, c.url+path, body)
	require.NoError(c.t, err)
	for name, value := range map[string]string{"Content-Type": contentType, "If-Match": version, "Cookie": c.cookie} {
		if value != "" {
			req.Header.Set(name, value)
		}
	}
	return req
}

func (c client) do(method, path, version string, body io.Reader, contentType string) reply {
	c.t.Helper()
	res, err := http.DefaultClient.Do(c.request(method, path, version, body, contentType))
	require.NoError(c.t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	r := reply{status: res.StatusCode, header: res.Header}
	switch {
	case !strings.Contains(res.Header.Get("Content-Type"), "json"):
	case len(raw) > 0 && raw[0] == '[':
		require.NoError(c.t, json.Unmarshal(raw, &r.list), string(raw))
	case len(raw) > 0:
		require.NoError(c.t, json.Unmarshal(raw, &r.body), string(raw))
	}
	return r
}

func (c client) get(path string) reply { return c.do(http.MethodGet, path, "", nil, "") }

func (c client) send(method, path, version string, body any) reply {
	c.t.Helper()
	raw, err := json.Marshal(body)
	require.NoError(c.t, err)
	return c.do(method, path, version, bytes.NewReader(raw), "application/json")
}

type upload struct {
	file, tail []byte
	fields     map[string]string
}

func (c client) upload(id, role, version string, u upload) reply {
	c.t.Helper()
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	for name, data := range map[string][]byte{"file": u.file, "tail": u.tail} {
		if data == nil {
			continue
		}
		part, err := w.CreateFormFile(name, name+".img")
		require.NoError(c.t, err)
		_, err = part.Write(data)
		require.NoError(c.t, err)
	}
	for k, v := range u.fields {
		require.NoError(c.t, w.WriteField(k, v))
	}
	require.NoError(c.t, w.Close())
	return c.do(http.MethodPost, "/cases/"+id+"/drives/"+role+"/evidence", version, &body, w.FormDataContentType())
}

func (c client) newCase(title string) string {
	c.t.Helper()
	r := c.send(http.MethodPost, "/cases", "", map[string]any{
		"title": title, "machine": "Fenmark D4", "deviceOrder": []string{"clone"},
		"firmware": map[string]any{"mode": "uefi", "arch": "x64", "secureBoot": false, "choices": map[string]any{"fallbackOnFixedDisks": true}},
		"drives": []any{map[string]any{"role": "original", "attached": false, "bus": "sata", "model": "Corvane S210"},
			map[string]any{"role": "clone", "attached": true, "bus": "sata"}},
	})
	require.Equal(c.t, http.StatusCreated, r.status, r.body)
	return fmt.Sprint(r.body["id"])
}

func bootDisk(files map[string][]byte) *diskmaker.Image {
	return diskmaker.Disk{Sectors: 3 << 13, Style: diskmaker.GPT, GUID: disk.TypeESP, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 8, Volume: diskmaker.Volume{Kind: "fat16", Files: files}}}}.MustBuild()
}

func part(t testing.TB, m *diskmaker.Image, off, n int64) []byte {
	t.Helper()
	b := make([]byte, n)
	_, err := m.ReadAt(b, off)
	require.NoError(t, err)
	return b
}

func whole(t testing.TB, m *diskmaker.Image) []byte { return part(t, m, 0, m.Size) }

func verdict(r reply) string {
	trace, _ := r.body["trace"].(map[string]any)
	v, _ := trace["verdict"].(string)
	return v
}
