package listing_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
)

const plainRows = "Disk /dev/sda: 931.51 GiB, 1000204886016 bytes, 1953525168 sectors\nDisk model: Corvane S210\n" +
	"Disklabel type: gpt\nDisk identifier: 0F0A3C0E-7B2D-4F0E-9C11-7B3C6A6E0001\n\n" +
	"Device       Start        End    Sectors   Size Type\n/dev/sda1     2048    1050623    1048576   512M EFI System\n" +
	"/dev/sda2  1050624 1953523711 1952473088   931G Linux filesystem\n"

func eachLine(text string, change func(i int, s string) string) string {
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	for i := range lines {
		lines[i] = change(i, lines[i])
	}
	return strings.Join(lines, "\n") + "\n"
}

// What a mail, a forum or an editor puts around the lines of a listing is none of it.
func TestWhatWasQuotedBefore(t *testing.T) {
	want := read(t, plainRows).Disks[0]
	for name, text := range map[string]string{
		"a mail": "On Monday somebody wrote:\n" + eachLine(plainRows, func(_ int,
			s string) string {
			return "> " + s
		}) + "What now?\n",
		"a mail of a mail":     eachLine(plainRows, func(_ int, s string) string { return "> > " + s }),
		"marks without blanks": eachLine(plainRows, func(_ int, s string) string { return ">" + s }),
		"a fence":              "```\n" + plainRows + "```\n",
		"a fence of a kind":    "It says:\n```text\n" + plainRows + "```\n",
		"marks of a forum":     "[code]\n" + plainRows + "[/code]\n",
		"other marks":          "<pre>\n" + plainRows + "</pre>\n",
		"moved in":             eachLine(plainRows, func(_ int, s string) string { return "    " + s }),
		"moved in by a tab":    eachLine(plainRows, func(_ int, s string) string { return "\t" + s }),
		"numbered": eachLine(plainRows, func(i int, s string) string {
			return fmt.Sprintf("%6d\t%s",
				i+1, s)
		}),
		"numbered with dots": eachLine(plainRows, func(i int, s string) string {
			return fmt.Sprintf("%d. %s",
				i+7, s)
		}),
		"numbered with colons": eachLine(plainRows, func(i int, s string) string {
			return fmt.Sprintf("%d: %s",
				i+1, s)
		}),
	} {
		l, err := listing.Read("", []byte(text), "")
		require.NoError(t, err, name)
		require.Len(t, l.Disks, 1, name)
		d := l.Disks[0]
		assert.Equal(t, []any{want.Size, want.ID, want.Model, want.Style, len(want.Partitions)}, []any{d.Size,
			d.ID, d.Model, d.Style, len(d.Partitions)}, name)
		for i, p := range d.Partitions {
			q := want.Partitions[i]
			assert.Equal(t, []any{q.Start, q.Length, q.Type}, []any{p.Start, p.Length, p.Type}, name)
		}
		require.GreaterOrEqual(t, len(l.Lines), strings.Count(text, "\n"), name)
	}
}

// What only looks like a quotation is read as it is.
func TestWhatIsNoQuotation(t *testing.T) {
	l := read(t,
		"BYT;\n/dev/sda:500GB:scsi:512:512:gpt:Corvane S210:;\n1:1049kB:538MB:537MB:fat32::boot, esp;\n2:538MB:500GB:499GB:ext4::;\n")
	assert.Len(t, l.Disks[0].Partitions, 2, "the numbers are those of partitions")
	l = read(t,
		"  Disk ###  Status         Size     Free     Dyn  Gpt\n  --------  -------------  -------  -------  ---  ---\n  Disk 0    Online          931 GB  1024 KB        *\n")
	assert.Len(t, l.Disks, 1)
	l = read(t, ">>> Script header accepted.\n>>> Created a new DOS disklabel.\n"+plainRows)
	assert.Len(t, l.Disks[0].Partitions, 2)
}
