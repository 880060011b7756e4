package parcel_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/server/parcel"
)

// packed is an archive of members.
func packed(t testing.TB, members map[string]string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, content := range members {
		m, err := z.Create(name)
		require.NoError(t, err)
		_, err = m.Write([]byte(content))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func open(raw []byte) (*parcel.Parcel, error) {
	return parcel.Open(bytes.NewReader(raw), int64(len(raw)))
}

// What a parcel may hold is bounded before it is unpacked.
func TestAParcelIsBounded(t *testing.T) {
	const head = `{"format": "latchkey case", "version": 1`
	many := map[string]string{"case.json": head + "}"}
	for i := range 401 {
		many[fmt.Sprint(i)] = ""
	}
	large := strings.Repeat("\x00", 71<<20)
	for says, members := range map[string]map[string]string{
		"402 members":           many,
		"more than is taken":    {"case.json": head + "}", "evidence/1.lkcap": large},
		"case.json is larger":   {"case.json": head + `, "by": "` + strings.Repeat("a", 9<<20) + `"}`},
		"has 101 captures":      {"case.json": head + `, "evidence": [` + strings.Repeat("{},", 100) + "{}]}"},
		"cannot unmarshal":      {"case.json": head + `, "evidence": 7}`},
		"start 1 names capture": {"case.json": head + `, "starts": [{"evidence": -1}]}`},
	} {
		_, err := open(packed(t, members))
		assert.ErrorContains(t, err, says)
	}
	p, err := open(packed(t, map[string]string{"case.json": head + `, "by": "Marit"}`}))
	require.NoError(t, err)
	assert.Equal(t, "Marit", p.By)
	_, err = p.Text("listings/1.txt")
	assert.ErrorContains(t, err, "there is no listings/1.txt")
	_, err = p.Capture("../../etc/passwd")
	assert.Error(t, err, "a name leads nowhere but into the archive")
}

func FuzzOpen(f *testing.F) {
	f.Add(packed(f, map[string]string{"case.json": `{"format": "latchkey case", "version": 1}`}))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if p, err := open(raw); err == nil {
			for _, e := range p.Evidence {
				if c, err := p.Capture(e.Member); err == nil {
					_ = c.Close()
				}
			}
		}
	})
}
