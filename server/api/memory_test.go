package api_test

import (
	"context"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/server/judge"
	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// unknowing makes a case of a model whose firmware nobody knows, with a disk that starts
// by its fallback alone.
func (c client) unknowing(title string) string {
	c.t.Helper()
	r := c.send(http.MethodPost, "/cases", "", map[string]any{"title": title, "machine": "Fenmark D4, " + title, "deviceOrder": []string{"clone"},
		"firmware": map[string]any{"mode": "uefi", "arch": "x64", "secureBoot": false, "entries": map[string]bool{"clone": false}},
		"drives":   []any{map[string]any{"role": "original", "attached": false, "bus": "sata"}, map[string]any{"role": "clone", "attached": true, "bus": "sata"}}})
	require.Equal(c.t, http.StatusCreated, r.status, r.body)
	id := fmt.Sprint(r.body["id"])
	clone := bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()})
	require.Equal(c.t, http.StatusCreated, c.upload(id, "clone", c.version(id), upload{file: whole(c.t, clone)}).status)
	return id
}

// A start that was seen says of the firmware what follows of necessity; the next case of
// the model is offered it, with where it comes from, and what contradicts it makes it
// unknown again.
func TestAModelIsRemembered(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	first := c.unknowing("North")
	assert.NotEqual(t, "starts", c.get("/cases/" + first + "/check").body["trace"].(map[string]any)["reaches"])
	cloneID := c.get("/cases/" + first + "/check").body["drives"].([]any)[1].(map[string]any)["disk"].(map[string]any)["id"]
	r := c.send(http.MethodPost, "/cases/"+first+"/starts", c.version(first), map[string]any{"kind": "cold", "id": cloneID})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Empty(t, c.get("/cases/" + first + "/model").body["facts"], "a case learns nothing of itself")

	second := c.unknowing("South")
	memory := c.get("/cases/" + second + "/model").body
	facts := memory["facts"].([]any)
	require.Len(t, facts, 1, memory)
	fact := facts[0].(map[string]any)
	assert.Equal(t, "fallbackOnFixedDisks", fact["key"])
	assert.Equal(t, true, fact["value"])
	assert.Equal(t, true, fact["known"])
	assert.Equal(t, "North", fact["from"].([]any)[0].(map[string]any)["title"])
	take := func(id, key string) reply {
		return c.send(http.MethodPost, "/cases/"+id+"/model", c.version(id), map[string]any{"keys": []string{key}})
	}
	assert.Equal(t, http.StatusUnprocessableEntity, take(second, "usesBackupGPT").status)
	r = take(second, "fallbackOnFixedDisks")
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "starts", r.body["reaches"])
	assert.Contains(t, fmt.Sprint(r.body["statements"]), "as other cases of the Fenmark D4 say: "+first)
	assert.Equal(t, http.StatusUnprocessableEntity, take(second, "fallbackOnFixedDisks").status, "it knows it by now")

	third := c.unknowing("East")
	tell := func(choices map[string]any) {
		r := c.send(http.MethodPut, "/cases/"+third, c.version(third), map[string]any{"title": "East", "machine": "Fenmark D4, East", "firmware": map[string]any{"choices": choices}})
		require.Equal(t, http.StatusOK, r.status, r.body)
	}
	tell(map[string]any{"fallbackOnFixedDisks": false})
	fourth := c.unknowing("West")
	fact = c.get("/cases/" + fourth + "/model").body["facts"].([]any)[0].(map[string]any)
	assert.Equal(t, false, fact["known"], "a person contradicts the start")
	assert.Len(t, fact["from"], 2, "what was taken over says nothing of its own")
	assert.Equal(t, http.StatusUnprocessableEntity, take(fourth, "fallbackOnFixedDisks").status)

	tell(map[string]any{})
	settings := c.get("/settings").body
	settings["takeModel"] = true
	delete(settings, "$schema")
	require.Equal(t, http.StatusOK, c.send(http.MethodPut, "/settings", "", settings).status)
	fifth := c.unknowing("Middle")
	assert.Equal(t, "starts", c.get("/cases/" + fifth).body["reaches"], "the bench has set so")
}

