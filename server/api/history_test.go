package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// history is what a case's history says, the oldest first.
func (c client) history(id string) []string {
	c.t.Helper()
	var all []string
	for _, line := range c.get("/cases/" + id + "/history").list {
		e := line.(map[string]any)
		assert.NotEmpty(c.t, e["at"])
		all = append([]string{fmt.Sprintf("%v: %v", e["who"], e["what"])}, all...)
	}
	return all
}

// Every change of a case stands in its history with who made it, and nothing else does.
func TestTheHistoryOfACase(t *testing.T) {
	t.Parallel()
	ada := newClient(t, storetest.Open(t))
	tom := ada.as("Tom", store.Technician)
	id := ada.newCase("Kiosk")
	at := "/cases/" + id
	assert.Equal(t, []string{"Ada: case made"}, ada.history(id))

	put := func(c client, path string, body map[string]any) {
		r := c.send(http.MethodPut, at+path, c.version(id), body)
		require.Equal(t, http.StatusOK, r.status, r.body)
	}
	tom.legacy(id)
	require.Equal(t, http.StatusCreated, tom.upload(id, "clone", tom.version(id), upload{file: whole(t, inactive())}).status)
	tom.list(t, id, dump, map[string]string{"sda": "original"})
	put(tom, "/drives/original/told", map[string]any{"style": "GPT", "capacity": "500 GB"})
	pieces := tom.get(at + "/evidence").body
	listing := pieces["listings"].([]any)[0].(map[string]any)["id"]
	evidence := pieces["bytes"].([]any)[0].(map[string]any)["id"]
	put(ada, fmt.Sprintf("/listings/%v/withdrawn", listing), map[string]any{"withdrawn": true})
	put(tom, fmt.Sprintf("/evidence/%v/withdrawn", evidence), map[string]any{"withdrawn": true})
	put(tom, fmt.Sprintf("/evidence/%v/withdrawn", evidence), map[string]any{"withdrawn": false})

	step := tom.get(at + "/plan").body["steps"].([]any)[0].(map[string]any)
	mark := map[string]any{"step": step["key"], "state": "done", "note": "it says so"}
	require.Equal(t, http.StatusOK, tom.send(http.MethodPost, at+"/marks", tom.version(id), mark).status)
	script := fmt.Sprintf("%s/plan/script?toolbox=windows-recovery&plan=%v", at, tom.get(at + "/plan").body["fingerprint"])
	res, err := http.DefaultClient.Do(tom.request(http.MethodGet, script, "", nil, ""))
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	put(ada, "/closed", map[string]any{"closed": true})
	put(ada, "/closed", map[string]any{"closed": false})

	// What is refused changes nothing, and is no history.
	assert.Equal(t, http.StatusConflict, tom.send(http.MethodPut, at+"/closed", `"1"`, map[string]any{"closed": true}).status)
	assert.Equal(t, http.StatusForbidden, ada.as("Rosa", store.Reader).send(http.MethodPut, at+"/closed", ada.version(id),
		map[string]any{"closed": true}).status)

	assert.Equal(t, []string{"Ada: case made", "Tom: case changed", "Tom: evidence added", "Tom: evidence added", "Tom: disk told", "Ada: evidence withdrawn", "Tom: evidence withdrawn",
		"Tom: evidence put back", "Tom: repair step", "Tom: script downloaded", "Ada: case closed", "Ada: case opened again"}, ada.history(id))
}

// A case is deleted by a lead who names it, with everything that it held.
func TestDeletingACase(t *testing.T) {
	t.Parallel()
	ada := newClient(t, storetest.Open(t))
	id := ada.newCase("Kiosk")
	require.Equal(t, http.StatusCreated, ada.upload(id, "clone", `"1"`, upload{file: whole(t, bootDisk(nil))}).status)
	at := "/cases/" + id + "/deletion"
	named := map[string]any{"title": "Kiosk"}
	assert.Equal(t, http.StatusForbidden, ada.as("Tom", store.Technician).send(http.MethodPost, at, ada.version(id),
		named).status)
	assert.Equal(t, http.StatusUnprocessableEntity, ada.send(http.MethodPost, at, ada.version(id),
		map[string]any{"title": "kiosk"}).status)
	assert.Equal(t, http.StatusConflict, ada.send(http.MethodPost, at, `"1"`, named).status, "it has changed since it was looked at")
	assert.Equal(t, http.StatusOK, ada.get("/cases/"+id).status)
	assert.Equal(t, http.StatusNoContent, ada.send(http.MethodPost, at, ada.version(id), named).status)
	for _, path := range []string{"", "/check", "/evidence", "/history", "/plan"} {
		assert.Equal(t, http.StatusNotFound, ada.get("/cases/"+id+path).status, path)
	}
	assert.Contains(t, fmt.Sprint(ada.get("/security-log").list), "Kiosk")
}

// Accounts are made by leads, come in by a key that is good once, and the last lead stays.
func TestAccounts(t *testing.T) {
	t.Parallel()
	ada := newClient(t, storetest.Open(t))
	made := ada.send(http.MethodPost, "/accounts", "", map[string]any{"name": "  Tom  Hale ", "role": "technician"})
	require.Equal(t, http.StatusCreated, made.status, made.body)
	assert.Equal(t, "Tom Hale", made.body["name"])
	assert.Equal(t, http.StatusConflict, ada.send(http.MethodPost, "/accounts", "", map[string]any{"name": "tom hale", "role": "reader"}).status)
	assert.Equal(t, http.StatusUnprocessableEntity,
		ada.send(http.MethodPost, "/accounts", "", map[string]any{"name": "  ", "role": "reader"}).status)
	assert.Equal(t, http.StatusUnprocessableEntity,
		ada.send(http.MethodPost, "/accounts", "", map[string]any{"name": "X", "role": "king"}).status)

	tom := ada
	tom.cookie = ""
	in := tom.send(http.MethodPost, "/session", "", map[string]any{"key": made.body["key"]})
	require.Equal(t, http.StatusOK, in.status)
	assert.Equal(t, false, in.body["hasPassword"])
	tom = tom.with(in)
	set := tom.send(http.MethodPut, "/session/password", "", map[string]any{"new": "nine brown barges"})
	require.Equal(t, http.StatusOK, set.status, set.body)
	assert.Equal(t, http.StatusUnauthorized, tom.get("/session").status, "the session goes on under another token")
	tom = tom.with(set)
	assert.Equal(t, http.StatusOK, tom.get("/session").status)
	in = tom.send(http.MethodPost, "/session", "", map[string]any{"name": "tom hale", "password": "nine brown barges"})
	require.Equal(t, http.StatusOK, in.status)

	path := fmt.Sprintf("/accounts/%v", made.body["id"])
	assert.Equal(t, http.StatusOK, ada.send(http.MethodPut, path, "", map[string]any{"role": "technician", "disabled": true}).status)
	assert.Equal(t, http.StatusUnauthorized, tom.get("/session").status, "a disabled account is out at once")
	assert.Equal(t, http.StatusConflict, ada.do(http.MethodPost, path+"/key", "", nil, "").status)
	assert.Equal(t, http.StatusConflict, ada.send(http.MethodPut, "/accounts/1", "", map[string]any{"role": "reader", "disabled": false}).status, "the last lead")
	assert.Equal(t, http.StatusNotFound, ada.send(http.MethodPut, "/accounts/999", "", map[string]any{"role": "reader", "disabled": false}).status)
	for _, a := range ada.get("/accounts").list {
		for key := range a.(map[string]any) {
			assert.NotContains(t, []string{"password", "hash", "key"}, key)
		}
	}
}
