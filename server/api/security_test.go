package api_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/server/api"
	"latchkey/server/judge"
	"latchkey/server/people"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// Who may do what, by operation: everything is named, so that a new operation does not
// come to be open unseen.
var mayDo = map[store.Role]string{
	"": "sign-in health",
	store.Reader: "who-am-i sign-out set-password get-settings list-cases get-case check-case what-if find-messages list-partition-types switch-on " +
		"read-bytes list-downloads case-history read-listing get-listing list-evidence list-references list-tables export-references export-layout get-plan get-script get-stick-plan prepare preview-copy hand-over old-drive-commands hide-recovery report-pdf report-markdown report-json export-case model-memory fleet figures figures-csv",
	store.Technician: "create-case update-case add-evidence record-start record-start-capture withdraw-start decide-old-drive look-at add-answer withdraw-answer time-start forget-times release-old-drive import-case take-model-memory close-case add-listing withdraw-listing withdraw-evidence tell-disk mark-step add-stick-record answer-question withdraw-statement swap-disks tell-boot-list recognise-piece " +
		"plan-copy tick-ready tell-progress forget-progress",
	store.Lead: "list-accounts add-account change-account make-key security-log change-settings delete-case judge-fleet",
}

func TestWhoMayDoWhat(t *testing.T) {
	t.Parallel()
	lead := newClient(t, storetest.Open(t))
	nobody := lead
	nobody.cookie = ""
	clients := []struct {
		role store.Role
		client
	}{{"", nobody}, {store.Reader, lead.as("Rosa", store.Reader)}, {store.Technician, lead.as("Tom", store.Technician)},
		{store.Lead, lead}}
	needs := map[string]store.Role{}
	for role, names := range mayDo {
		for _, name := range strings.Fields(names) {
			needs[name] = role
		}
	}
	rank := map[store.Role]int{"": 0, store.Reader: 1, store.Technician: 2, store.Lead: 3}
	fill := strings.NewReplacer("{id}", "987654", "{role}", "clone", "{listing}", "1", "{evidence}", "1", "{account}", "987654", "{fact}", "mode", "{key}", "stick")
	seen := 0
	for path, item := range api.Description().Paths {
		for method, op := range map[string]any{"GET": item.Get, "POST": item.Post, "PUT": item.Put, "DELETE": item.Delete,
			"PATCH": item.Patch} {
			id := operationID(op)
			if id == "" || id == "sign-out" {
				continue
			}
			seen++
			need, named := needs[id]
			require.True(t, named, "%s is not named among what each role may do", id)
			for _, c := range clients {
				r := c.do(method, fill.Replace(path), `"1"`, strings.NewReader("{}"), "application/json")
				switch {
				case rank[c.role] >= rank[need]:
					assert.NotContains(t, []int{401, 403}, r.status, "%s as %q: %v", id, c.role, r.body)
				case c.role == "":
					assert.Equal(t, 401, r.status, "%s as nobody", id)
				default:
					assert.Equal(t, 403, r.status, "%s as %s", id, c.role)
				}
			}
		}
	}
	assert.Equal(t, len(needs)-1, seen, "all that are named but sign-out")
	events := lead.get("/security-log").list
	require.NotEmpty(t, events)
	refused := 0
	for _, e := range events {
		if e.(map[string]any)["what"] == people.EventForbidden {
			refused++
		}
	}
	assert.GreaterOrEqual(t, refused, 7, "what was not allowed stands in the security log")
	assert.Equal(t, http.StatusNotFound, nobody.get("/schemas/Case.json").status)
}

// operationID is the identifier of an operation of the description; "" where there is none.
func operationID(op any) string {
	raw := fmt.Sprintf("%+v", op)
	if raw == "<nil>" {
		return ""
	}
	_, after, _ := strings.Cut(raw, "OperationID:")
	id, _, _ := strings.Cut(after, " ")
	return id
}

