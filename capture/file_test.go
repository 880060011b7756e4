package capture_test

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/demo"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// terabyte returns a 1 TB disk with a Windows-like layout.
func terabyte(t testing.TB, sectorSize int) *diskmaker.Image {
	t.Helper()
	manager := diskmaker.Program{Signed: true, Size: 1_500_672}.Bytes()
	m, err := diskmaker.Disk{
		Sectors: uint64(disk.AdvertisedSectors(1000)) * 512 / uint64(sectorSize), SectorSize: sectorSize,
		Style: diskmaker.GPT, GUID: disk.TypeESP,
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, MiB: 300,
				Volume: diskmaker.Volume{Kind: "fat32", Files: map[string][]byte{`\EFI\BOOT\BOOTX64.EFI`: manager, `\EFI\Microsoft\Boot\bootmgfw.efi`: manager}}},
			{Type: disk.TypeMSReserved, MiB: 16},
			{Type: disk.TypeBasicData, Volume: diskmaker.Volume{Kind: "ntfs"}},
			{Type: disk.TypeWinRE, MiB: 990, Volume: diskmaker.Volume{Kind: "ntfs"}},
		},
	}.Build()
	require.NoError(t, err)
	return m
}

func take(t testing.TB, m *diskmaker.Image, variables map[string][]byte) []byte {
	t.Helper()
	d := &capture.Device{ReaderAt: m, Size: m.Size, LogicalSectorSize: m.SectorSize, Bus: "nvme", Model: "Ostra N3",
		Variables: variables}
	manifest, err := capture.Take(t.Context(), d, capture.Taking{Source: "disk.img", Now: time.Unix(1_800_000_000, 0)})
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, capture.WriteCapture(&b, manifest.Manifest, d, variables))
	return b.Bytes()
}

// facts are everything that a check knows of a disk.
func facts(t *testing.T, d *disk.Disk) (disk.Layout, startup.Trace, []startup.Pin) {
	t.Helper()
	c := machine.Examine(d)
	m := machine.Machine{Drives: []machine.Drive{{Name: "b", Role: machine.RoleClone, Contents: c}}}
	return c.Layout, startup.Simulate(m), startup.Pins(m, "b")
}

func TestACaptureGivesTheSameFactsAsItsDisk(t *testing.T) {
	for _, sectorSize := range []int{512, 4096} {
		m := terabyte(t, sectorSize)
		file := take(t, m, nil)
		assert.Less(t, len(file), 8<<20)
		c, err := capture.ReadCapture(bytes.NewReader(file), int64(len(file)))
		require.NoError(t, err)
		defer c.Close()
		assert.Equal(t, m.Size, c.Capacity)
		assert.Equal(t, "Ostra N3", c.Model)
		// The drive may hang on a port with either sector size afterwards.
		for _, seen := range []int{512, 4096} {
			whole, err := disk.New(m, m.Size, seen)
			require.NoError(t, err)
			captured, err := disk.New(c.Sectors, c.Capacity, seen)
			require.NoError(t, err)
			layout, trace, pins := facts(t, whole)
			layout2, trace2, pins2 := facts(t, captured)
			assert.Equal(t, layout, layout2)
			assert.Equal(t, trace, trace2)
			assert.Equal(t, pins, pins2)
		}
	}
}

// Every disk of the demo world, whatever it holds, gives the same facts from its
// capture: tables, volumes, configuration, and what all of that leads to.
func TestCapturesOfEveryDemoDisk(t *testing.T) {
	for _, c := range demo.Cases() {
		for role, decl := range map[string]demo.Drive{"original": c.Original, "clone": c.Clone} {
			if decl.Disk == nil {
				continue
			}
			m, err := decl.Disk()
			require.NoError(t, err)
			file := take(t, m, nil)
			assert.Less(t, len(file), 2<<20, c.Name)
			got, err := capture.ReadCapture(bytes.NewReader(file), int64(len(file)))
			require.NoError(t, err)
			defer got.Close()
			whole, err := disk.New(m, m.Size, m.SectorSize)
			require.NoError(t, err)
			captured, err := disk.New(got.Sectors, got.Capacity, m.SectorSize)
			require.NoError(t, err)
			captured.SetCounts(got.Counts)
			assert.Equal(t, everything(machine.Examine(whole)), everything(machine.Examine(captured)), "%s of %s", role, c.Name)
		}
	}
}