// Where all is judged again, what changed is told, with why.
func TestTheFleetIsJudgedAgain(t *testing.T) {
	t.Parallel()
	s := storetest.Open(t)
	c := newClient(t, s)
	id := c.unknowing("North")
	require.Equal(t, http.StatusAccepted, c.send(http.MethodPost, "/fleet", "", nil).status)
	fleet := c.get("/fleet").body
	assert.EqualValues(t, 1, fleet["all"])
	assert.EqualValues(t, 0, fleet["judged"])
	n, err := judge.New(s).JudgeFleet(context.Background())
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	fleet = c.get("/fleet").body
	assert.EqualValues(t, 1, fleet["judged"])
	assert.Empty(t, fleet["changes"], "the rules say the same")

	var number uint64
	_, err = fmt.Sscan(id, &number)
	require.NoError(t, err)
	require.NoError(t, s.Record(t.Context(), store.Check{CaseID: number, Rules: "old", Verdict: "stops", Reaches: "stops", Stage: "table",
		Headline: "as it was"}, nil))
	_, err = judge.New(s).JudgeFleet(context.Background())
	require.NoError(t, err)
	change := c.get("/fleet").body["changes"].([]any)[0].(map[string]any)
	assert.Equal(t, "as it was", change["before"])
	assert.Equal(t, startup.RulesVersion, change["rules"])
	assert.NotEmpty(t, change["why"])
}

func TestCasesAreFoundByAnythingInThem(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.full()
	other := c.newCase("Another")
	do := func(q string) int { return len(c.get("/cases?q=" + q).body["cases"].([]any)) }
	for what, q := range map[string]string{"an identifier": "EBD0A0A2-B9E5", "a path": "BOOTX64.EFI", "a drive": "ostra+n3", "a message": "0xc000000e",
		"a place": "drawer", "several words": "kiosk+c12a7328"} {
		assert.Equal(t, 1, do(q), what)
	}
	assert.Equal(t, 2, do("fenmark"))
	assert.Equal(t, 0, do("brisling"))
	r := c.send(http.MethodPost, "/cases/"+other+"/starts", c.version(other), map[string]any{"kind": "cold", "failed": "brisling"})
	require.Equal(t, http.StatusOK, r.status)
	assert.Equal(t, 1, do("brisling"))
	for query, n := range map[string]int{"model=Fenmark+D4": 2, "model=Fenmark": 0, "drive=Ostra+N3": 1, "action=create-esp": 0} {
		assert.Len(t, c.get("/cases?" + query).body["cases"], n, query)
	}
	phase := func(id string) any {
		for _, one := range c.get("/cases").body["cases"].([]any) {
			if fmt.Sprint(one.(map[string]any)["id"]) == id {
				return one.(map[string]any)["phase"].(map[string]any)["name"]
			}
		}
		return nil
	}
	assert.Equal(t, "checked", phase(id))
	assert.Equal(t, "prepare", phase(other))
	figures := c.get("/figures").body["groups"].([]any)
	assert.Len(t, figures, 5)
	assert.Contains(t, c.fetch(t, "/figures.csv"), "By the machine's model,Fenmark D4,2,0\r\n")
}

// BenchmarkFleet tells how many cases are judged again in a second: real time.
func BenchmarkFleet(b *testing.B) {
	s := storetest.Open(b)
	c := newClient(b, s)
	for i := range 40 {
		c.unknowing(fmt.Sprint("Kiosk ", i))
	}
	j := judge.New(s)
	b.ResetTimer()
	began := time.Now()
	for b.Loop() {
		require.NoError(b, s.JudgeAgain(b.Context()))
		n, err := j.JudgeFleet(b.Context())
		require.NoError(b, err)
		require.Equal(b, 40, n)
	}
	b.ReportMetric(float64(40*b.N)/time.Since(began).Minutes(), "cases/min")
}
