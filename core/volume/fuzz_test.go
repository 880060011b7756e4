package volume_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"latchkey/core/disk"
	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// FuzzDamagedVolume reads sound NTFS, ext, XFS and Btrfs volumes with bytes changed: whatever
// stands there, reading ends, in bounded memory, without a panic.
func FuzzDamagedVolume(f *testing.F) {
	images := [][]byte{fuzzNTFS(f), fuzzExt(f, "ext4"), fuzzExt(f, "ext2"), fuzzXFS(f), fuzzBtrfs(f)}
	f.Add(byte(0), []byte{})
	f.Add(byte(1), []byte{0x00, 0x04, 0x18, 0x02})
	f.Add(byte(3), []byte{0x00, 0x00, 0x7C, 0x02})
	f.Add(byte(4), []byte{0x01, 0x00, 0x94, 0x02})
	f.Fuzz(func(t *testing.T, which byte, changes []byte) {
		base := images[int(which)%len(images)]
		r := &changed{base, map[int64]byte{}}
		for ; len(changes) >= 4; changes = changes[4:] {
			r.bytes[(int64(changes[0])<<16|int64(changes[1])<<8|int64(changes[2]))%int64(len(base))] = changes[3]
		}
		d, err := disk.New(r, int64(len(base)), 512)
		if err != nil {
			t.Fatal(err)
		}
		v := volume.Examine(d, disk.Partition{Number: 1, Length: uint64(len(base)) / 512})
		if v.Files == nil {
			return
		}
		for _, path := range []string{"bootmgr", "boot/grub/grub.cfg", "etc/fstab", "link/grub.cfg"} {
			_, _ = volume.ReadFile(v.Files, path, 1<<20)
		}
		_, _ = v.Files.ReadDir("")
		_, _ = v.Files.ReadDir("boot")
		if v.Btrfs != nil {
			_, _ = v.Btrfs.Subvolumes()
			_, _ = v.Btrfs.Default()
		}
	})
}

// FuzzIdentify tells what a partition's first sectors hold.
func FuzzIdentify(f *testing.F) {
	f.Add([]byte("\xEB\x3C\x90MSDOS5.0"), uint16(0))
	f.Add([]byte("NXSB"), uint16(32))
	f.Add([]byte("H+"), uint16(1024))
	f.Add([]byte("\x53\xEF"), uint16(1080))
	f.Add([]byte("LUKS\xba\xbe"), uint16(0))
	block := make([]byte, 128<<10)
	d, err := disk.New(bytes.NewReader(block), int64(len(block)), 512)
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(_ *testing.T, raw []byte, at uint16) {
		n := copy(block[at:], raw)
		block[510], block[511] = 0x55, 0xAA
		volume.Examine(d, disk.Partition{Number: 1, Length: uint64(len(block)) / 512})
		clear(block[at : int(at)+n])
	})
}

// changed is a run of bytes of which some were changed.
type changed struct {
	base  []byte
	bytes map[int64]byte
}

func (c *changed) ReadAt(p []byte, off int64) (int, error) {
	n := copy(p, c.base[min(off, int64(len(c.base))):])
	for at, b := range c.bytes {
		if at >= off && at < off+int64(n) {
			p[at-off] = b
		}
	}
	return n, nil
}

func fuzzNTFS(f testing.TB) []byte {
	path := reference.Image(f, 2<<20)
	reference.Run(f, "", "mkntfs", "-F", "-Q", "-q", "-c", "512", path)
	from := filepath.Join(f.TempDir(), "f")
	if err := os.WriteFile(from, make([]byte, 3000), 0o600); err != nil {
		f.Fatal(err)
	}
	reference.Run(f, "", "ntfscp", "-q", path, from, "bootmgr")
	return read(f, path)
}

func fuzzXFS(f testing.TB) []byte {
	path := reference.Image(f, 16<<20)
	reference.MakeXFS(f, path, fuzzTree(f), "--unsupported")
	return read(f, path)
}

func fuzzBtrfs(f testing.TB) []byte {
	path := reference.Image(f, 16<<20)
	reference.Run(f, "", "mkfs.btrfs", "-q", "--mixed", "-r", fuzzTree(f), path)
	return read(f, path)
}

// fuzzTree is a folder with what is read of a volume.
func fuzzTree(f testing.TB) string {
	dir := f.TempDir()
	for name, b := range map[string]string{"boot/grub/grub.cfg": "search", "etc/fstab": "UUID"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			f.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(b), 0o600); err != nil {
			f.Fatal(err)
		}
	}
	if err := os.Symlink("boot/grub", filepath.Join(dir, "link")); err != nil {
		f.Fatal(err)
	}
	return dir
}

func fuzzExt(f testing.TB, kind string) []byte {
	path := reference.Image(f, 1<<20)
	reference.Run(f, "", "mke2fs", "-q", "-t", kind, "-d", fuzzTree(f), path)
	return read(f, path)
}

func read(f testing.TB, path string) []byte {
	b, err := os.ReadFile(path)
	if err != nil {
		f.Fatal(err)
	}
	return b
}