// everything is what a check and the screens take from a disk.
func everything(c *machine.Contents) []any {
	m := machine.Machine{Drives: []machine.Drive{{Name: "b", Role: machine.RoleClone, Contents: c}}}
	out := []any{c.Layout, startup.Simulate(m), machine.References(m), c.Regions()}
	for i := range c.Volumes {
		v := &c.Volumes[i]
		out = append(out, v.Kind, v.Label, v.Serial, v.Used, v.Unclean, v.Hibernated, v.Kernels, v.LegacyManager,
			v.Problems, len(v.Configs), v.Loaders)
	}
	return out
}

func TestACaptureHoldsNoUserData(t *testing.T) {
	m := terabyte(t, 512)
	secret := []byte("a letter that nobody else reads")
	_, err := m.WriteAt(secret, 500<<30)
	require.NoError(t, err)
	file := take(t, m, nil)
	c, err := capture.ReadCapture(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Sectors.ReadAt(make([]byte, len(secret)), 500<<30)
	assert.True(t, disk.IsNotCaptured(err))
	var held int64
	for _, x := range c.Extents {
		held += x.Length
	}
	assert.Less(t, held, int64(1<<20))
}

// archive builds a zip of the given members.
func archive(t testing.TB, members map[string]string) []byte {
	return archived(t, zip.Deflate, members)
}

func archived(t testing.TB, method uint16, members map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, content := range members {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: method})
		require.NoError(t, err)
		_, err = w.Write([]byte(content))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

// Small files that claim much are refused before they take room.
func TestCapturesThatClaimMuch(t *testing.T) {
	manifest := `{"format":"latchkey capture","version":1,"capacity":1125899906842624,"logicalSectorSize":512,"extents":[{"offset":0,"length":%d}]}`
	for want, members := range map[string]map[string]string{
		"sectors.bin: it is larger than 67108864 bytes": {"manifest.json": fmt.Sprintf(manifest, 64<<20+1), "sectors.bin": strings.Repeat("\x00", 64<<20+1)},
		"manifest.json is larger than 8388608 bytes":    {"manifest.json": strings.Repeat(" ", 8<<20+1)},
	} {
		raw := archive(t, members)
		assert.Less(t, len(raw), 128<<10)
		_, err := capture.ReadCapture(bytes.NewReader(raw), int64(len(raw)))
		assert.ErrorContains(t, err, want)
	}
	many := map[string]string{"manifest.json": fmt.Sprintf(manifest, 1), "sectors.bin": "1"}
	for i := range 20 {
		many[fmt.Sprintf("efivars/%d", i)] = strings.Repeat("x", 60<<10)
	}
	file := archive(t, many)
	_, err := capture.ReadCapture(bytes.NewReader(file), int64(len(file)))
	assert.ErrorContains(t, err, "the boot variables have more than 1048576 bytes")
	members := map[string]string{"manifest.json": fmt.Sprintf(manifest, 1), "sectors.bin": "1"}
	for i := range 1001 {
		members[fmt.Sprintf("efivars/%d", i)] = ""
	}
	raw := archive(t, members)
	_, err = capture.ReadCapture(bytes.NewReader(raw), int64(len(raw)))
	assert.ErrorContains(t, err, "1003 members, expected at most 1002")
	for i := range 40_000 {
		members[fmt.Sprintf("x%d", i)] = ""
	}
	raw = archive(t, members)
	_, err = capture.ReadCapture(bytes.NewReader(raw), int64(len(raw)))
	assert.ErrorContains(t, err, "directory is larger than 1048576 bytes")
	// What is larger than memory takes lies in a file, and is read the same.
	big := bytes.Repeat([]byte("latchkey"), 1<<17)
	raw = archive(t, map[string]string{"manifest.json": fmt.Sprintf(manifest, len(big)), "sectors.bin": string(big)})
	c, err := capture.ReadCapture(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	got := make([]byte, 16)
	_, err = c.Sectors.ReadAt(got, int64(len(big))-16)
	require.NoError(t, err)
	assert.Equal(t, "latchkeylatchkey", string(got))
	require.NoError(t, c.Close())
}

func TestDamagedCaptures(t *testing.T) {
	good := `{"format":"latchkey capture","version":1,"capacity":4096,"logicalSectorSize":512,"extents":[{"offset":0,"length":4}]}`
	for want, members := range map[string]map[string]string{
		"there is no manifest.json": {"letter.txt": "hello"},
		"manifest.json: invalid":    {"manifest.json": "hello"},
		`format is "other"`:         {"manifest.json": strings.Replace(good, "latchkey capture", "other", 1)},
		"version is 9":              {"manifest.json": strings.Replace(good, `"version":1`, `"version":9`, 1)},
		"logicalSectorSize is 520":  {"manifest.json": strings.Replace(good, "512", "520", 1)},
		"capacity is -1 bytes":      {"manifest.json": strings.Replace(good, "4096", "-1", 1)},
		"capacity is 9223372036854775807 bytes, expected one sector to 1 PiB": {"manifest.json": strings.Replace(good, "4096", "9223372036854775807", 1), "sectors.bin": "1234"},
		"physicalSectorSize is -1": {"manifest.json": strings.Replace(good, `"capacity"`, `"physicalSectorSize":-1,"capacity"`, 1)},
		"model, bus or source":     {"manifest.json": strings.Replace(good, `"capacity"`, `"bus":"a very long name","capacity"`, 1)},
		"there is no sectors.bin":  {"manifest.json": good},
		"the extents make 4":       {"manifest.json": good, "sectors.bin": "12345"},
		"lies outside the disk":    {"manifest.json": strings.Replace(good, `"offset":0`, `"offset":4095`, 1), "sectors.bin": "1234"},
		"without overlap":          {"manifest.json": strings.Replace(good, `[{`, `[{"offset":0,"length":4},{`, 1), "sectors.bin": "12341234"},
	} {
		raw := archive(t, members)
		_, err := capture.ReadCapture(bytes.NewReader(raw), int64(len(raw)))
		assert.ErrorContains(t, err, want)
	}
	file := take(t, terabyte(t, 512), nil)
	_, err := capture.ReadCapture(bytes.NewReader(file), int64(len(file)/2))
	assert.ErrorContains(t, err, "capture: ")
}

// loadOption encodes a Boot#### variable as efivarfs shows it, by the UEFI
// Specification 2.10, sections 3.1.3 and 10.3.5.
func loadOption(description, file string, partition uint32, guid disk.GUID) []byte {
	le := binary.LittleEndian
	utf := func(s string) []byte {
		var b []byte
		for _, u := range append(utf16.Encode([]rune(s)), 0) {
			b = le.AppendUint16(b, u)
		}
		return b
	}
	hd := le.AppendUint32([]byte{4, 1, 42, 0}, partition)
	hd = le.AppendUint64(le.AppendUint64(hd, 2048), 204800)
	hd = append(append(hd, guid[:]...), 2, 2)
	name := utf(file)
	path := append(hd, 4, 4)
	path = append(le.AppendUint16(path, uint16(4+len(name))), name...)
	path = append(path, 0x7F, 0xFF, 4, 0)
	b := le.AppendUint32([]byte{7, 0, 0, 0}, 1)
	b = le.AppendUint16(b, uint16(len(path)))
	return append(append(b, utf(description)...), path...)
}

const global = "-8be4df61-93ca-11d2-aa0d-00e098032b8c"

func variables() map[string][]byte {
	return map[string][]byte{
		"BootOrder" + global:   {7, 0, 0, 0, 2, 0, 1, 0},
		"BootCurrent" + global: {6, 0, 0, 0, 1, 0},
		"Boot0001" + global:    loadOption("debian", `\EFI\debian\shimx64.efi`, 1, disk.TypeBIOSBoot),
		"Boot0002" + global:    loadOption("Windows Boot Manager", `\EFI\Microsoft\Boot\bootmgfw.efi`, 1, disk.TypeESP),
	}
}

// What efibootmgr says of the variables is what we say of them: two readers of
// ours and an independent one agree.
func TestBootVariablesHeldAgainstEfibootmgr(t *testing.T) {
	dir := t.TempDir()
	for name, raw := range variables() {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), raw, 0o600))
	}
	listing := reference.Run(t, "", "env", "LIBEFIVAR_OPS=efivarfs", "EFIVARFS_PATH="+dir+"/", "efibootmgr", "-v")
	said, err := capture.ParseBootEntries(listing)
	require.NoError(t, err)
	files, err := capture.VariableFiles(dir)
	require.NoError(t, err)
	decoded, err := firmware.DecodeVariables(files)
	require.NoError(t, err)
	assert.Equal(t, []uint16{2, 1}, decoded.Order)
	assert.Equal(t, said.Order, decoded.Order)
	require.Len(t, said.All, 2)
	for n, want := range said.All {
		got := decoded.All[n]
		assert.Equal(t, want.Description, got.Description)
		assert.Equal(t, want.Active, got.Active)
		assert.Equal(t, want.Path, got.Path)
		assert.Equal(t, want.Text, got.Text)
	}
}

