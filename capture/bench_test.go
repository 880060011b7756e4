package capture_test

import (
	"bytes"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/machine"
)

// BenchmarkCapture takes a capture of a 1 TB sparse image file.
func BenchmarkCapture(b *testing.B) {
	path := filepath.Join(b.TempDir(), "disk.img")
	require.NoError(b, terabyte(b, 512).WriteFile(path))
	var size int
	for b.Loop() {
		d, err := capture.OpenDevice(path)
		require.NoError(b, err)
		m, err := capture.Take(b.Context(), d, capture.Taking{Source: "disk.img", SectorSize: 512, Now: time.Now()})
		require.NoError(b, err)
		var out bytes.Buffer
		require.NoError(b, capture.WriteCapture(&out, m.Manifest, d, nil))
		size = out.Len()
		require.NoError(b, d.Close())
	}
	b.ReportMetric(float64(size), "file-bytes")
}

// BenchmarkReadCapture opens a capture and examines its disk.
func BenchmarkReadCapture(b *testing.B) {
	file := take(b, terabyte(b, 512), nil)
	for b.Loop() {
		c, err := capture.ReadCapture(bytes.NewReader(file), int64(len(file)))
		require.NoError(b, err)
		d, err := disk.New(c.Sectors, c.Capacity, 512)
		require.NoError(b, err)
		if len(machine.Examine(d).Volumes) != 4 {
			b.Fatal("the partitions were not found")
		}
	}
}