// raw sends a request with headers as they are given.
func (c client) raw(method, path string, body io.Reader, headers map[string]string) (int, http.Header, string) {
	c.t.Helper()
	req, err := http.NewRequest(method, strings.TrimSuffix(c.url, "/api/v1")+path, body)
	require.NoError(c.t, err)
	req.Header.Set("Cookie", c.cookie)
	for name, value := range headers {
		if name == "Host" {
			req.Host = value
		}
		req.Header.Set(name, value)
	}
	res, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(c.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	return res.StatusCode, res.Header, string(text)
}

// A name that somebody else leads here is no name of the server's, and what a page of
// another site sends is refused. Fetch Metadata, W3C; RFC 6454.
func TestRequestsOfOtherSites(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	made := func() int { return len(c.get("/cases").body["cases"].([]any)) }
	const json = "application/json"
	for name, h := range map[string]map[string]string{
		"another name":                     {"Host": "evil.example", "Content-Type": json},
		"another name with the port":       {"Host": "evil.example:8384", "Content-Type": json},
		"a name that holds ours":           {"Host": "127.0.0.1.evil.example", "Content-Type": json},
		"a page of another site":           {"Sec-Fetch-Site": "cross-site", "Content-Type": json},
		"a page of a neighbour":            {"Sec-Fetch-Site": "same-site", "Content-Type": json},
		"an old browser at another site":   {"Origin": "http://evil.example", "Content-Type": json},
		"a form of another site":           {"Origin": "null", "Content-Type": "application/x-www-form-urlencoded"},
		"a form":                           {"Content-Type": "application/x-www-form-urlencoded"},
		"text":                             {"Content-Type": "text/plain"},
		"text that says it might be JSON":  {"Content-Type": "text/plain; application/json"},
		"no kind at all":                   {},
		"a session that is another's word": {"Content-Type": json, "Cookie": "latchkey=x"},
	} {
		status, _, text := c.raw(http.MethodPost, "/api/v1/cases", strings.NewReader(`{"title":"x"}`), h)
		assert.Contains(t, []int{401, 403, 415, 421}, status, "%s: %s", name, text)
	}
	assert.Zero(t, made())
	for _, host := range []string{"evil.example", "", "localhost.evil.example"} {
		if host != "" {
			status, _, text := c.raw(http.MethodGet, "/api/v1/cases", nil, map[string]string{"Host": host})
			assert.Equal(t, http.StatusMisdirectedRequest, status, text)
			status, _, _ = c.raw(http.MethodGet, "/", nil, map[string]string{"Host": host})
			assert.Equal(t, http.StatusMisdirectedRequest, status)
		}
	}
	status, _, _ := c.raw(http.MethodPost, "/api/v1/cases", strings.NewReader(`{"title":"x"}`), map[string]string{"Sec-Fetch-Site": "same-origin", "Content-Type": json})
	assert.Equal(t, http.StatusCreated, status)
	assert.Equal(t, 1, made())
}

func TestWhatIsTooLargeOrNotThere(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	large := `{"title":"` + strings.Repeat("x", 300<<10) + `"}`
	for name, x := range map[string]struct {
		method, path string
		body         io.Reader
		want         int
	}{
		"a large request":                     {"POST", "/api/v1/cases", strings.NewReader(large), 413},
		"one that does not tell how large":    {"POST", "/api/v1/cases", io.MultiReader(strings.NewReader(large)), 413},
		"an address that is none":             {"GET", "/api/v1/casez", nil, 404},
		"another version":                     {"GET", "/api/v2/cases", nil, 404},
		"a method that is not taken":          {"DELETE", "/api/v1/cases", nil, 405},
		"a method of nobody's":                {"BREW", "/api/v1/cases", nil, 405},
		"writing to a page":                   {"POST", "/", nil, 405},
		"a page that is none":                 {"GET", "/nothing/here", nil, 404},
		"a path out of the folder":            {"GET", "/assets/../../../etc/passwd", nil, 404},
		"a path out of the folder, in signs":  {"GET", "/assets/..%2f..%2f..%2fetc%2fpasswd", nil, 404},
		"a build that is none":                {"GET", "/downloads/nothing", nil, 404},
		"a build out of the folder, in signs": {"GET", "/downloads/..%2f..%2fgo.mod", nil, 404},
		"a page of a case":                    {"GET", "/cases/1/check", nil, 200},
	} {
		status, h, text := c.raw(x.method, x.path, x.body, map[string]string{"Content-Type": "application/json"})
		assert.Equal(t, x.want, status, "%s: %.200s", name, text)
		if strings.HasPrefix(x.path, "/api/") {
			assert.Equal(t, "no-store", h.Get("Cache-Control"), name)
			assert.Equal(t, "application/problem+json", h.Get("Content-Type"), name)
		}
		assert.Equal(t, "nosniff", h.Get("X-Content-Type-Options"), name)
		assert.Contains(t, h.Get("Content-Security-Policy"), "default-src 'self'", name)
		assert.NotEmpty(t, h.Get("X-Request-Id"), name)
		assert.NotContains(t, text, "root:", name)
	}
}

// RFC 6265bis, section 4.1: what a script cannot read, another site cannot send, and,
// over TLS, nobody but this host can set.
func TestTheSessionsCookie(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	key, err := c.store.NewKey(t.Context(), 1)
	require.NoError(t, err)
	r := c.send(http.MethodPost, "/session", "", map[string]any{"key": key})
	require.Equal(t, 200, r.status)
	cookie := r.header.Get("Set-Cookie")
	for _, flag := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
		assert.Contains(t, cookie, flag)
	}
	assert.NotContains(t, cookie, "Domain")
	assert.NotContains(t, cookie, key)
	log := slog.New(slog.DiscardHandler)
	secure := httptest.NewServer(api.New(api.Config{Store: c.store, Judge: judge.New(c.store),
		People: people.New(c.store, true, log), Web: files, Hosts: []string{"127.0.0.1"}, Log: log}))
	defer secure.Close()
	key, err = c.store.NewKey(t.Context(), 1)
	require.NoError(t, err)
	c.url = secure.URL + "/api/v1"
	cookie = c.send(http.MethodPost, "/session", "", map[string]any{"key": key}).header.Get("Set-Cookie")
	assert.True(t, strings.HasPrefix(cookie, "__Host-latchkey="), cookie)
	assert.Contains(t, cookie, "Secure")
}

