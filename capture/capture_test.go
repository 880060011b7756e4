package capture_test

import (
	"bytes"
	"encoding/json"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

func TestRecognise(t *testing.T) {
	var picture bytes.Buffer
	require.NoError(t, png.Encode(&picture, image.NewGray(image.Rect(0, 0, 300, 300))))
	padded := append(picture.Bytes(), make([]byte, 600)...)
	good := diskmaker.Disk{Sectors: 4096, Style: diskmaker.GPT}.MustBuild()
	head := make([]byte, 8192)
	_, err := good.ReadAt(head, 0)
	require.NoError(t, err)
	spoilt := append([]byte{}, head...)
	spoilt[510] = 0
	noise := bytes.Repeat([]byte{0x13, 0x00, 0x9C}, 400)
	for name, c := range map[string]struct {
		head, tail  []byte
		want        string
		confirmable bool
	}{
		"a disk":             {head, nil, "", false},
		"a spoilt sector 0":  {spoilt, nil, "", false},
		"the end tells":      {noise, head[:1024], "", false},
		"empty":              {nil, nil, "The file is empty", false},
		"short":              {[]byte("abc"), nil, "at least one sector of 512 bytes", false},
		"a text":             {[]byte(strings.Repeat("A letter to the harbour office.\n", 40)), nil, "text/plain", false},
		"a picture":          {padded, nil, "image/png", false},
		"zeros":              {make([]byte, 4096), nil, "nothing but zeros", true},
		"FF":                 {bytes.Repeat([]byte{0xFF}, 4096), nil, "nothing but FF", true},
		"something unlikely": {noise, nil, "expected 55 AA", true},
	} {
		t.Run(name, func(t *testing.T) {
			err := capture.Recognise(c.head, c.tail)
			if c.want == "" {
				assert.NoError(t, err)
				return
			}
			var not *capture.NotADisk
			require.ErrorAs(t, err, &not)
			assert.Contains(t, not.Reason, c.want)
			assert.Equal(t, c.confirmable, not.Confirmable)
		})
	}
}

func TestEndsOfADisk(t *testing.T) {
	head, tail := bytes.NewReader([]byte("HEAD")), bytes.NewReader([]byte("TAIL"))
	s, err := capture.Ends(head, 4, tail, 4, 100)
	require.NoError(t, err)
	b := make([]byte, 4)
	_, err = s.ReadAt(b, 96)
	require.NoError(t, err)
	assert.Equal(t, "TAIL", string(b))
	_, err = s.ReadAt(b, 2)
	assert.True(t, disk.IsNotCaptured(err), "the rest is not captured, never zeros")
	_, err = capture.Ends(head, 4, nil, 0, 3)
	assert.ErrorContains(t, err, "at least the 4 bytes of the file")
	_, err = capture.Ends(head, 4, tail, 4, 7)
	assert.ErrorContains(t, err, "overlap")
	_, err = capture.NewSparse(head, []capture.Extent{{Offset: 0, Length: 4}, {Offset: 2, Length: 4}})
	assert.ErrorContains(t, err, "without overlap")
}

// machine writes a disk and a description of a machine that has it, and returns
// the description's path.
func machineOf(t *testing.T, change func(map[string]any)) string {
	t.Helper()
	dir := t.TempDir()
	d := diskmaker.Disk{Sectors: 1 << 20, Style: diskmaker.GPT, GUID: disk.TypeESP, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32",
			Files: map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: diskmaker.Program{}.Bytes()}}}}}
	require.NoError(t, d.MustBuild().WriteFile(filepath.Join(dir, "b.img")))
	desc := map[string]any{
		"firmware": map[string]any{"mode": "uefi", "arch": "x64", "secureBoot": false, "behaviour": "generic", "fallbackOnFixedDisks": true},
		"drives":   []any{map[string]any{"name": "b", "role": "clone", "file": "b.img", "bus": "sata", "attached": true, "logicalSectorSize": 512}},
		"until":    "loader",
	}
	change(desc)
	raw, err := json.Marshal(desc)
	require.NoError(t, err)
	path := filepath.Join(dir, "machine.json")
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	return path
}

