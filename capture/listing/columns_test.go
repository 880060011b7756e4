package listing_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/capture/listing"
	"latchkey/core/fact"
	"latchkey/core/machine"
)

// oneBlank is a text as it comes out of what keeps no columns: a mail, a ticket, a chat.
func oneBlank(text string) string {
	lines := strings.Split(text, "\n")
	for i, s := range lines {
		lines[i] = strings.Join(strings.Fields(s), " ")
	}
	return strings.Join(lines, "\n")
}

// unlike says what a text with fewer blanks tells otherwise than the whole one; what it does not
// tell is no difference.
func unlike(whole, less *listing.Listing) (differs []string) {
	for _, d := range less.Disks {
		i := slices.IndexFunc(whole.Disks, func(w machine.Described) bool { return w.Name == d.Name })
		if i < 0 {
			differs = append(differs, "a disk "+d.Name)
			continue
		}
		w := &whole.Disks[i]
		not := func(what string, other bool) {
			if other {
				differs = append(differs, d.Name+" "+what)
			}
		}
		// A size that was rounded on a screen is less than one to the byte.
		not("size", d.Size != 0 && d.Size != w.Size && !(d.Rounded && max(d.Size, w.Size)-min(d.Size, w.Size) < w.Size/64))
		not("sector size", d.SectorSize != 0 && d.SectorSize != w.SectorSize)
		not("style", d.Style != "" && d.Style != w.Style)
		not("identifier", d.ID != "" && d.ID != w.ID)
		not("bus", d.Bus != "" && d.Bus != w.Bus)
		not("whole", d.Whole && (!w.Whole || len(d.Partitions) != len(w.Partitions)))
		for _, p := range d.Partitions {
			j := slices.IndexFunc(w.Partitions, func(q machine.DescribedPartition) bool { return q.Number == p.Number })
			if j < 0 {
				not("another partition", true)
				continue
			}
			q := &w.Partitions[j]
			not("start", p.Start > 0 && p.Start != q.Start)
			not("length", p.Length != 0 && p.Length != q.Length)
			not("type", !p.Type.IsZero() && p.Type != q.Type || p.MBRType != 0 && p.MBRType != q.MBRType)
			not("role", p.Role != "" && p.Role != q.Role)
			not("file system", p.Kind != "" && p.Kind != q.Kind)
			not("serial", p.Serial != "" && p.Serial != q.Serial)
			not("GUID", !p.GUID.IsZero() && p.GUID != q.GUID)
			not("label", p.Label != "" && p.Label != oneBlank(q.Label) || p.Name != "" && p.Name != oneBlank(q.Name))
			not("letter", p.Letter != "" && p.Letter != q.Letter || p.Unlettered && !q.Unlettered)
			not("mark", otherwise(p.Active, q.Active) || otherwise(p.Unclean, q.Unclean))
		}
	}
	return differs
}

func otherwise(less, whole fact.Of[bool]) bool {
	v, told := less.Get()
	w, known := whole.Get()
	return told && (!known || v != w)
}

// flushLeft is a text without what its lines begin with, as some forms for messages leave it.
func flushLeft(text string) string {
	lines := strings.Split(text, "\n")
	for i, s := range lines {
		lines[i] = strings.TrimLeft(s, " \t")
	}
	return strings.Join(lines, "\n")
}

// heldWithLess reads a text once more, pasted in ways that lose something: it tells nothing else.
func heldWithLess(t *testing.T, text string, whole *listing.Listing) {
	t.Helper()
	ways := map[string]func(string) string{"without its columns": oneBlank, "without what lines begin with": flushLeft}
	for way, lose := range ways {
		less, err := listing.Read("", []byte(lose(text)), "")
		if err == nil {
			assert.Empty(t, unlike(whole, less), "%s:\n%s", way, lose(text))
		}
	}
}
