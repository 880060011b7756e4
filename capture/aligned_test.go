package capture

import (
	"bytes"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// strict refuses reads that are not whole blocks, as raw disks do on Windows.
type strict struct{ data []byte }

var errNotAligned = errors.New("not aligned")

func (s strict) ReadAt(p []byte, off int64) (int, error) {
	if off%alignment != 0 || len(p)%alignment != 0 {
		return 0, errNotAligned
	}
	return bytes.NewReader(s.data).ReadAt(p, off)
}

func TestAlignedReads(t *testing.T) {
	data := make([]byte, 3*alignment+512)
	for i := range data {
		data[i] = byte(i * 7)
	}
	a := &aligned{strict{data}}
	for _, c := range []struct{ off, n int }{{0, 512}, {510, 2}, {alignment - 1, 2}, {100, 2 * alignment},
		{3 * alignment, 512}} {
		p := make([]byte, c.n)
		n, err := a.ReadAt(p, int64(c.off))
		require.NoError(t, err)
		assert.Equal(t, c.n, n)
		assert.Equal(t, data[c.off:c.off+c.n], p)
	}
	n, err := a.ReadAt(make([]byte, 1024), 3*alignment)
	assert.Equal(t, 512, n, "what is there is read")
	assert.ErrorIs(t, err, io.EOF)
	_, err = a.ReadAt(make([]byte, 10), 10*alignment)
	assert.Error(t, err)
}
