package listing_test

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// onEachLine changes the lines of a text.
func onEachLine(change func(string) string) func(string) string {
	return func(text string) string {
		lines := strings.Split(text, "\n")
		for i, s := range lines {
			lines[i] = change(s)
		}
		return strings.Join(lines, "\n")
	}
}

// oneBlank is a text as it comes out of what keeps no columns: a mail, a ticket, a chat.
var oneBlank = onEachLine(func(s string) string { return strings.Join(strings.Fields(s), " ") })

// broken is a text as a window of so many columns breaks it.
func broken(columns int) func(string) string {
	return onEachLine(func(s string) string {
		var pieces []string
		r := []rune(s)
		for ; len(r) > columns; r = r[columns:] {
			pieces = append(pieces, string(r[:columns]))
		}
		return strings.Join(append(pieces, string(r)), "\n")
	})
}

// cutOff is a text as a window of so many columns shows it that breaks no lines.
func cutOff(columns int) func(string) string {
	return onEachLine(func(s string) string { return string([]rune(s)[:min(columns, len([]rune(s)))]) })
}

// wrapped is a text as a mail of so many columns breaks it, between words.
func wrapped(columns int) func(string) string {
	return onEachLine(func(s string) string {
		var pieces []string
		for len(s) > columns {
			at := strings.LastIndex(s[:columns], " ")
			if at < 0 || strings.TrimSpace(s[:at]) == "" {
				break
			}
			pieces, s = append(pieces, s[:at]), s[at+1:]
		}
		return strings.Join(append(pieces, s), "\n")
	})
}

// doubled is a text as it comes out of a place that makes a paragraph of each line.
func doubled(text string) string { return strings.ReplaceAll(text, "\n", "\n\n") }

// unlike says what a text with fewer blanks tells otherwise than the whole one; what it does not
// tell is no difference.
func unlike(whole, less *listing.Listing) (differs []string) {
	for _, d := range less.Disks {
		i := slices.IndexFunc(whole.Disks, func(w machine.Described) bool { return w.Name == d.Name })
		if i < 0 && strings.EqualFold(d.Name, "disk") {
			if len(whole.Disks) > 1 {
				continue // which one it is cannot be told
			}
			i = 0 // without its name
		}
		if i < 0 && d.Name == d.Model { // without its number
			i = slices.IndexFunc(whole.Disks, func(w machine.Described) bool { return w.Model == d.Model })
		}
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
			j := slices.IndexFunc(w.Partitions,
				func(q machine.DescribedPartition) bool { return p.Start > 0 && q.Start == p.Start })
			if j < 0 {
				j = slices.IndexFunc(w.Partitions,
					func(q machine.DescribedPartition) bool { return q.Number == p.Number })
			}
			if j < 0 {
				not("another partition", true)
				continue
			}
			q := &w.Partitions[j]
			not("start", p.Start > 0 && p.Start != q.Start)
			not("length", p.Length != 0 && p.Length != q.Length)
			not("type", !p.Type.IsZero() && p.Type != q.Type || p.MBRType != 0 && p.MBRType != q.MBRType)
			not("role", p.Role != "" && p.Role != q.Role)
			not("file system", p.Kind != "" && p.Kind != q.Kind && !(p.Kind == volume.KindFAT && strings.HasPrefix(string(q.Kind), "FAT")))
			not("serial", p.Serial != "" && p.Serial != q.Serial)
			not("GUID", !p.GUID.IsZero() && p.GUID != q.GUID)
			not("label", !strings.HasPrefix(oneBlank(q.Label), p.Label) || !strings.HasPrefix(oneBlank(q.Name), p.Name))
			not("letter", p.Letter != "" && p.Letter != q.Letter || p.Unlettered && !q.Unlettered)
			not("mark", otherwise(p.Active, q.Active) || otherwise(p.Unclean, q.Unclean))
		}
	}
	differs = append(differs, unlikeEntries(whole.Entries, less.Entries)...)
	return append(differs, unlikeStore(whole.Store, less.Store)...)
}

// unlikeEntries says what is told of boot entries otherwise.
func unlikeEntries(whole, less *firmware.Entries) (differs []string) {
	if less == nil {
		return nil
	}
	if whole == nil {
		return []string{"entries"}
	}
	if !less.OrderOpen && (whole.OrderOpen || !slices.Equal(less.Order, whole.Order)) {
		differs = append(differs, "the order")
	}
	if less.Next != nil && (whole.Next == nil || *less.Next != *whole.Next) {
		differs = append(differs, "the next start")
	}
	for n, e := range less.All {
		w, known := whole.All[n]
		switch p, q := e.Path, w.Path; {
		case !known:
			differs = append(differs, fmt.Sprintf("entry %04X", n))
		case e.Active != w.Active:
			differs = append(differs, fmt.Sprintf("entry %04X active", n))
		case !p.Open && (q.Open || !reflect.DeepEqual(p, q)),
			p.Partition != nil && !reflect.DeepEqual(p.Partition, q.Partition):
			differs = append(differs, fmt.Sprintf("entry %04X leads to %+v, not to %+v", n, p, q))
		case !e.OptionsOpen && !p.Open && (w.OptionsOpen || e.Options != w.Options):
			differs = append(differs, fmt.Sprintf("entry %04X options", n))
		}
	}
	return differs
}

