package capture

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The layout of STORAGE_DEVICE_DESCRIPTOR as the system's documentation gives it,
// winioctl.h; the values are invented.
func TestWhatWindowsTellsOfADrive(t *testing.T) {
	raw := make([]byte, 1024)
	le := binary.LittleEndian
	for at, v := range map[int]uint32{0: 40, 4: 120, 12: 40, 16: 50, 20: 0, 24: 80, 28: 17} {
		le.PutUint32(raw[at:], v)
	}
	copy(raw[40:], "TERN    \x00")
	copy(raw[50:], "KIOSK 512\x00")
	copy(raw[80:], "   S-0042\x01 \x00")
	bus, model, serial := storageDescriptor(raw)
	assert.Equal(t, []string{"nvme", "TERN KIOSK 512", "S-0042"}, []string{bus, model, serial})
	for n := range raw { // cut short, or with offsets that lead outside
		short := raw[:n]
		assert.NotPanics(t, func() { storageDescriptor(short) })
	}
	for _, at := range []int{12, 16, 24} {
		le.PutUint32(raw[at:], 0xFFFFFFFF)
	}
	bus, model, serial = storageDescriptor(raw)
	assert.Equal(t, []string{"nvme", "", ""}, []string{bus, model, serial})
}

// The page of a unit's serial number: SPC-4, 7.8.15.
func TestTheSerialNumberOfAUnit(t *testing.T) {
	for want, raw := range map[string]string{
		"S-0042": "\x00\x80\x00\x0A    S-0042",
		"S-00":   "\x00\x80\x00\x04S-0042",
		"S":      "\x00\x80\xFF\xFFS",
		"":       "\x00\x83\x00\x04S-00",
	} {
		assert.Equal(t, want, unitSerial([]byte(raw)))
	}
	assert.Empty(t, unitSerial(nil))
}

func captured(serial, id string) *Captured {
	return &Captured{Manifest: Manifest{Capacity: 1 << 20, LogicalSectorSize: 512, Serial: serial, DiskID: id}}
}

// An image has no serial number: what is known of the saved one decides, and being
// sure helps only where nothing tells.
func TestWhichDiskSectorsGoBackTo(t *testing.T) {
	path := filepath.Join(t.TempDir(), "image")
	raw := make([]byte, 1<<20)
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	assert.ErrorContains(t, captured("", "").sameDisk(path, false), "Give --same-disk")
	assert.NoError(t, captured("", "").sameDisk(path, true))
	copy(raw[440:], "\x44\x33\x22\x11")
	copy(raw[446:], "\x80\x00\x00\x00\x07\x00\x00\x00\x08\x00\x00\x00\x08\x00\x00\x00")
	copy(raw[510:], "\x55\xAA")
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	assert.NoError(t, captured("S1", "11223344").sameDisk(path, false))
	assert.ErrorContains(t, captured("S1", "99999999").sameDisk(path, false), "has the identifier 11223344")
	assert.NoError(t, captured("S1", "99999999").sameDisk(path, true))
	other := captured("", "11223344")
	other.Capacity += 512
	assert.ErrorContains(t, other.sameDisk(path, true), "it is another disk")
}
