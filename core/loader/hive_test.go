package loader_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// registry makes a hive by hivex, an independent reader and writer of the format, out of
// what would be merged on a running Windows.
func registry(t *testing.T, lines ...string) []byte {
	t.Helper()
	reference.Need(t, "hivexregedit")
	path := filepath.Join(t.TempDir(), "SYSTEM")
	require.NoError(t, os.WriteFile(path, (&diskmaker.Key{}).Bytes(), 0o600))
	text := "Windows Registry Editor Version 5.00\n" + strings.ReplaceAll("\n"+strings.Join(lines, "\n"), "\n[", "\n\n[") + "\n"
	merge := filepath.Join(t.TempDir(), "merge.reg")
	require.NoError(t, os.WriteFile(merge, []byte(text), 0o600))
	reference.Run(t, "", "hivexregedit", "--merge", "--prefix", `HKEY_LOCAL_MACHINE\SYSTEM`, path, merge)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	return raw
}

func key(path string) string { return `[HKEY_LOCAL_MACHINE\SYSTEM\` + path + "]" }

func TestTheRegistryOfASystem(t *testing.T) {
	lines := []string{key("Select"), `"Current"=dword:00000002`, key("ControlSet001"), key(`ControlSet001\Services`),
		key("ControlSet002"), key(`ControlSet002\Services`), key(`ControlSet002\Control`), `"PortableOperatingSystem"=dword:00000000`}
	for i := range 700 { // as many services as a system has
		lines = append(lines, key(fmt.Sprintf(`ControlSet002\Services\Driver%03d`, i)), `"Start"=dword:00000003`, `"ImagePath"="system32\\drivers\\x.sys"`)
	}
	lines = append(lines, key(`ControlSet002\Services\stornvme`), `"Start"=dword:00000000`, key(`ControlSet002\Services\stornvme\StartOverride`), `"0"=dword:00000003`,
		key(`ControlSet002\Services\storahci`), `"Start"=dword:00000000`, key(`ControlSet001\Services\iaStorV`), `"Start"=dword:00000000`,
		key("MountedDevices"), `"\\DosDevices\\C:"=hex:fe,ca,00,00,00,00,10,00,00,00,00,00`,
		`"\\DosDevices\\D:"=hex:44,4d,49,4f,3a,49,44,3a,01,02,03,04,05,06,07,08,09,0a,0b,0c,0d,0e,0f,10`, `"\\DosDevices\\E:"=hex:5c,00,3f,00`)
	raw := registry(t, lines...)
	s, err := loader.ReadSystemHive(bytes.NewReader(raw))
	require.NoError(t, err)
	assert.Equal(t, "ControlSet002", s.Control)
	assert.False(t, s.Portable)
	assert.True(t, s.Services["storahci"].AtStart())
	nvme := s.Services["stornvme"]
	assert.False(t, nvme.AtStart())
	assert.Equal(t, uint32(3), nvme.Override)
	assert.NotContains(t, s.Services, "iaStorV", "another control set's")
	assert.Equal(t, []byte{0, 0, 0, 0}, raw[nvme.Offset:nvme.Offset+4])
	c := s.Letters["C:"]
	assert.Equal(t, uint32(0xCAFE), c.Signature)
	assert.Equal(t, uint64(1<<20), c.Start)
	assert.Equal(t, byte(0xFE), raw[c.Offset])
	assert.Equal(t, disk.GUID{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16}, s.Letters["D:"].Partition)
	assert.NotContains(t, s.Letters, "E:")
	assert.Less(t, touched(t, raw), int64(160<<10), "of a hive of %d bytes little is read", len(raw))

	for says, damage := range map[string]func(b []byte){
		"expected regf": func(b []byte) { b[0] = 'x' },
		"the checksum":  func(b []byte) { b[40] ^= 1 },
		"not in the":    func(b []byte) { copy(b[bytes.Index(b, []byte("Select")):], "Selekt") },
		"of keys":       func(b []byte) { copy(b[bytes.LastIndex(b, []byte("lh")):], "xx") },
	} {
		broken := bytes.Clone(raw)
		damage(broken)
		if _, err := loader.ReadSystemHive(bytes.NewReader(broken)); says == "of keys" {
			continue // which list it was is chance: it must end
		} else {
			assert.ErrorContains(t, err, says)
		}
	}
}

// counting counts what is read.
type counting struct {
	*bytes.Reader
	bytes int64
}

func (c *counting) ReadAt(b []byte, off int64) (int, error) {
	c.bytes += int64(len(b))
	return c.Reader.ReadAt(b, off)
}

func touched(t *testing.T, raw []byte) int64 {
	t.Helper()
	c := &counting{Reader: bytes.NewReader(raw)}
	_, err := loader.ReadSystemHive(c)
	require.NoError(t, err)
	return c.bytes
}

func FuzzSystemHive(f *testing.F) {
	sound := (&diskmaker.Key{Keys: map[string]*diskmaker.Key{
		"Select": {Values: map[string]diskmaker.Value{"Current": {Type: 4, Data: []byte{1, 0, 0, 0}}}},
		"ControlSet001": {Keys: map[string]*diskmaker.Key{"Services": {Keys: map[string]*diskmaker.Key{
			"stornvme": {Values: map[string]diskmaker.Value{"Start": {Type: 4, Data: []byte{0, 0, 0, 0}}}}}}}},
		"MountedDevices": {Values: map[string]diskmaker.Value{`\DosDevices\C:`: {Type: 3, Data: make([]byte, 12)}}},
	}}).Bytes()
	f.Add(sound, 4100, byte(0))
	f.Fuzz(func(t *testing.T, raw []byte, at int, change byte) {
		if len(raw) > 1<<20 {
			return
		}
		if at >= 0 && at < len(raw) {
			raw = bytes.Clone(raw)
			raw[at] ^= change
		}
		s, err := loader.ReadSystemHive(bytes.NewReader(raw))
		if err == nil && s == nil {
			t.Fatal("neither a hive nor an error")
		}
	})
}
