package api_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
	"latchkey/server/store/storetest"
)

// withValue is an object with a value at a path of names; a list has its one element at 0.
func withValue(path string, value any) map[string]any {
	names := strings.Split(path, ".")
	for i := len(names) - 1; i >= 0; i-- {
		if names[i] == "0" {
			value = []any{value}
		} else {
			value = map[string]any{names[i]: value}
		}
	}
	return value.(map[string]any)
}

// Every text that comes from outside has a length that is checked before the database
// would: what is too long is refused by name, and as much as is allowed is stored whole.
func TestLongTexts(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("x")
	at := "/cases/" + id
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", `"1"`, upload{file: whole(t, bootDisk(nil))}).status)
	sign := "𝄞" // four bytes, two units of UTF-16, one sign
	for _, x := range []struct {
		method, path, field string
		allowed             int // signs; 0 where the length is not the reason
		rest                map[string]any
	}{
		{"PUT", at, "title", 200, nil},
		{"PUT", at, "machine", 200, nil},
		{"PUT", at, "said", 500, nil},
		{"PUT", at, "drives.0.model", 200, map[string]any{"role": "clone"}},
		{"PUT", at, "firmware.mode", 0, nil},
		{"PUT", at, "firmware.bootOrder.0", 0, nil},
		{"PUT", at, "firmware.answers.x", 0, nil},
		{"PUT", at, "firmware.answers." + strings.Repeat("y", 3000), 0, nil},
		{"PUT", at, "firmware.entries." + strings.Repeat("y", 3000), 0, nil},
		{"PUT", at, "firmware.shown." + strings.Repeat("y", 3000), 0, nil},
		{"PUT", at, "deviceOrder.0", 0, nil},
		{"POST", "/cases", "title", 200, nil},
		{"POST", at + "/marks", "note", 20000, map[string]any{"step": "none", "state": "done"}},
		{"POST", at + "/marks", "step", 0, map[string]any{"state": "done"}},
		{"POST", at + "/starts", "failed", 500, map[string]any{"kind": "cold"}},
		{"PUT", at + "/drives/clone/told", "capacity", 0, nil},
		{"PUT", at + "/drives/clone/told", "id", 0, nil},
		{"PUT", at + "/drives/clone/told", "partitions.0.label", 60, nil},
		{"PUT", at + "/drives/clone/told", "partitions.0.fileSystem", 0, nil},
		{"POST", "/accounts", "name", 80, map[string]any{"role": "reader"}},
		{"PUT", "/session/password", "new", 0, nil},
	} {
		for _, n := range []int{x.allowed, x.allowed + 1, 5000} {
			if n == 0 {
				continue
			}
			value := any(strings.Repeat(sign, n))
			if strings.Contains(x.path, "entries") || strings.Contains(x.path, "shown") {
				value = true
			}
			body := withValue(x.field, value)
			if x.path == at && body["title"] == nil {
				body["title"] = "x"
			}
			for k, v := range x.rest {
				if drives, ok := body["drives"].([]any); ok {
					drives[0].(map[string]any)[k] = v
				} else {
					body[k] = v
				}
			}
			r := c.send(x.method, x.path, c.version(id), body)
			assert.Less(t, r.status, 500, "%s %s %s: %d signs: %v", x.method, x.path, x.field, n, r.body)
			if x.allowed > 0 && n > x.allowed {
				assert.GreaterOrEqual(t, r.status, 400, "%s %s %s: %d signs", x.method, x.path, x.field, n)
			}
			if x.path == at && n == x.allowed && r.status == http.StatusOK && !strings.Contains(x.field, ".") {
				assert.Equal(t, value, c.get(at).body[x.field], "stored whole")
			}
		}
	}
	for _, n := range []int{255, 256, 4000} {
		name := strings.Repeat(sign, n)
		r := c.listingNamed(at+"/listings", c.version(id), name, dump)
		assert.Less(t, r.status, 500, "a listing's name of %d signs: %v", n, r.body)
	}
}

// What is computed from evidence with long names in it is stored, too.
func TestLongNamesInEvidence(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("x")
	deep := ""
	for i := range 20 {
		deep += fmt.Sprintf(`\%s%d`, strings.Repeat("long-", 45), i)
	}
	image := bootDisk(map[string][]byte{`\EFI` + deep + `\grubx64.efi`: diskmaker.Program{}.Bytes()})
	r := c.upload(id, "clone", `"1"`, upload{file: whole(t, image)})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	entries := fmt.Sprintf("BootOrder: 0001\nBoot0001* %s\tHD(1,GPT,c12a7328-f81f-11d2-ba4b-00a0c93ec93b,0x800,0x14000)/File(%s)\n", strings.Repeat("name ", 400), `\EFI`+deep+`\grubx64.efi`)
	r = c.listing("/cases/"+id+"/listings", c.version(id), entries, "", nil)
	require.Equal(t, http.StatusCreated, r.status, r.body)
	for _, path := range []string{"", "/check", "/plan", "/evidence", "/references", "/history"} {
		assert.Equal(t, http.StatusOK, c.get("/cases/"+id+path).status, path)
	}
	plan := c.get("/cases/" + id + "/plan").body
	for _, s := range plan["steps"].([]any) {
		mark := map[string]any{"step": s.(map[string]any)["key"], "state": "done", "note": "x"}
		assert.Equal(t, http.StatusOK, c.send(http.MethodPost, "/cases/"+id+"/marks", c.version(id), mark).status)
		break
	}
}
