package linux_test

import (
	"fmt"
	"latchkey/core/startup"
	"latchkey/internal/reference"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A root that was made larger lies in two pieces, with another volume between them: it is read
// through, and what is cited stands where it is said to stand.
func TestARootInTwoPieces(t *testing.T) {
	n := newNested(t, groupPrefix, "/dev/mapper/kiosk--vg-root")
	l := n.lvm()
	l.Group("kiosk-vg", "root=40M", "data=60M")
	l.Run("lvextend", "-L", "120M", "kiosk-vg/root")
	ranges := strings.Fields(l.Run("lvs", "--segments", "--noheadings", "-o", "seg_pe_ranges", "kiosk-vg/root"))
	l.Detach()
	require.Len(t, ranges, 2)
	tree := n.tree("")
	filler := make([]byte, 70<<20)
	for i := range filler {
		filler[i] = byte(i>>8) | 1
	}
	for _, name := range []string{"aaa", "boot/grub/aaa"} { // what is behind it lies in the second piece
		require.NoError(t, os.WriteFile(filepath.Join(tree, name), filler[:35<<20], 0o600))
	}
	volume := filepath.Join(t.TempDir(), "volume")
	reference.Run(t, "", "mkfs.ext4", "-q", "-F", "-b", "1024", "-O", "^flex_bg", "-U", innerUUID, "-d", tree, volume, "120M")
	raw, err := os.ReadFile(volume)
	require.NoError(t, err)
	at := 0
	for _, r := range ranges {
		var first, last int
		_, err := fmt.Sscanf(r[strings.LastIndexByte(r, ':')+1:], "%d-%d", &first, &last)
		require.NoError(t, err)
		length := (last - first + 1) * 4 << 20
		n.write(raw[at:at+length], 1<<20+int64(first)*4<<20)
		at += length
	}
	require.Equal(t, len(raw), at)
	trace := n.starts(startup.Starts, "Linux comes up")
	disk, err := os.ReadFile(n.path)
	require.NoError(t, err)
	cited := 0
	for _, s := range trace.Attempts[0].Steps {
		for _, f := range s.Facts {
			if f.Source.Structure == "/boot/grub/grub.cfg" && f.Source.Length > 0 {
				text := string(disk[f.Source.Offset : f.Source.Offset+f.Source.Length])
				assert.Contains(t, text, "root=/dev/mapper/kiosk--vg-root", f.Label)
				cited++
			}
		}
	}
	assert.Positive(t, cited)
}