func TestDamagedBootVariables(t *testing.T) {
	good := loadOption("x", `\x.efi`, 1, disk.TypeESP)[4:]
	for want, raw := range map[string][]byte{
		"has 3 bytes":              good[:3],
		"does not end":             good[:8],
		"is said to have":          good[:20],
		"breaks off before":        append(append([]byte{}, 1, 0, 0, 0, 2, 0, 'x', 0, 0, 0), 4, 1),
		"node is said to have 2 b": append(append([]byte{}, 1, 0, 0, 0, 4, 0, 'x', 0, 0, 0), 4, 1, 2, 0),
	} {
		_, err := firmware.DecodeLoadOption(7, raw)
		assert.ErrorContains(t, err, want)
	}
	v := variables()
	v["Boot0003"+global] = []byte{1}
	entries, err := firmware.DecodeVariables(v)
	assert.ErrorContains(t, err, "Boot0003")
	assert.Len(t, entries.All, 2, "the others are kept")
}

func TestACaptureAsADrivesFile(t *testing.T) {
	path := machineOf(t, func(d map[string]any) {
		drive0(d)["file"] = "b.lkcap"
		delete(drive0(d), "logicalSectorSize")
		d["firmware"].(map[string]any)["bootEntries"] = "vars"
	})
	dir := filepath.Dir(path)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "vars"), 0o700))
	for name, raw := range variables() {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "vars", name), raw, 0o600))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.lkcap"), take(t, terabyte(t, 512), variables()), 0o600))
	l, err := capture.Load(path)
	require.NoError(t, err)
	require.NotNil(t, l.Firmware.Entries)
	trace := startup.Simulate(l)
	assert.Equal(t, startup.Starts, trace.Verdict, "both entries are stale; the fallback loader is started")
	assert.Len(t, trace.Attempts, 3)
}