func drive0(d map[string]any) map[string]any {
	return d["drives"].([]any)[0].(map[string]any)
}

func TestLoadADescribedMachine(t *testing.T) {
	l, err := capture.Load(machineOf(t, func(map[string]any) {}))
	require.NoError(t, err)
	assert.Equal(t, startup.Starts, startup.Simulate(l).Verdict)
	first := machineOf(t, func(d map[string]any) {
		drive0(d)["capacity"] = int64(1) << 40
	})
	partial, err := capture.Load(first)
	require.NoError(t, err)
	assert.EqualValues(t, int64(1)<<31, partial.Drives[0].Contents.Layout.Sectors)
}

func TestDescriptionsThatAreRefused(t *testing.T) {
	for name, c := range map[string]struct {
		change func(map[string]any)
		want   string
	}{
		"unknown key":         {func(d map[string]any) { d["colour"] = "red" }, `unknown field "colour"`},
		"unknown key within":  {func(d map[string]any) { drive0(d)["size"] = 5 }, `unknown field "size"`},
		"missing file":        {func(d map[string]any) { drive0(d)["file"] = "c.img" }, "c.img: no such file"},
		"negative capacity":   {func(d map[string]any) { drive0(d)["capacity"] = -5 }, "drives[0].capacity is -5: expected a positive number"},
		"too small capacity":  {func(d map[string]any) { drive0(d)["capacity"] = 4096 }, "at least the"},
		"odd sector size":     {func(d map[string]any) { drive0(d)["logicalSectorSize"] = -512 }, "logicalSectorSize is -512: expected 512 or 4096"},
		"no drives":           {func(d map[string]any) { d["drives"] = []any{} }, "at least one drive"},
		"unknown role":        {func(d map[string]any) { drive0(d)["role"] = "copy" }, `drives[0].role is "copy"`},
		"unknown mode":        {func(d map[string]any) { d["firmware"] = map[string]any{"mode": "bios"} }, `firmware.mode is "bios"`},
		"unknown behaviour":   {func(d map[string]any) { d["firmware"] = map[string]any{"behaviour": "odd"} }, `expected one of`},
		"unknown drive":       {func(d map[string]any) { d["deviceOrder"] = []any{"z"} }, `deviceOrder[0] is "z"`},
		"drive twice":         {func(d map[string]any) { d["deviceOrder"] = []any{"b", "b"} }, `deviceOrder[1] is "b"`},
		"unknown until":       {func(d map[string]any) { d["until"] = "system" }, `until is "system"`},
		"wrong kind of value": {func(d map[string]any) { drive0(d)["attached"] = "yes" }, "cannot unmarshal string"},
		"folder as disk":      {func(d map[string]any) { drive0(d)["file"] = "." }, "folder"},
		"missing entries":     {func(d map[string]any) { d["firmware"] = map[string]any{"bootEntries": "none.txt"} }, "firmware.bootEntries"},
		"its own description": {func(d map[string]any) { drive0(d)["file"] = "machine.json" }, "not a disk"},
	} {
		t.Run(name, func(t *testing.T) {
			path := machineOf(t, c.change)
			if name == "its own description" { // longer than a sector
				pad(t, path)
			}
			_, err := capture.Load(path)
			assert.ErrorContains(t, err, c.want)
			assert.ErrorContains(t, err, "machine.json")
		})
	}
	_, err := capture.ParseDescription([]byte("{\n\"drives\": [,]}"))
	assert.ErrorContains(t, err, "line 2")
	_, err = capture.ParseDescription([]byte(`{"drives":[{"name":"a","role":"clone"}]} more`))
	assert.ErrorContains(t, err, "more follows")
}

func pad(t *testing.T, path string) {
	t.Helper()
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, append(raw, bytes.Repeat([]byte(" "), 600)...), 0o600))
}

