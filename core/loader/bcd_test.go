package loader_test

import (
	"encoding/binary"
	"encoding/hex"
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

// Stores written by the independent hivex tools into an empty hive, read by us,
// and stores written by us, read by hivex.

var (
	bootGUID = disk.MustGUID("5D0B7E8C-21F4-4C7A-8F5D-0E6B6E6A1C01")
	sysGUID  = disk.MustGUID("A1C9E6B2-0B52-4C0D-B3C7-6D1D2F4E8802")
	diskGUID = disk.MustGUID("7E21B6D0-4C1A-4F0B-9A55-3C5A19E00071")
)

// mergedStore merges a registry text into an empty hive.
func mergedStore(t *testing.T, reg string) []byte {
	t.Helper()
	path := filepath.Join(t.TempDir(), "BCD")
	require.NoError(t, os.WriteFile(path, (&diskmaker.Key{}).Bytes(), 0o600))
	reference.Run(t, reg, "hivexregedit", "--merge", "--prefix", `HKEY_LOCAL_MACHINE\BCD00000000`, path)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	return raw
}

const regHead = "Windows Registry Editor Version 5.00\n\n"

func regObject(id string, kind uint32, elements map[uint32]string) string {
	base := `[HKEY_LOCAL_MACHINE\BCD00000000\Objects`
	text := fmt.Sprintf("%s]\n\n%s\\%s]\n\n%s\\%s\\Description]\n\"Type\"=dword:%08x\n\n%s\\%s\\Elements]\n\n", base, base, id, base, id, kind, base, id)
	for kind, value := range elements {
		text += fmt.Sprintf("%s\\%s\\Elements\\%08x]\n\"Element\"=%s\n\n", base, id, kind, value)
	}
	return text
}

func regHex(kind string, b []byte) string {
	return kind + strings.TrimSuffix(strings.Join(chunks(hex.EncodeToString(b)), ","), ",")
}

func chunks(s string) (out []string) {
	for ; len(s) > 1; s = s[2:] {
		out = append(out, s[:2])
	}
	return out
}

func utf16le(s string) []byte {
	var b []byte
	for _, c := range s {
		b = append(b, byte(c), 0)
	}
	return b
}

// device lays a partition's device element out as it stands in stores (start-rules,
// section 7): no published source.
func device(gpt bool) []byte {
	b := make([]byte, 88)
	b[0x10], b[0x18] = 6, 0x48
	if gpt {
		copy(b[0x20:], sysGUID[:])
		copy(b[0x38:], diskGUID[:])
		return b
	}
	copy(b[0x20:], []byte{0x00, 0x00, 0x10, 0x00}) // byte 1,048,576
	b[0x34] = 1
	copy(b[0x38:], []byte{0xDE, 0xC0, 0x17, 0x5A})
	return b
}

const loaderID = "{0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}"

func TestStoresWrittenByHivex(t *testing.T) {
	for name, gpt := range map[string]bool{"GPT": true, "MBR": false} {
		t.Run(name, func(t *testing.T) {
			raw := mergedStore(t, regHead+
				regObject(loader.BootManager, 0x10100002, map[uint32]string{
					loader.ElementDefault:      `"` + loaderID + `"`,
					loader.ElementDisplayOrder: regHex("hex(7):", utf16le(loaderID+"\x00\x00")),
					loader.ElementTimeout:      "hex:1e,00,00,00,00,00,00,00",
				})+
				regObject(loaderID, 0x10200003, map[uint32]string{
					loader.ElementDevice: regHex("hex:", device(gpt)), loader.ElementOSDevice: regHex("hex:", device(gpt)),
					loader.ElementPath: `"\\Windows\\system32\\winload.efi"`, loader.ElementSystemRoot: `"\\Windows"`,
				}))
			s, err := loader.ReadStore(raw)
			require.NoError(t, err)
			assert.False(t, s.Dirty)
			o, ok := s.Default()
			require.True(t, ok)
			assert.Equal(t, loaderID, o.ID)
			assert.Equal(t, "Windows Boot Loader", o.What())
			path, _ := o.Element(loader.ElementPath)
			assert.Equal(t, `\Windows\system32\winload.efi`, path.Text)
			e, ok := o.Element(loader.ElementOSDevice)
			require.True(t, ok)
			assert.Equal(t, device(gpt), raw[e.Offset:e.Offset+e.Length], "the value stands where it is said to")
			assert.Equal(t, !gpt, e.Device.MBR)
			if gpt {
				assert.Equal(t, sysGUID, e.Device.Partition)
				assert.Equal(t, diskGUID, e.Device.Disk)
			} else {
				assert.EqualValues(t, 1<<20, e.Device.Start)
				assert.EqualValues(t, 0x5A17C0DE, e.Device.Signature)
			}
			m, _ := s.Object(loader.BootManager)
			timeout, _ := m.Element(loader.ElementTimeout)
			assert.EqualValues(t, 30, *timeout.Number)
			order, _ := m.Element(loader.ElementDisplayOrder)
			assert.Equal(t, []string{loaderID}, order.IDs)
		})
	}
}

func TestOurStoresAreReadByHivex(t *testing.T) {
	raw := diskmaker.BootStore{Boot: diskmaker.Place{Partition: bootGUID, Disk: diskGUID},
		System: diskmaker.Place{Partition: sysGUID, Disk: diskGUID}}.Bytes()
	path := filepath.Join(t.TempDir(), "BCD")
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	listing := reference.Run(t, "", "hivexregedit", "--export", "--prefix", "BCD", path, `\Objects`)
	assert.Contains(t, strings.ToLower(listing), `elements\21000001]`)
	s, err := loader.ReadStore(raw)
	require.NoError(t, err)
	o, ok := s.Default()
	require.True(t, ok)
	e, _ := o.Element(loader.ElementOSDevice)
	assert.Contains(t, strings.ReplaceAll(listing, "\\\n  ", ""),
		strings.Join(chunks(hex.EncodeToString(raw[e.Offset:e.Offset+e.Length])), ","))
	assert.Equal(t, sysGUID, e.Device.Partition)
}

func TestDamagedStores(t *testing.T) {
	sound := diskmaker.BootStore{System: diskmaker.Place{Partition: sysGUID}}.Bytes()
	spoil := func(at int, b byte) []byte {
		c := append([]byte{}, sound...)
		c[at] = b
		return c
	}
	_, err := loader.ReadStore([]byte("regf"))
	assert.ErrorContains(t, err, "expected regf")
	_, err = loader.ReadStore(spoil(100, 1))
	assert.ErrorContains(t, err, "checksum")
	_, err = loader.ReadStore(spoil(4096+int(binary.LittleEndian.Uint32(sound[36:]))+4, 'x')) // the root key
	assert.ErrorContains(t, err, "no key Objects")
	dirty := spoil(4, 2)
	dirty[508] ^= 3 // the checksum follows
	s, err := loader.ReadStore(dirty)
	require.NoError(t, err)
	assert.True(t, s.Dirty)
}

func TestDeviceElements(t *testing.T) {
	boot := make([]byte, 0x20)
	boot[0x10] = 5
	d, err := loader.DecodeDevice(boot)
	require.NoError(t, err)
	assert.Equal(t, "boot", d.String())
	_, err = loader.DecodeDevice(device(true)[:0x30])
	assert.ErrorContains(t, err, "72")
	_, err = loader.DecodeDevice(nil)
	assert.Error(t, err)
}

func FuzzReadStore(f *testing.F) {
	sound := diskmaker.BootStore{System: diskmaker.Place{Partition: sysGUID}}.Bytes()
	f.Add([]byte{})
	f.Add([]byte{0x10, 0x24, 0xFF})
	f.Fuzz(func(t *testing.T, changes []byte) {
		raw := append([]byte{}, sound...)
		for ; len(changes) >= 3; changes = changes[3:] {
			at := (int(changes[0])<<8 | int(changes[1])) % len(raw)
			if at < 4 || at >= 512 { // else it ends at the header's checksum
				raw[at] = changes[2]
			}
		}
		_, _ = loader.ReadStore(raw)
	})
}

// FuzzDecodeDevice decodes the description of a device in a store.
func FuzzDecodeDevice(f *testing.F) {
	f.Add(device(true))
	f.Add(device(false))
	f.Fuzz(func(_ *testing.T, raw []byte) { _, _ = loader.DecodeDevice(raw) })
}