// Signing out ends the session on the server, and not only in the browser.
func TestSigningOut(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	require.Equal(t, 200, c.get("/session").status)
	second := c.as("Ada", store.Lead)
	assert.Equal(t, 204, c.do(http.MethodDelete, "/session", "", nil, "").status)
	assert.Equal(t, 401, c.get("/session").status)
	require.Equal(t, 200, second.get("/session").status)
	third := second.as("Ada", store.Lead)
	assert.Equal(t, 204, third.do(http.MethodDelete, "/session?everywhere=true", "", nil, "").status)
	assert.Equal(t, 401, second.get("/session").status)
}

func TestSigningInTooOften(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	var r reply
	for range 12 {
		r = c.send(http.MethodPost, "/session", "", map[string]any{"name": "Ada", "password": "not her password"})
		if r.status == http.StatusTooManyRequests {
			break
		}
		require.Equal(t, 422, r.status)
	}
	assert.Equal(t, http.StatusTooManyRequests, r.status)
	assert.NotEmpty(t, r.header.Get("Retry-After"))
	assert.Equal(t, 200, c.get("/session").status, "who is signed in goes on")
}

// A fault stands in the log with its cause, under the identifier that the answer gives;
// the answer does not have the database's words.
func TestFaultsAreToldByAnIdentifier(t *testing.T) {
	if testing.Short() {
		t.Skip("a database of its own is ended")
	}
	t.Parallel()
	server := storetest.NewServer(t)
	s := storetest.At(t, server.Start())
	var written bytes.Buffer
	log := slog.New(slog.NewTextHandler(&written, nil))
	h := httptest.NewServer(api.New(api.Config{Store: s, Judge: judge.New(s), People: people.New(s, false, log),
		Web: files, Hosts: []string{"127.0.0.1"}, Log: log}))
	defer h.Close()
	c := client{t: t, url: h.URL + "/api/v1", store: s}.as("Ada", store.Lead)
	require.Equal(t, 201, c.send(http.MethodPost, "/cases", "", map[string]any{"title": "x"}).status)
	server.Stop()
	for path, want := range map[string]int{"/health": 503, "/cases": 503, "/cases/1": 503, "/cases/1/check": 503} {
		began := time.Now()
		r := c.get(path)
		assert.Equal(t, want, r.status, path)
		assert.Less(t, time.Since(began), 5*time.Second)
		told := fmt.Sprint(r.body)
		for _, word := range []string{"dial", "mysql", "MariaDB", "refused", "SQL", "3306", "invalid connection"} {
			assert.NotContains(t, told, word, path)
		}
		if path != "/health" {
			id := r.header.Get("X-Request-Id")
			assert.Contains(t, written.String(), "request="+id+" cause=", path)
		}
	}
	assert.NotContains(t, written.String(), c.cookie[len("latchkey="):], "a log holds no session")
}