// unlikeStore says what is told of a boot configuration store otherwise.
func unlikeStore(whole, less *loader.Store) (differs []string) {
	if less == nil {
		return nil
	}
	if whole == nil {
		return []string{"a store"}
	}
	for _, o := range less.Objects {
		i := slices.IndexFunc(whole.Objects, func(x loader.Object) bool { return x.ID == o.ID })
		if i < 0 {
			differs = append(differs, "object "+o.ID)
			continue
		}
		for _, e := range o.Elements {
			w, known := whole.Objects[i].Element(e.Type)
			w.Line, e.Line = 0, 0
			if n := len(e.IDs); n > 0 && n < len(w.IDs) {
				w.IDs = w.IDs[:n] // the text ends within the list
			}
			if !known || !reflect.DeepEqual(w, e) {
				differs = append(differs, fmt.Sprintf("%s %s: %+v", o.ID, e.Name(), e))
			}
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
var flushLeft = onEachLine(func(s string) string { return strings.TrimLeft(s, " \t") })

// places are where a text is cut in two: where lines begin and in the midst of them, of a long text
// some dozen of these.
func places(text string) (at []int) {
	from := 0
	for line := range strings.Lines(text) {
		at = append(at, from, from+len(line)/2)
		from += len(line)
	}
	const most = 40
	if step := (len(at) + most - 1) / most; step > 1 {
		some := at[:0]
		for i := 0; i < len(at); i += step {
			some = append(some, at[i])
		}
		at = some
	}
	return at
}

// heldWithLess reads a text once more, pasted in ways that lose something: it tells nothing else.
func heldWithLess(t *testing.T, text string, whole *listing.Listing) {
	t.Helper()
	ways := map[string]func(string) string{"without its columns": oneBlank, "without what lines begin with": flushLeft,
		"broken at 80": broken(80), "cut off at 80": cutOff(80), "with empty lines between": doubled}
	twins := strings.Count(text, "label-id:") > 1 || strings.Contains(text, ", the same")
	for i, at := range places(text) {
		if twins { // a part of the text may tell of one alone
			break
		}
		if testing.Short() && i%6 != len(text)%6 {
			continue
		}
		ways[fmt.Sprintf("its first %d bytes", at)] = func(text string) string { return text[:at] }
		ways[fmt.Sprintf("without its first %d bytes", at)] = func(text string) string { return text[at:] }
	}
	for way, lose := range ways {
		less, err := listing.Read("", []byte(lose(text)), "")
		if err == nil {
			assert.Empty(t, unlike(whole, less), "%s:\n%s", way, lose(text))
		}
	}
}

// What a place makes of a text is put back: it tells the same as before.
func TestWhatAPlaceMakesOfAText(t *testing.T) {
	quotes := func(text string) string {
		open := false
		return strings.Map(func(r rune) rune {
			if r != '"' {
				return r
			}
			open = !open
			return map[bool]rune{true: '“', false: '”'}[open]
		}, text)
	}
	ways := map[string]func(string) string{
		"empty lines between": doubled, "a window of 60": broken(60), "a window of 75": broken(75), "a mail": wrapped(70),
		"quotation marks": quotes, "dashes": strings.NewReplacer("--", "–").Replace,
		"a page's source":    strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace,
		"hard blanks":        strings.NewReplacer(" ", "\u00a0").Replace,
		"signs of no width":  strings.NewReplacer(":", ":\u200b").Replace,
		"times":              onEachLine(func(s string) string { return "[2026-11-02 10:11:12] " + s }),
		"times of a port":    onEachLine(func(s string) string { return "10:11:12.345 " + s }),
		"quoted in a mail":   func(text string) string { return onEachLine(func(s string) string { return "> " + s })(quotes(text)) },
		"quoted, with blank": func(text string) string { return onEachLine(func(s string) string { return "> " + s })(doubled(text)) },
	}
	for what, text := range map[string]string{
		"rows": plainRows, "JSON": twoDisks, "boot entries": entriesListing, "a store": storeListing, "a table": tableListing,
	} {
		whole, err := listing.Read("", []byte(text), "")
		require.NoError(t, err)
		for way, change := range ways {
			less, err := listing.Read("", []byte(change(text)), "")
			if assert.NoError(t, err, "%s, %s", what, way) {
				assert.Empty(t, append(unlike(whole, less), unlike(less, whole)...), "%s, %s:\n%s", what, way, change(text))
			}
		}
	}
}

const entriesListing = "BootCurrent: 0001\nTimeout: 1 seconds\nBootOrder: 0001,0000\nBoot0000* Setup\tFvFile(7c04a583-9e3e-4f1c-ad65-e05268d0b4d1)\n" +
	"Boot0001* Windows Boot Manager\tHD(1,GPT,11111111-2222-3333-4444-555555555555,0x800,0x32000)/File(\\EFI\\Microsoft\\Boot\\bootmgfw.efi)\n"

const storeListing = `Windows Boot Manager
--------------------
identifier              {bootmgr}
device                  partition=\Device\HarddiskVolume1
path                    \EFI\Microsoft\Boot\bootmgfw.efi
description             Windows Boot Manager
default                 {0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
displayorder            {0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
                        {1ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
timeout                 30

Windows Boot Loader
-------------------
identifier              {0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
device                  partition=C:
path                    \Windows\system32\winload.efi
osdevice                partition=C:
systemroot              \Windows
`

const tableListing = `PS C:\> Get-Partition -DiskNumber 0 | Format-Table

DiskNumber PartitionNumber     Offset         Size GptType
---------- ---------------     ------         ---- -------
         0               1    1048576    104857600 {c12a7328-f81f-11d2-ba4b-00a0c93ec93b}
         0               2  105906176     16777216 {e3c9e316-0b5c-4db8-817d-f92df00215ae}
         0               3  122683392 499985000000 {ebd0a0a2-b9e5-4433-87c0-68b6b72699c7}

PS C:\>
`