// Two layouts of the same listing; the forms are those of efibootmgr's own
// manual and of versions 17 and 18, from memory, with invented identifiers.
func TestBootEntryListings(t *testing.T) {
	const v17 = "BootCurrent: 0001\nTimeout: 0 seconds\nBootOrder: 0002,0001,0003\nBootNext: 0003\n" +
		"Boot0000  UiApp\tFvVol(7cb8bdc9-f8eb-4f34-aaea-3ee4af6516a1)/FvFile(462caa21-7614-4503-836e-8ab6f4662331)\n" +
		"Boot0001* UEFI HARDDISK\tPciRoot(0x0)/Pci(0x1f,0x2)/Sata(0,65535,0)N.....YM....R,Y.\n" +
		"Boot0002* debian\tHD(1,GPT,11111111-2222-3333-4444-555555555555,0x800,0x100000)/File(\\EFI\\debian\\shimx64.efi)\n" +
		"Boot0003* Windows Boot Manager\tHD(2,MBR,0x1f2e3d4c,0x800,0x32000)/File(\\EFI\\Microsoft\\Boot\\bootmgfw.efi)WINDOWS.........x...\n"
	v18 := strings.ReplaceAll(strings.ReplaceAll(v17, "/File(\\EFI\\debian\\shimx64.efi)", "/\\EFI\\debian\\shimx64.efi\n      dp: 04 01 2a 00 / 7f ff 04 00"),
		"/File(\\EFI\\Microsoft\\Boot\\bootmgfw.efi)WINDOWS.........x...", "/\\EFI\\Microsoft\\Boot\\bootmgfw.efi57494e444f5753\n    data: 57 49 4e 44")
	for name, text := range map[string]string{"17": v17, "18": v18, "with carriage returns": strings.ReplaceAll(v17, "\n", "\r\n"),
		"tabs lost": strings.ReplaceAll(v17, "\t", "    ")} {
		t.Run(name, func(t *testing.T) {
			e, err := capture.ParseBootEntries(text)
			require.NoError(t, err)
			assert.Equal(t, []uint16{2, 1, 3}, e.Order)
			require.NotNil(t, e.Next)
			assert.EqualValues(t, 3, *e.Next)
			assert.True(t, e.All[0].Path.Internal)
			assert.False(t, e.All[0].Active)
			assert.Equal(t, "sata", e.All[1].Path.Bus)
			assert.Equal(t, "debian", e.All[2].Description)
			assert.Equal(t, `\EFI\debian\shimx64.efi`, e.All[2].Path.File)
			assert.Equal(t, &firmware.PartitionNode{Number: 1, Start: 0x800, Size: 0x100000, GUID: disk.MustGUID("11111111-2222-3333-4444-555555555555")},
				e.All[2].Path.Partition)
			assert.Equal(t, `\EFI\Microsoft\Boot\bootmgfw.efi`, e.All[3].Path.File)
			assert.True(t, e.All[3].Path.Partition.MBR)
			assert.EqualValues(t, 0x1f2e3d4c, e.All[3].Path.Partition.Signature)
			assert.Len(t, e.Sequence(), 4, "BootNext, then the order")
		})
	}
}

func TestBootEntryListingsThatAreRefused(t *testing.T) {
	_, err := capture.ParseBootEntries("BootOrder: 0001\nHello there\n")
	assert.ErrorContains(t, err, `line 2: "Hello there"`)
	_, err = capture.ParseBootEntries("BootOrder: 00xx\n")
	assert.ErrorContains(t, err, "four hexadecimal digits")
}

func FuzzDescription(f *testing.F) {
	f.Add([]byte(`{"firmware":{"mode":"uefi"},"drives":[{"name":"a","role":"clone","file":"a.img"}],"deviceOrder":["a"]}`))
	f.Fuzz(func(_ *testing.T, raw []byte) { _, _ = capture.ParseDescription(raw) })
}

func FuzzBootEntries(f *testing.F) {
	f.Add("BootOrder: 0001\nBoot0001* x\tHD(1,GPT,11111111-2222-3333-4444-555555555555,0x800,0x10)/File(\\a.efi)\n")
	f.Fuzz(func(_ *testing.T, text string) { _, _ = capture.ParseBootEntries(text) })
}
