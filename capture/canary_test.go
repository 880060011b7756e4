package capture_test

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/reference"
)

const canary = "CANARY-OF-A-PERSON"

// aviary makes a disk full of canaries with Debian's tools: a volume of each kind that is
// read, with boot files between files that are nobody's business.
func aviary(t *testing.T) string {
	t.Helper()
	path := reference.Image(t, 1280<<20)
	reference.Run(t, "label: gpt\nstart=2048, size=131072, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B\nstart=133120, size=131072, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n"+
		"start=264192, size=131072, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\nstart=395264, size=131072, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n"+
		"start=526336, size=819200, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\nstart=1345536, size=819200, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n", "sfdisk", "-q", path)
	folder := t.TempDir()
	song := func(i int) []byte { return []byte(strings.Repeat(canary+"\n", 1+i*i%40)) }
	file := func(name string, content []byte) string {
		at := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, content, 0o600))
		return at
	}
	const birds = 40
	for i := range birds {
		file(fmt.Sprintf("bird-%02d.txt", i), song(i))
		file(fmt.Sprintf("boot/bird-%02d.txt", i), song(i))
	}
	config := file("boot/grub/grub.cfg", []byte("menuentry 'Debian' {\n linux /boot/vmlinuz root=UUID=1\n}\n"))
	file("boot/vmlinuz-6.1", bytes.Repeat([]byte{0x90}, 4000))
	file("etc/fstab", []byte("UUID=1 / ext4 defaults 0 1\n"))
	put := func(sector int64, part string) {
		reference.Run(t, "", "dd", "if="+part, "of="+path, "bs=512", fmt.Sprintf("seek=%d", sector), "conv=notrunc,sparse", "status=none")
	}
	fat := reference.Image(t, 64<<20)
	reference.Run(t, "", "mkfs.vfat", "-F", "32", "-s", "1", fat)
	reference.Run(t, "", "mmd", "-i", fat, "::/EFI", "::/EFI/BOOT")
	ntfs := reference.Image(t, 64<<20)
	reference.Run(t, "", "mkntfs", "-Q", "-q", "-F", "-s", "512", "-p", "133120", "-H", "255", "-S", "63", ntfs)
	for i := range birds {
		from := filepath.Join(folder, fmt.Sprintf("bird-%02d.txt", i))
		reference.Run(t, "", "mcopy", "-i", fat, from, fmt.Sprintf("::/EFI/BOOT/BIRD%02d.TXT", i))
		reference.Run(t, "", "ntfscp", "-q", ntfs, from, fmt.Sprintf("bird-%02d.txt", i))
		if i == birds/2 {
			reference.Run(t, "", "mcopy", "-i", fat, config, "::/EFI/BOOT/BOOTX64.EFI")
			reference.Run(t, "", "ntfscp", "-q", ntfs, config, "bootmgr")
		}
	}
	put(2048, fat)
	put(133120, ntfs)
	for sector, features := range map[int64]string{264192: "", 395264: "inline_data"} {
		ext := reference.Image(t, 64<<20)
		args := []string{"-q", "-t", "ext4", "-d", folder}
		if features != "" {
			args = append(args, "-O", features)
		}
		reference.Run(t, "", "mke2fs", append(args, ext)...)
		put(sector, ext)
	}
	for sector, kind := range map[int64]string{526336: "xfs", 1345536: "btrfs"} {
		image := reference.Image(t, 400<<20)
		if kind == "xfs" {
			reference.MakeXFS(t, image, folder)
		} else {
			reference.Run(t, "", "mkfs.btrfs", "-q", "-r", folder, image)
		}
		put(sector, image)
	}
	return path
}

func TestNoCanaryIsInACapture(t *testing.T) {
	path := aviary(t)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Greater(t, bytes.Count(whole, []byte(canary)), 1000)
	for _, sectorSize := range []int{512, 4096} {
		d := &capture.Device{ReaderAt: bytes.NewReader(whole), Size: int64(len(whole)), LogicalSectorSize: sectorSize}
		m, err := capture.Take(t.Context(), d, capture.Taking{Source: "disk.img", Now: time.Now()})
		require.NoError(t, err)
		var b bytes.Buffer
		require.NoError(t, capture.WriteCapture(&b, m.Manifest, d, nil))
		z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
		require.NoError(t, err)
		for _, f := range z.File {
			r, err := f.Open()
			require.NoError(t, err)
			raw, err := io.ReadAll(r)
			require.NoError(t, err)
			assert.Zero(t, bytes.Count(raw, []byte(canary)), "%s, sectors of %d bytes", f.Name, sectorSize)
			assert.NotContains(t, string(raw), "CANARY", f.Name)
		}
		if sectorSize == 512 {
			kept, err := capture.ReadCapture(bytes.NewReader(b.Bytes()), int64(b.Len()))
			require.NoError(t, err)
			on, err := disk.New(kept.Sectors, kept.Capacity, 512)
			require.NoError(t, err)
			held := machine.Examine(on)
			require.Len(t, held.Volumes, 6)
			for _, v := range held.Volumes[2:] {
				table := v.Config(machine.ConfigFstab, "/etc/fstab")
				require.NotNil(t, table, v.Kind)
				assert.Len(t, table.Mounts, 1, v.Kind)
			}
		}
	}
}

