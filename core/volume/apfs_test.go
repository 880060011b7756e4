package volume_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

func container() []byte {
	return diskmaker.Container(1000, diskmaker.AppleVolume{Name: "Home", Role: 1, Sealed: true},
		diskmaker.AppleVolume{Name: "Home - Data", Role: 0x40}, diskmaker.AppleVolume{Name: "Preboot", Role: 0x10})
}

// Apple File System Reference: roles, the seal, the newest checkpoint.
func TestTheVolumesOfAContainer(t *testing.T) {
	t.Parallel()
	raw := container()
	a := volume.ReadAPFS(bytes.NewReader(raw))
	require.False(t, a.Open)
	require.Len(t, a.Volumes, 3)
	assert.Equal(t, volume.AppleVolume{Name: "Home", UUID: "01000000-0000-0000-0000-000000000000", Role: volume.RoleSystem, Sealed: true},
		a.Volumes[0])
	assert.Len(t, a.Of(volume.RolePreboot), 1)
	assert.False(t, a.Volumes[1].Sealed)

	// What is damaged leaves the container open, and never with fewer volumes for certain.
	for block := 1; block < 8; block++ {
		spoilt := bytes.Clone(raw)
		spoilt[block*4096+100] ^= 1
		a := volume.ReadAPFS(bytes.NewReader(spoilt))
		assert.True(t, a.Open || len(a.Volumes) == 3, "block %d: %+v", block, a)
	}
	for name, change := range map[string]func(b []byte){
		"blocks of no power of two": func(b []byte) { b[36], b[37] = 1, 0x10 },
		"blocks too long":           func(b []byte) { b[38] = 0x10 },
		"more blocks than can be":   func(b []byte) { b[46] = 0xFF },
		"checkpoints in a tree":     func(b []byte) { b[107] = 0x80 },
		"no checkpoints":            func(b []byte) { b[104] = 0 },
	} {
		spoilt := bytes.Clone(raw)
		change(spoilt)
		assert.True(t, volume.ReadAPFS(bytes.NewReader(spoilt)).Open, name)
	}
	assert.True(t, volume.ReadAPFS(bytes.NewReader(raw[:4095])).Open)
	assert.True(t, volume.ReadAPFS(bytes.NewReader(raw[:5*4096])).Open, "volumes that are cut off")
}

// A container of another program is read as another reader reads it.
func TestAContainerOfAnotherProgram(t *testing.T) {
	t.Parallel()
	reference.Need(t, "mkapfs", "fsapfsinfo")
	file := filepath.Join(t.TempDir(), "container")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Truncate(file, 600<<20))
	made, err := exec.Command("mkapfs", "-L", "Some Volume", file).CombinedOutput()
	require.NoError(t, err, "%s", made)
	said, err := exec.Command("fsapfsinfo", file).CombinedOutput()
	require.NoError(t, err, "%s", said)
	ids := regexp.MustCompile(`(?i)identifier\s*: ([0-9a-f-]{36})`).FindAllSubmatch(said, -1)
	require.Len(t, ids, 2, "%s", said)
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	a := volume.ReadAPFS(f)
	require.False(t, a.Open)
	require.Len(t, a.Volumes, 1)
	assert.Equal(t, "Some Volume", a.Volumes[0].Name)
	assert.Equal(t, string(bytes.ToUpper(ids[1][1])), a.Volumes[0].UUID)
	assert.Equal(t, volume.RoleNone, a.Volumes[0].Role)
}

// Technical Note TN1150, "Volume Header": finderInfo[0], and [5].
func TestTheBlessedFolder(t *testing.T) {
	t.Parallel()
	raw := make([]byte, 2048)
	assert.Equal(t, &volume.Apple{}, volume.ReadBlessed(bytes.NewReader(raw)))
	raw[1024+103] = 9
	assert.Equal(t, uint32(9), volume.ReadBlessed(bytes.NewReader(raw)).Blessed)
	raw[1024+83] = 7
	assert.Equal(t, uint32(7), volume.ReadBlessed(bytes.NewReader(raw)).Blessed)
	assert.True(t, volume.ReadBlessed(bytes.NewReader(raw[:1200])).Open)
}

func FuzzAPFS(f *testing.F) {
	f.Add(container())
	f.Fuzz(func(t *testing.T, raw []byte) {
		assert.LessOrEqual(t, len(volume.ReadAPFS(bytes.NewReader(raw)).Volumes), volume.MaxAppleVolumes)
	})
}
