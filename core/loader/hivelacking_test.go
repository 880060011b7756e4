package loader_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/loader"
)

// lackingHive is a hive of which some bytes cannot be read.
type lackingHive struct {
	raw      []byte
	from, to int64
}

func (l *lackingHive) ReadAt(b []byte, off int64) (int, error) {
	if off < l.to && off+int64(len(b)) > l.from {
		return 0, errors.New("input/output error")
	}
	return bytes.NewReader(l.raw).ReadAt(b, off)
}

func smallRegistry(t *testing.T) []byte {
	t.Helper()
	lines := []string{key("Select"), `"Current"=dword:00000001`, key("ControlSet001"), key(`ControlSet001\Services`),
		key(`ControlSet001\Control`), `"PortableOperatingSystem"=dword:00000001`}
	for _, name := range []string{"storahci", "stornvme", "pciide", "USBSTOR", "disk", "Ärger"} {
		lines = append(lines, key(`ControlSet001\Services\`+name), `"Start"=dword:00000000`)
	}
	return registry(t, append(lines, key(`ControlSet001\Services\stornvme\StartOverride`), `"0"=dword:00000003`,
		key("MountedDevices"), `"\\DosDevices\\C:"=hex:fe,ca,00,00,00,00,10,00,00,00,00,00`)...)
}

// Of a hive of which any one sector cannot be read all is told as of the whole, or nothing.
func TestAHiveThatLacksASector(t *testing.T) {
	raw := smallRegistry(t)
	whole, err := loader.ReadSystemHive(bytes.NewReader(raw))
	require.NoError(t, err)
	require.True(t, whole.Portable)
	failed := 0
	for at := int64(0); at < int64(len(raw)); at += 64 {
		less, err := loader.ReadSystemHive(&lackingHive{raw, at, at + 64})
		if err != nil {
			failed++
			continue
		}
		assert.Equal(t, whole, less, "without the bytes from %d", at)
	}
	assert.Greater(t, failed, 20)
}

// The older kinds of lists of keys: lf has the names' first letters as hints, li none. The layouts as in
// hive.go.
func TestOlderListsOfKeys(t *testing.T) {
	raw := smallRegistry(t)
	whole, err := loader.ReadSystemHive(bytes.NewReader(raw))
	require.NoError(t, err)
	le := binary.LittleEndian
	for _, kind := range []string{"lf", "li"} {
		older, lists := bytes.Clone(raw), 0
		for at := 4096 + 32; at+8 < len(older); at += 8 {
			list := older[at+4:]
			if string(list[:2]) != "lh" && string(list[:2]) != "lf" {
				continue
			}
			lists++
			n := int(le.Uint16(list[2:]))
			copy(list, kind)
			for i := range n {
				child := le.Uint32(list[4+8*i:])
				if kind == "li" {
					le.PutUint32(list[4+4*i:], child)
					continue
				}
				hint := list[8+8*i : 12+8*i]
				clear(hint)
				nameAt := 4096 + int(child) + 4 + 76
				if older[4096+child+4+2]&0x20 != 0 { // of single bytes
					copy(hint, older[nameAt:nameAt+min(4, int(le.Uint16(older[nameAt-4:])))])
				}
			}
		}
		require.Positive(t, lists)
		got, err := loader.ReadSystemHive(bytes.NewReader(older))
		require.NoError(t, err, kind)
		assert.Equal(t, whole, got, kind)
	}
}
