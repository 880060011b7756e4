package machine_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
	"latchkey/internal/sample"
)

var (
	there = fact.Tell(true)
	gone  = fact.Tell(false)
	open  = fact.Unknown[bool]()
)

// sameAs compares what is known, and not where it is read from.
func sameAs(t *testing.T, want, is fact.Of[bool], what ...any) {
	t.Helper()
	w, known := want.Get()
	i, isKnown := is.Get()
	assert.Equal(t, known, isKnown, what...)
	assert.Equal(t, w, i, what...)
}

// A Linux has a program or has it not where all folders of programs were read; what lies on a
// volume of its own is not known of.
func TestToolsOfALinux(t *testing.T) {
	root := machine.Address{Index: 1}
	for name, c := range map[string]struct {
		change               func(files map[string][]byte)
		grub, dracut, pc, ia fact.Of[bool]
	}{
		"as it is": {func(map[string][]byte) {}, there, gone, there, gone},
		"without any": {func(f map[string][]byte) {
			for _, tool := range sample.DebianTools {
				delete(f, tool)
			}
		}, gone, gone, gone, gone},
		"in another folder": {func(f map[string][]byte) {
			delete(f, "usr/sbin/grub-install")
			f["sbin/grub-install"], f["usr/local/bin/dracut"] = []byte("x"), []byte("x")
		}, there, there, there, gone},
		"a folder of that name": {func(f map[string][]byte) { f["usr/bin/dracut/x"] = []byte("x") }, there, gone, there, gone},
		"no modules, but their folder": {func(f map[string][]byte) {
			delete(f, "usr/lib/grub/i386-pc/modinfo.sh")
			f["usr/lib/grub/i386-pc/normal.mod"] = []byte("x")
		}, there, gone, gone, gone},
		"/usr by itself": {func(f map[string][]byte) {
			f["etc/fstab"] = append(f["etc/fstab"], "UUID=0a000000-0000-0000-0000-000000000000 /usr ext4 defaults 0 1\n"...)
		}, there, open, there, open},
		"an empty /usr": {func(f map[string][]byte) {
			for _, tool := range sample.DebianTools {
				delete(f, tool)
			}
			f["usr/readme"] = []byte("x")
		}, open, open, open, open},
	} {
		d := sample.LinuxDisk(1, 1)
		c.change(d.Partitions[1].Volume.Files)
		contents := sample.Drive(t, machine.RoleClone, d.MustBuild()).Contents
		sameAs(t, c.grub, contents.Tool(root, machine.GRUBInstall), name, "grub-install")
		sameAs(t, c.dracut, contents.Tool(root, machine.Dracut), name, "dracut")
		sameAs(t, c.pc, contents.Tool(root, machine.ModulesFor("i386-pc")), name, "i386-pc")
		sameAs(t, c.ia, contents.Tool(root, machine.ModulesFor("i386-efi")), name, "i386-efi")
	}
	sameAs(t, open, sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild()).Contents.Tool(
		machine.Address{Index: 0}, machine.GRUBInstall), "no Linux")
}

// without is a disk of which a sector is not in evidence; it keeps which were read.
type without struct {
	*bytes.Reader
	not  int64
	read map[int64]bool
}

func (w *without) ReadAt(p []byte, off int64) (int, error) {
	for at := off / 512; at*512 < off+int64(len(p)); at++ {
		if at == w.not {
			return 0, &disk.NotCaptured{Offset: at * 512, Length: 512}
		}
		w.read[at] = true
	}
	return w.Reader.ReadAt(p, off)
}

// merged is an ext4 volume that mke2fs(8) makes of a folder in which /sbin is a link to /usr/sbin, as
// the families have it today.
func merged(t *testing.T) []byte {
	dir := t.TempDir()
	for _, file := range append([]string{"usr/bin/true", "etc/fstab"}, sample.DebianTools...) {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(file)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte("x"), 0o600))
	}
	for i := range 200 { // more than a block of names
		require.NoError(t, os.WriteFile(filepath.Join(dir, "usr/sbin", fmt.Sprintf("program-with-a-long-name-%d", i)), nil, 0o600))
	}
	require.NoError(t, os.Symlink("usr/sbin", filepath.Join(dir, "sbin")))
	require.NoError(t, os.Symlink("/usr/bin", filepath.Join(dir, "bin")))
	image := reference.Image(t, 8<<20)
	reference.Run(t, "", "mke2fs", "-q", "-t", "ext4", "-d", dir, image)
	raw, err := os.ReadFile(image)
	require.NoError(t, err)
	return raw
}

// Without any one sector, an answer is the same or none.
func TestToolsOnLessEvidence(t *testing.T) {
	d := diskmaker.Disk{Sectors: 1 << 16, Style: diskmaker.MBR, Signature: 7, Partitions: []diskmaker.Partition{
		{MBRType: 0x83, Volume: diskmaker.Volume{Kind: "ext4"}}}}
	image := d.MustBuild()
	raw := make([]byte, image.Size)
	_, err := image.ReadAt(raw, 0)
	require.NoError(t, err)
	at := disk.ReadLayout(must(disk.New(image, image.Size, 512))).Partitions[0].Start * 512
	copy(raw[at:], merged(t))
	tools := []machine.Tool{machine.GRUBInstall, machine.UpdateInitramfs, machine.Dracut, machine.Mkinitcpio,
		machine.ModulesFor("x86_64-efi"), machine.ModulesFor("i386-efi")}
	tells := func(w *without) (answers []fact.Of[bool]) {
		c := machine.Examine(must(disk.New(w, int64(len(raw)), 512)))
		for _, tool := range tools {
			if len(c.Volumes) == 0 {
				answers = append(answers, open)
				continue
			}
			answers = append(answers, c.Tool(machine.Address{}, tool))
		}
		return answers
	}
	whole := &without{bytes.NewReader(raw), -1, map[int64]bool{}}
	want := tells(whole)
	for i, w := range []fact.Of[bool]{there, there, gone, gone, there, gone} {
		sameAs(t, w, want[i], tools[i])
	}
	opened := 0
	for sector := range whole.read {
		for i, is := range tells(&without{bytes.NewReader(raw), sector, map[int64]bool{}}) {
			if _, known := is.Get(); known {
				sameAs(t, want[i], is, tools[i], sector)
				continue
			}
			opened++
		}
	}
	assert.Positive(t, opened)
}

func must(d *disk.Disk, err error) *disk.Disk {
	if err != nil {
		panic(err)
	}
	return d
}
