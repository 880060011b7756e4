package volume_test

import (
	"bytes"
	"compress/zlib"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/volume"
)

// An extent may hold less than its block: the file was shorter when it was packed, and the rest
// of the block is zeros, packed and unpacked. Seen on a machine that was short of memory.
func TestAnExtentThatHoldsLessThanItsBlock(t *testing.T) {
	text := bytes.Repeat([]byte("a line that packs well\n"), 40)
	var zlibbed bytes.Buffer
	w := zlib.NewWriter(&zlibbed)
	_, err := w.Write(text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	encoder, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	for packing, packed := range map[byte][]byte{volume.PackedByZlib: zlibbed.Bytes(),
		volume.PackedByZstd: encoder.EncodeAll(text, nil)} {
		for _, padding := range []int{0, 1, 4, 4096 - len(packed)} {
			out := make([]byte, 4096)
			require.NoError(t, volume.Unpack(packing, append(bytes.Clone(packed), make([]byte, padding)...), out),
				"%d zeros", padding)
			assert.Equal(t, text, out[:len(text)])
			assert.Equal(t, make([]byte, 4096-len(text)), out[len(text):])
		}
		assert.Error(t, volume.Unpack(packing, make([]byte, 4096), make([]byte, 4096)), "nothing is packed there")
		broken := append(bytes.Clone(packed[:6]), bytes.Repeat([]byte{0xA5}, 4000)...)
		assert.Error(t, volume.Unpack(packing, broken, make([]byte, 4096)))
	}
}
