package api_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
	"latchkey/server/store/storetest"
)

func entry(list any, key, value string) map[string]any {
	for _, one := range list.([]any) {
		if m := one.(map[string]any); m[key] == value {
			return m
		}
	}
	return nil
}

// A copy is planned, and what was planned is kept; what cannot be is refused and keeps what
// was there.
func TestACopyIsPrepared(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Prepared")
	p := c.get("/cases/" + id + "/prepare").body
	assert.Equal(t, "unknown", p["answer"].(map[string]any)["fits"], "nothing is in evidence")
	assert.NotNil(t, entry(p["ready"], "key", "capture"))
	boot := whole(t, bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}))
	require.Equal(t, http.StatusCreated, c.upload(id, "original", c.version(id), upload{file: boot}).status)

	put := func(body map[string]any) reply {
		return c.send(http.MethodPut, "/cases/"+id+"/prepare", c.version(id), body)
	}
	for what, body := range map[string]map[string]any{
		"no size": {"capacity": "much"}, "too small": {"capacity": "12 KB"}, "expected one of": {"toLink": "pigeon"}, "ways of copying": {"way": "magic"},
		"above zero": {"sizes": map[string]any{"1": -5}}, "more than a drive": {"capacity": "9000000 TB"},
	} {
		r := put(body)
		require.Equal(t, http.StatusUnprocessableEntity, r.status, body)
		assert.Contains(t, fmt.Sprint(r.body), what)
	}
	require.Equal(t, http.StatusOK, put(map[string]any{"capacity": "500 GB", "toLink": "usb3", "strategy": "main"}).status)
	p = c.get("/cases/" + id + "/prepare").body
	assert.Equal(t, "500 GB", p["target"].(map[string]any)["label"])
	assert.Equal(t, "as-it-is", p["answer"].(map[string]any)["fits"])
	assert.Equal(t, "main", p["plan"].(map[string]any)["strategy"])
	assert.NotEmpty(t, p["ways"])
	assert.Nil(t, entry(p["ready"], "key", "shown"), "how the new drive hangs is told")
	// A preview keeps nothing.
	r := c.send(http.MethodPost, "/cases/"+id+"/prepare/preview", "", map[string]any{"capacity": "60 GB"})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "60 GB", r.body["target"].(map[string]any)["label"])
	assert.Equal(t, "500 GB", c.get("/cases/" + id + "/prepare").body["target"].(map[string]any)["label"])

	require.Equal(t, http.StatusOK, c.send(http.MethodPut, "/cases/"+id+"/prepare/ready/stick", c.version(id), map[string]any{"done": true}).status)
	assert.NotEmpty(t, entry(c.get("/cases/" + id + "/prepare").body["ready"], "key", "stick")["who"])
	require.Equal(t, http.StatusOK, c.send(http.MethodPut, "/cases/"+id+"/prepare/ready/stick", c.version(id), map[string]any{"done": false}).status)
	assert.Empty(t, entry(c.get("/cases/" + id + "/prepare").body["ready"], "key", "stick")["who"])
	assert.Contains(t, c.history(id), "Ada: copy prepared")

	tell := func(body map[string]any) reply {
		return c.send(http.MethodPost, "/cases/"+id+"/prepare/progress", c.version(id), body)
	}
	assert.Equal(t, http.StatusUnprocessableEntity, tell(map[string]any{}).status)
	assert.Equal(t, http.StatusUnprocessableEntity, tell(map[string]any{"gigabytes": 9, "of": 3}).status)
	assert.Equal(t, http.StatusUnprocessableEntity, tell(map[string]any{"perCent": 3, "at": time.Now().Add(time.Hour)}).status)
	require.Equal(t, http.StatusOK, tell(map[string]any{"gigabytes": 10, "of": 100, "at": time.Now().Add(-20 * time.Minute)}).status)
	require.Equal(t, http.StatusOK, tell(map[string]any{"perCent": 50}).status)
	count := c.get("/cases/" + id + "/prepare").body["countdown"].(map[string]any)
	assert.Equal(t, true, count["known"])
	likely, err := time.Parse(time.RFC3339, fmt.Sprint(count["likely"]))
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(25*time.Minute), likely, time.Minute)
	require.Equal(t, http.StatusOK, c.do(http.MethodDelete, "/cases/"+id+"/prepare/progress", c.version(id), nil, "").status)
	assert.Empty(t, c.get("/cases/" + id + "/prepare").body["countdown"].(map[string]any)["seen"])

	// Once the copy is in evidence it is held against the prediction.
	require.Equal(t, http.StatusCreated, c.upload(id, "clone", c.version(id), upload{file: boot}).status)
	require.Equal(t, http.StatusOK, c.send(http.MethodPut, "/cases/"+id, c.version(id), map[string]any{"title": "Prepared", "stands": "copied"}).status)
	p = c.get("/cases/" + id + "/prepare").body
	assert.Equal(t, true, p["inEvidence"])
	assert.Equal(t, true, p["compared"])
	assert.Empty(t, p["otherwise"])
}
