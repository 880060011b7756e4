package api_test

import (
	"net/http"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/firmware"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
	"latchkey/server/store/storetest"
)

// statements returns what a case tells that was told, by label.
func statements(r reply) map[string]map[string]any {
	byLabel := map[string]map[string]any{}
	for _, s := range r.body["statements"].([]any) {
		one := s.(map[string]any)
		byLabel[one["label"].(string)] = one
	}
	return byLabel
}

// What is told of a machine can be seen, with who told it, and withdrawn: the verdict is
// then what it was.
func TestWhatIsToldIsSeenAndWithdrawn(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	lead, tom := c, c.as("Tom", "technician")
	r := tom.send(http.MethodPost, "/cases", "", map[string]any{"title": "Kiosk", "deviceOrder": []string{"clone"},
		"firmware": map[string]any{"mode": "uefi", "arch": "x64", "secureBoot": false, "entries": map[string]bool{"clone": false}},
		"drives":   []map[string]any{{"role": "clone", "bus": "sata", "attached": true}, {"role": "original", "attached": false}}})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	id := "1"
	r = tom.upload(id, "clone", tom.version(id),
		upload{file: whole(t, bootDisk(map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}))})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	asked := func() map[string]any {
		return c.get("/cases/" + id + "/check").body["trace"].(map[string]any)["missing"].([]any)[0].(map[string]any)
	}
	q := asked()
	require.Equal(t, "choice:fallbackOnFixedDisks", q["fact"])

	answers := "/cases/" + id + "/answers"
	assert.Equal(t, http.StatusConflict, lead.send(http.MethodPost, answers, c.version(id),
		map[string]any{"question": "never asked", "option": "yes"}).status)
	assert.Equal(t, http.StatusUnprocessableEntity, lead.send(http.MethodPost, answers, c.version(id),
		map[string]any{"question": q["id"], "option": "perhaps"}).status)
	assert.Equal(t, http.StatusConflict,
		lead.send(http.MethodPost, answers, `"1"`, map[string]any{"question": q["id"], "option": "yes"}).status)
	r = lead.send(http.MethodPost, answers, c.version(id), map[string]any{"question": q["id"], "option": "no"})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Equal(t, "stops", r.body["verdict"])
	told := statements(r)
	s := told[firmware.FallbackOnFixedDisks.Label]
	assert.Equal(t, "No", s["says"])
	assert.NotEmpty(t, s["at"])
	assert.NotEqual(t, "Tom", s["who"])
	assert.Equal(t, "Tom", told["Firmware mode"]["who"], "who told it first is kept while it stays the same")
	assert.Equal(t, "UEFI", told["Firmware mode"]["says"])
	assert.Equal(t, "SATA", told["Bus of the clone"]["says"])
	assert.Equal(t, "The clone", told["First in the boot order"]["says"])
	assert.Equal(t, "No", told["The original is attached"]["says"])

	before := len(told)
	at := "/cases/" + id + "/statements/" + url.PathEscape(s["fact"].(string))
	assert.Equal(t, http.StatusConflict, tom.do(http.MethodDelete, at, `"1"`, nil, "").status)
	r = tom.do(http.MethodDelete, at, c.version(id), nil, "")
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.Len(t, statements(r), before-1)
	assert.Equal(t, "depends", r.body["verdict"])
	assert.Equal(t, q, asked(), "it is asked again")
	assert.Equal(t, http.StatusNotFound, tom.do(http.MethodDelete, at, c.version(id), nil, "").status, "it is not told any more")

	for len(statements(r)) > 0 { // every statement of every kind can be withdrawn
		for _, s := range statements(r) {
			next := tom.do(http.MethodDelete, "/cases/"+id+"/statements/"+url.PathEscape(s["fact"].(string)), c.version(id), nil, "")
			require.Equal(t, http.StatusOK, next.status, next.body)
			require.Len(t, statements(next), len(statements(r))-1, s)
			r = next
			break
		}
	}
}

// An answer to a question that no form has a field for keeps the question's words.
func TestAnAnswerKeepsTheQuestionsWords(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	id := c.newCase("Kiosk")
	c.list(t, id, dump, map[string]string{"sda": "clone"})
	for range 8 {
		missing := c.get("/cases/" + id + "/check").body["trace"].(map[string]any)["missing"].([]any)
		if len(missing) == 0 {
			break
		}
		q := missing[0].(map[string]any)
		options := q["options"].([]any)
		if len(options) == 0 {
			break
		}
		r := c.send(http.MethodPost, "/cases/"+id+"/answers", c.version(id),
			map[string]any{"question": q["id"], "option": options[0].(map[string]any)["id"]})
		require.Equal(t, http.StatusOK, r.status, r.body)
		if q["fact"].(string) == "answer:"+q["id"].(string) {
			s := statements(r)[q["text"].(string)]
			require.NotNil(t, s, r.body["statements"])
			assert.Equal(t, options[0].(map[string]any)["label"], s["says"])
			return
		}
	}
	t.Fatal("no such question came up")
}

// What the plan asks, and the check does not, is answered as well: a boot sector is gone, and what comes
// behind it goes by the driver.
func TestAQuestionOfThePlan(t *testing.T) {
	t.Parallel()
	c := newClient(t, storetest.Open(t))
	d := sample.WithoutTools(sample.LinuxDisk(1, 1), 1, "usr/sbin/update-initramfs")
	d.Sectors, d.Partitions[0].MiB = 1<<17, 34
	disk := whole(t, d.MustBuild())
	clear(disk[2048*512 : 2049*512]) // the boot sector of the boot partition, of which there is a copy
	r := c.send(http.MethodPost, "/cases", "", map[string]any{"title": "Kiosk", "deviceOrder": []string{"clone"},
		"firmware": map[string]any{"mode": "uefi", "arch": "x64", "secureBoot": false,
			"choices": map[string]bool{"fallbackOnFixedDisks": true}, "entries": map[string]bool{"clone": false}},
		"drives": []map[string]any{{"role": "clone", "bus": "nvme", "attached": true}, {"role": "original", "bus": "sata", "attached": false}}})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	r = c.upload("1", "clone", c.version("1"), upload{file: disk})
	require.Equal(t, http.StatusCreated, r.status, r.body)
	plan := c.get("/cases/1/plan").body
	require.NotNil(t, plan["ask"], plan["reason"])
	q := plan["ask"].(map[string]any)
	require.Equal(t, "driver:clone", q["id"])
	r = c.send(http.MethodPost, "/cases/1/answers?toolboxes=none", c.version("1"), map[string]any{"question": q["id"], "option": "yes"})
	assert.Equal(t, http.StatusUnprocessableEntity, r.status)
	r = c.send(http.MethodPost, "/cases/1/answers?toolboxes=linux,firmware", c.version("1"), map[string]any{"question": q["id"], "option": "yes"})
	require.Equal(t, http.StatusOK, r.status, r.body)
	assert.NotEmpty(t, c.get("/cases/1/plan").body["steps"])
}
