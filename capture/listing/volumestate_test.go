package listing_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
)

const (
	guidA = "11111111-2222-3333-4444-555555555555"
	guidB = "66666666-2222-3333-4444-555555555555"
)

func partitionsOn(disk int) string {
	text := ""
	for i, g := range []string{guidA, guidB} {
		text += fmt.Sprintf("DiskNumber      : %d\nPartitionNumber : %d\nDriveLetter     : \nOffset          : %d\nSize            : 1048576\nGuid            : {%s}\n\n", disk, i+1, (i+1)<<20, g)
	}
	return text
}

const mountvol = "Possible values for VolumeName along with current mount points are:\n\n    \\\\?\\Volume{" + guidA + "}\\\n        C:\\\n\n    \\\\?\\Volume{" + guidB + "}\\\n        *** NO MOUNT POINTS ***\n"

// mountvol gives letters to the partitions of its volumes' GUIDs, and fsutil's answer finds
// its volume by the letter. Forms from memory.
func TestLettersAndStateOfVolumes(t *testing.T) {
	l, err := listing.Read("", []byte(partitionsOn(0)+mountvol+"\nVolume - C: is NOT Dirty\n"), "")
	require.NoError(t, err)
	require.Len(t, l.Disks, 1)
	parts := l.Disks[0].Partitions
	assert.Equal(t, "C", parts[0].Letter)
	assert.True(t, parts[1].Unlettered)
	unclean, known := parts[0].Unclean.Get()
	assert.True(t, known)
	assert.False(t, unclean)
	_, known = parts[1].Unclean.Get()
	assert.False(t, known)

	both, err := listing.Read("", []byte(partitionsOn(0)+partitionsOn(1)+mountvol), "")
	require.NoError(t, err)
	for _, d := range both.Disks {
		for _, p := range d.Partitions {
			assert.Empty(t, p.Letter, "a disk and its copy bear the same GUIDs: which has the letter is not told")
		}
	}
	alone, err := listing.Read("", []byte("Volume - D: is Dirty\n"), "")
	require.NoError(t, err)
	assert.Contains(t, alone.Problem, "Get-Partition")
	assert.True(t, strings.Contains(alone.Lines[0].Means, "in which partition it lies is not told"), alone.Lines[0].Means)
}