// failing is a drive of which some bytes cannot be read, and that may go away.
type failing struct {
	r     io.ReaderAt
	bad   map[int64]bool // sectors of 512 bytes
	reads int            // after so many, nothing is given any more; 0 is never
	done  int
}

var errDrive = errors.New("input/output error")

func (f *failing) ReadAt(p []byte, off int64) (int, error) {
	if f.done++; f.reads > 0 && f.done > f.reads {
		return 0, errDrive
	}
	for s := off / 512; s <= (off+int64(len(p))-1)/512; s++ {
		if f.bad[s] {
			return 0, errDrive
		}
	}
	return f.r.ReadAt(p, off)
}

// What a drive would not give is in the capture as that: a range of its own, which is a
// finding, and not "nobody looked".
func TestReadErrorsAreRanges(t *testing.T) {
	m := terabyte(t, 512)
	for name, bad := range map[string][]int64{"an entry of the table": {2, 3}, "the boot sector of the boot partition": {2048}, "sector 0": {0}} {
		drive := &failing{r: m, bad: map[int64]bool{}}
		for _, s := range bad {
			drive.bad[s] = true
		}
		d := &capture.Device{ReaderAt: drive, Size: m.Size, LogicalSectorSize: 512}
		manifest, err := capture.Take(t.Context(), d, capture.Taking{Source: "sda", Now: time.Now()})
		require.NoError(t, err, name)
		require.NotEmpty(t, manifest.Unreadable, name)
		assert.EqualValues(t, bad[0]*512, manifest.Unreadable[0].Offset, name)
		var b bytes.Buffer
		require.NoError(t, capture.WriteCapture(&b, manifest.Manifest, d, nil), name)
		c, err := capture.ReadCapture(bytes.NewReader(b.Bytes()), int64(b.Len()))
		require.NoError(t, err, name)
		_, err = c.Sectors.ReadAt(make([]byte, 16), bad[0]*512)
		assert.True(t, disk.IsUnreadable(err), name)
		on, err := disk.New(c.Sectors, c.Capacity, 512)
		require.NoError(t, err)
		held := machine.Examine(on)
		p, found := held.Layout.Find(disk.CodeUnreadable)
		require.True(t, found, name)
		assert.Contains(t, p.Text, "failing", name)
		trace := startup.Simulate(machine.Machine{Drives: []machine.Drive{{Name: "b", Role: machine.RoleClone,
			Contents: held}}})
		assert.Contains(t, fmt.Sprint(trace.Findings), "unreadable-sectors", name)
		require.NoError(t, c.Close())
	}
}

// A disk that goes away or shrinks while it is read gives an error and no capture.
func TestADiskThatGoesAway(t *testing.T) {
	m := terabyte(t, 512)
	drive := &failing{r: m, reads: 12}
	d := &capture.Device{ReaderAt: drive, Size: m.Size, LogicalSectorSize: 512}
	_, err := capture.Take(t.Context(), d, capture.Taking{Source: "sda", Now: time.Now()})
	assert.ErrorContains(t, err, "went away")
	path := filepath.Join(t.TempDir(), "disk.img")
	require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
	d, err = capture.OpenDevice(path)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, os.Truncate(path, 1<<19))
	_, err = capture.Take(t.Context(), d, capture.Taking{Source: "disk.img", Now: time.Now()})
	assert.ErrorContains(t, err, "it was changed while it was read")
}

// An image of a drive with 4,096-byte sectors tells so itself.
func TestTheSectorSizeOfAnImage(t *testing.T) {
	for _, size := range []int{512, 4096} {
		m := terabyte(t, size)
		d := &capture.Device{ReaderAt: m, Size: m.Size}
		manifest, err := capture.Take(t.Context(), d, capture.Taking{Source: "disk.img", Now: time.Now()})
		require.NoError(t, err)
		assert.Equal(t, size, manifest.LogicalSectorSize)
	}
}
