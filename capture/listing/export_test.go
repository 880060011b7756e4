package listing_test

import (
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// sfdisk itself writes what we export to another disk; its own dump of that disk
// is what we exported.
func TestSfdiskTakesTheExport(t *testing.T) {
	for _, style := range []string{"gpt", "dos"} {
		path := written(t, style)
		dump, err := listing.ExportDump(&contents(t, path).Layout, path)
		require.NoError(t, err)
		assert.Equal(t, plain(reference.Run(t, "", "sfdisk", "--dump", path)), plain(string(dump)), style)
		copied := reference.Image(t, 512<<20)
		reference.Run(t, string(dump), "sfdisk", "-q", copied)
		assert.Equal(t, plain(strings.ReplaceAll(reference.Run(t, "", "sfdisk", "--dump", copied), copied, path)),
			plain(string(dump)), style)

		raw, err := listing.ExportJSON(&contents(t, path).Layout, path)
		require.NoError(t, err)
		var ours, theirs any
		require.NoError(t, json.Unmarshal(raw, &ours))
		require.NoError(t, json.Unmarshal([]byte(reference.Run(t, "", "sfdisk", "--json", path)), &theirs))
		assert.Equal(t, theirs, ours, style)
	}
}

// A partition's name stays a name on the way through sfdisk, whatever it holds.
func TestNamesOnTheWayThroughSfdisk(t *testing.T) {
	names := []string{`a"b`, "two\nlines, start=1", `\x41`, "`touch pwned` $(x)", `", type=EF00`, "größer 100%"}
	d := diskmaker.Disk{Sectors: 1 << 20, Style: diskmaker.GPT, GUID: disk.TypeLinuxData}
	for _, name := range names {
		d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeBasicData, MiB: 1, Name: name})
	}
	on, err := disk.New(d.MustBuild(), 512<<20, 512)
	require.NoError(t, err)
	l := disk.ReadLayout(on)
	dump, err := listing.ExportDump(&l, "x")
	require.NoError(t, err)
	copied := reference.Image(t, 512<<20)
	reference.Run(t, string(dump), "sfdisk", "-q", copied)
	got := contents(t, copied).Layout.Partitions
	require.Len(t, got, len(names))
	for i := range names {
		assert.Equal(t, names[i], got[i].Name)
		assert.Equal(t, l.Partitions[i].Start, got[i].Start)
	}
}

// plain leaves out what is only alignment.
func plain(s string) string { return strings.Join(strings.Fields(strings.ToLower(s)), " ") }

func TestExportsThatCannotBe(t *testing.T) {
	d := machine.Described{Style: "GPT", Partitions: []machine.DescribedPartition{{Number: 1, Start: -1}}}
	_, err := listing.ExportDump(&d.Contents().Layout, "x")
	assert.ErrorContains(t, err, "where partition 1 lies is not known")
	d = machine.Described{Style: "none"}
	_, err = listing.ExportJSON(&d.Contents().Layout, "x")
	assert.ErrorContains(t, err, "no partition table")
}

func TestReferencesAsCSV(t *testing.T) {
	raw, err := listing.ExportReferences([]machine.Reference{{Holder: `store, "system"`, Kind: "partition UUID", Value: "x", Means: "other", Drive: "clone",
		On: []machine.Resolved{{Drive: "original", Known: true, Partitions: []int{3}}, {Drive: "clone", Known: true}}}})
	require.NoError(t, err)
	assert.Equal(t, "holder,on,named by,value,means,original,clone,source\r\n\"store, \"\"system\"\"\",clone,partition UUID,x,other,partition 3,none,\r\n", string(raw))
}

// A cell never becomes a formula of a spreadsheet.
func TestCellsAreNoFormulas(t *testing.T) {
	for _, first := range []string{"=", "+", "-", "@", "\t", "\r"} {
		raw, err := listing.ExportReferences([]machine.Reference{{Holder: first + "1+cmd|' /C calc'!A0", Value: first + "2", Drive: "clone"}})
		require.NoError(t, err)
		rows, err := csv.NewReader(strings.NewReader(string(raw))).ReadAll()
		require.NoError(t, err)
		for _, cell := range rows[1] {
			assert.False(t, cell != "" && strings.ContainsAny(cell[:1], "=+-@\t\r"), "%q", cell)
		}
	}
}