// A database that does not answer any more lets no request hang.
func TestAFrozenDatabase(t *testing.T) {
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	t.Parallel()
	server := storetest.NewServer(t)
	c := newClient(t, storetest.At(t, server.Start()))
	id := c.newCase("x")
	frozen := server.Process()
	require.NoError(t, frozen.Signal(syscall.SIGSTOP))
	thaw := func() { _ = frozen.Signal(syscall.SIGCONT) }
	defer thaw()
	require.Eventually(t, func() bool { return stopped(frozen.Pid) }, 5*time.Second, 5*time.Millisecond, "each of its threads stands still")
	for range 3 {
		began := time.Now()
		assert.Equal(t, 503, c.get("/health").status)
		assert.Less(t, time.Since(began), 1500*time.Millisecond, "within a second, and what the machine itself takes")
	}
	ctx, cancel := context.WithTimeout(t.Context(), 40*time.Second)
	defer cancel()
	ended := make(chan reply, 8)
	for n := range cap(ended) {
		go func() {
			req := c.request(http.MethodGet, []string{"/cases", "/cases/" + id}[n%2], "", nil, "").WithContext(ctx)
			res, err := http.DefaultClient.Do(req)
			if !assert.NoError(t, err, "every request ends") {
				ended <- reply{}
				return
			}
			res.Body.Close()
			ended <- reply{status: res.StatusCode}
		}()
	}
	for range cap(ended) {
		assert.Equal(t, 503, (<-ended).status)
	}
	thaw()
	assert.Eventually(t, func() bool { return c.get("/health").status == 200 }, 20*time.Second, 100*time.Millisecond)
	assert.Equal(t, 200, c.get("/cases/"+id).status, "what was stored is there")
}

// stopped reports whether all threads of a process stand still: the kernel stops them one
// by one. proc(5), "/proc/pid/stat".
func stopped(pid int) bool {
	threads, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", pid))
	for _, path := range threads {
		raw, _ := os.ReadFile(path)
		if _, state, _ := strings.Cut(string(raw), ") "); !strings.HasPrefix(state, "T") {
			return false
		}
	}
	return err == nil && len(threads) > 0
}

// What a proxy says last is who asks; without one, nobody is believed.
func TestWhoAsksBehindAProxy(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	for behind, want := range map[bool]string{true: "203.0.113.9", false: "127.0.0.1"} {
		var written bytes.Buffer
		log := slog.New(slog.NewTextHandler(&written, nil))
		h := httptest.NewServer(api.New(api.Config{Store: s, Judge: judge.New(s), People: people.New(s, false, log),
			Web: files, Hosts: []string{"127.0.0.1"}, BehindProxy: behind, Log: log}))
		c := client{t: t, url: h.URL + "/api/v1", store: s}
		_, _, _ = c.raw(http.MethodGet, "/api/v1/health", nil, map[string]string{"X-Forwarded-For": "198.51.100.1, 203.0.113.9"})
		h.Close()
		assert.Contains(t, written.String(), "from="+want)
	}
}
