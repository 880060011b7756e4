package repair_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/realmode"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

// What mkfs.fat(8) and mkntfs(8) write into a boot sector says that the disk cannot be
// started from: no plan marks such a partition active, and none puts such a sector back.
func TestAFileSystemsDummyIsNoStart(t *testing.T) {
	for _, tool := range [][]string{{"mkfs.fat", "-F", "32"}, {"mkntfs", "-F", "-Q", "-q", "-H", "255", "-S", "63", "-p", "2048"}} {
		t.Run(tool[0], func(t *testing.T) {
			d := sample.MBRDisk("classic")
			for i := range d.Partitions {
				d.Partitions[i].Active = false
			}
			image := d.MustBuild()
			first := sample.Examine(t, image).Layout.Partitions[0]
			path := reference.Image(t, disk.Span(first.Length, 512))
			reference.Run(t, "", tool[0], append(tool[1:], path)...)
			made, err := os.ReadFile(path)
			require.NoError(t, err)
			_, err = image.WriteAt(made, disk.Span(first.Start, 512))
			require.NoError(t, err)
			c := sample.Examine(t, image)
			require.NotNil(t, c.Volumes[0].Alone)
			message, says := c.Volumes[0].Alone.Complaint()
			assert.True(t, says, message)
			assert.NotEqual(t, realmode.Lacks, c.Volumes[0].Alone.End)

			m := machineOf(t, firmware.Legacy, image)
			c = m.Drives[0].Contents
			active := m
			active.Drives = []machine.Drive{m.Drives[0]}
			active.Drives[0].Contents = c.WithActive(0)
			assert.Equal(t, startup.Stops, startup.Simulate(active).Reaches)
			for _, step := range repair.Find(m).Steps {
				assert.NotContains(t, step.Title, "partition 1 active")
			}
		})
	}
}