func FuzzReadCapture(f *testing.F) {
	manifest, _ := json.Marshal(capture.Manifest{Format: "latchkey capture", Version: 1, Capacity: 4096, LogicalSectorSize: 512,
		Extents: []capture.Extent{{Offset: 0, Length: 4}}})
	f.Add(string(manifest), []byte("1234"))
	f.Fuzz(func(t *testing.T, manifest string, sectors []byte) {
		raw := archived(t, zip.Store, map[string]string{"manifest.json": manifest, "sectors.bin": string(sectors)})
		if c, err := capture.ReadCapture(bytes.NewReader(raw), int64(len(raw))); err == nil {
			_, _ = c.Sectors.ReadAt(make([]byte, 16), 0)
		}
	})
}

func FuzzLoadOption(f *testing.F) {
	f.Add(loadOption("x", `\x.efi`, 1, disk.TypeESP)[4:])
	f.Fuzz(func(_ *testing.T, raw []byte) { _, _ = firmware.DecodeLoadOption(1, raw) })
}

// FuzzArchive reads a file that may be a capture.
func FuzzArchive(f *testing.F) {
	f.Add(archive(f, map[string]string{"manifest.json": "{}", "sectors.bin": "1234", "efivars/BootOrder-8be4df61-93ca-11d2-aa0d-00e098032b8c": "0000"}))
	f.Fuzz(func(_ *testing.T, raw []byte) {
		if c, err := capture.ReadCapture(bytes.NewReader(raw), int64(len(raw))); err == nil {
			c.Close()
		}
	})
}

// FuzzVariables decodes a firmware's variables.
func FuzzVariables(f *testing.F) {
	f.Add([]byte{7, 0, 0, 0, 1, 0}, append([]byte{7, 0, 0, 0}, loadOption("x", `\x.efi`, 1, disk.TypeESP)[4:]...))
	f.Fuzz(func(_ *testing.T, order, option []byte) {
		const vendor = "-8be4df61-93ca-11d2-aa0d-00e098032b8c"
		_, _ = firmware.DecodeVariables(map[string][]byte{"BootOrder" + vendor: order, "Boot0001" + vendor: option, "BootNext" + vendor: order})
	})
}
