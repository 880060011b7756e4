package capture_test

import (
	"bytes"
	"crypto/sha256"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
)

func TestWhatIsMadeAStick(t *testing.T) {
	usb := capture.Device{Size: 8e9, Bus: "usb"}
	const image = 120 << 20
	assert.NoError(t, usb.FitForStick("x", image, true))
	card := usb
	card.Bus = "sd"
	assert.NoError(t, card.FitForStick("x", image, true))
	for says, d := range map[string]capture.Device{
		"runs from it": {Size: 8e9, Bus: "usb", Running: true}, "is on nvme": {Size: 8e9, Bus: "nvme"},
		"does not tell": {Size: 8e9}, "larger stick": {Size: 64e6, Bus: "usb"},
	} {
		assert.ErrorContains(t, d.FitForStick("x", image, true), says)
	}
	file := capture.Device{Size: 8e9}
	assert.NoError(t, file.FitForStick("x", image, false), "an image of a stick hangs nowhere")
	for _, size := range []int64{0, 5, image + 512} {
		assert.ErrorContains(t, usb.FitForStick("x", size, true), "whole MiB")
	}
	for typed, good := range map[string]bool{"8": true, "8 GB": true, " 8gb\n": true, "7": false, "": false, "8000": false, "GB": false} {
		assert.Equal(t, good, capture.ConfirmsCapacity(typed, 8_000_110_592), typed)
	}
	assert.True(t, capture.ConfirmsCapacity("201 MB", 201_326_592))
}

// The image comes whole, what lies behind it stays, and a drive that gives other bytes back is
// told.
func TestAStickIsWritten(t *testing.T) {
	image := make([]byte, 5<<20)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range image {
		image[i] = byte(r.Uint32())
	}
	path := filepath.Join(t.TempDir(), "drive")
	before := bytes.Repeat([]byte{0xA5}, 7<<20)
	require.NoError(t, os.WriteFile(path, before, 0o600))
	var last int64
	sum, err := capture.MakeStick(bytes.NewReader(image), int64(len(image)), path, func(done int64) { last = done })
	require.NoError(t, err)
	assert.Equal(t, sha256.Sum256(image), sum)
	assert.EqualValues(t, 4<<20, last)
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(image, after[:len(image)]))
	assert.True(t, bytes.Equal(before[len(image):], after[len(image):]))

	_, err = capture.MakeStick(bytes.NewReader(image), int64(len(image)), filepath.Join(t.TempDir(), "none"), nil)
	assert.ErrorIs(t, err, os.ErrNotExist)
	if _, there := os.Stat("/dev/full"); there == nil {
		_, err = capture.MakeStick(bytes.NewReader(image), int64(len(image)), "/dev/full", func(int64) {})
		assert.ErrorContains(t, err, "no space")
	}
}
