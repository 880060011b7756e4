package volume_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// What we write, LVM reads: the disks of tests and of the demo world are such.
func TestLVMReadsWhatWeWrite(t *testing.T) {
	declared := diskmaker.Disk{Sectors: 1 << 20, Style: diskmaker.GPT,
		Partitions: []diskmaker.Partition{{Type: disk.TypeLinuxData,
			Volume: diskmaker.Volume{Kind: "lvm", Serial: 7, Group: "kiosk-vg",
				Logical: []diskmaker.Logical{{Name: "root", MiB: 64, Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{1},
					Label: "root"}},
					{Name: "data_1", MiB: 128}}}}}}
	m := declared.MustBuild()
	path := filepath.Join(t.TempDir(), "disk.img")
	require.NoError(t, m.WriteFile(path))
	base := int64(2048 * 512)
	lvm := reference.NewLVM(t, path, base, int64(declared.Sectors)*512-2*base)
	lvm.Run("vgck", "kiosk-vg")
	rows := strings.Fields(lvm.Run("lvs", "--noheadings", "--separator", ";", "-o", "lv_name,lv_size,seg_start_pe", "--units", "m", "--nosuffix", "kiosk-vg"))
	assert.Equal(t, []string{"data_1;128.00;0", "root;64.00;0"}, rows)
	d, err := disk.New(m, m.Size, 512)
	require.NoError(t, err)
	v := volume.Examine(d, disk.ReadLayout(d).Partitions[0])
	require.Len(t, v.Container.Parts, 2)
	assert.Equal(t, "01000000-0000-0000-0000-000000000000", strings.TrimSpace(reference.Run(t, "", "blkid", "-p", "-O", strconv.FormatInt(base+v.Container.Parts[0].Offset,
		10), "-s", "UUID", "-o", "value", path)))
}

// What a physical volume says of its group, held against LVM's own tools.
func TestVolumeGroupsByLVM(t *testing.T) {
	path := reference.Image(t, 400<<20)
	lvm := reference.NewLVM(t, path, 0, 400<<20)
	lvm.Group("kiosk-vg", "root=64M", "swap_1=64M", "my-data=64M")
	lvm.Run("lvextend", "-L", "96M", "kiosk-vg/swap_1")
	rows := lvm.Run("lvs", "--noheadings", "--separator", ";", "-o", "lv_name,lv_uuid,lv_size,seg_count,vg_uuid,vg_name",
		"--units", "b", "--nosuffix", "kiosk-vg")
	first := strings.TrimSpace(lvm.Run("pvs", "--noheadings", "-o", "pe_start", "--units", "b", "--nosuffix"))
	own := strings.TrimSpace(lvm.Run("pvs", "--noheadings", "-o", "pv_uuid"))
	segments := lvm.Run("lvs", "--segments", "--noheadings", "--separator", ";", "-o", "lv_name,seg_pe_ranges", "kiosk-vg")

	c := examine(t, path, 512, 2048).Container
	require.NotNil(t, c)
	assert.Equal(t, own, c.Own)
	assert.Equal(t, 1, c.Members)
	assert.False(t, c.Open, "a volume in two pieces is read through")
	found := map[string]volume.Part{}
	for _, p := range c.Parts {
		found[p.Name] = p
	}
	checked := 0
	for _, row := range strings.Split(strings.TrimSpace(rows), "\n") {
		f := strings.Split(strings.TrimSpace(row), ";")
		p, ok := found[f[0]]
		require.True(t, ok, f[0])
		assert.Equal(t, f[1], p.UUID)
		assert.True(t, p.Here)
		assert.Equal(t, []string{f[4], f[5]}, []string{c.Set, c.Name})
		if f[3] != "1" {
			assert.Equal(t, int64(-1), p.Offset, f[0])
			var ranges []string
			for _, line := range strings.Split(segments, "\n") {
				if name, r, ok := strings.Cut(strings.TrimSpace(line), ";"); ok && name == f[0] {
					_, r, _ = strings.Cut(r, ":")
					ranges = append(ranges, r)
				}
			}
			require.Len(t, p.Pieces, len(ranges))
			start, err := strconv.ParseInt(first, 10, 64)
			require.NoError(t, err)
			for i, x := range p.Pieces {
				from := (x.Offset - start) / (4 << 20)
				assert.Equal(t, ranges[i], fmt.Sprintf("%d-%d", from, from+x.Length/(4<<20)-1))
			}
			continue
		}
		assert.Equal(t, f[2], strconv.FormatInt(p.Length, 10))
		// LVM's own segment: /dev/loop0:0-15, in extents of 4 MiB behind the first.
		_, ranges, _ := strings.Cut(segments[strings.Index(segments, f[0]+";"):], ":")
		from, _, _ := strings.Cut(ranges, "-")
		extent, err := strconv.ParseInt(from, 10, 64)
		require.NoError(t, err)
		start, err := strconv.ParseInt(first, 10, 64)
		require.NoError(t, err)
		assert.Equal(t, start+extent*4<<20, p.Offset, f[0])
		checked++
	}
	assert.Equal(t, 2, checked)

	// The newest text counts, also once the ring has gone round.
	for range 10 {
		lvm.Run("vgrename", "kiosk-vg", "a-much-longer-name-for-the-same-group")
		lvm.Run("vgrename", "a-much-longer-name-for-the-same-group", "kiosk-vg")
	}
	lvm.Run("vgchange", "-u", "kiosk-vg")
	id := strings.TrimSpace(lvm.Run("vgs", "--noheadings", "-o", "vg_uuid"))
	assert.NotEqual(t, c.Set, id)
	assert.Equal(t, id, examine(t, path, 512, 2048).Container.Set)
}

// Members of a RAID of every version, held against mdadm.
func TestMembersOfARAIDByMdadm(t *testing.T) {
	const size = 64 << 20
	for _, version := range []string{"0.90", "1.0", "1.1", "1.2"} {
		for _, level := range []int32{1, 5} {
			path := reference.Image(t, size)
			mirror(t, path, diskmaker.RAID{Version: version, Level: level}, size)
			said := reference.Run(t, "", "mdadm", "--examine", "--export", path)
			v := examine(t, path, 512, 2048)
			assert.Equal(t, volume.KindRAID, v.Kind, version)
			require.NotNil(t, v.Container, version)
			assert.Contains(t, said, "MD_LEVEL="+v.Container.Level)
			assert.Contains(t, said, "MD_DEVICES="+strconv.Itoa(v.Container.Members))
			assert.Equal(t, blkid(t, path, "UUID"), v.Container.Set)
			assert.Equal(t, level != 1, v.Opaque(), "each member of a mirror holds all")
			if level == 1 && version[0] == '1' {
				assert.Contains(t, said, "MD_NAME="+v.Container.Name)
				assert.Equal(t, map[string]int64{"1.0": 0, "1.1": 1 << 20, "1.2": 1 << 20}[version], v.Container.Parts[0].Offset)
			}
		}
	}
	// In front of a superblock at the end, a file system is seen as what it is.
	path := reference.Image(t, size)
	reference.Run(t, "", "mkfs.ext4", "-q", path, "60M")
	mirror(t, path, diskmaker.RAID{Version: "1.0", Level: 1}, size)
	v := examine(t, path, 512, 2048)
	assert.Equal(t, volume.KindExt, v.Kind)
	require.NotNil(t, v.Container)
	assert.Equal(t, "raid1", v.Container.Level)
}

// mirror writes a member's superblock into an image.
func mirror(t *testing.T, path string, r diskmaker.RAID, size int64) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	raw, at := r.Superblock(size)
	_, err = f.WriteAt(raw, at)
	require.NoError(t, err)
}

func TestABtrfsOfTwoDevices(t *testing.T) {
	a, b := reference.Image(t, 320<<20), reference.Image(t, 320<<20)
	reference.Run(t, "", "mkfs.btrfs", "-q", "-d", "raid1", "-m", "raid1", a, b)
	one, two := examine(t, a, 512, 2048).Container, examine(t, b, 512, 2048).Container
	require.NotNil(t, one)
	require.NotNil(t, two)
	assert.Equal(t, 2, one.Members)
	assert.Equal(t, one.Set, two.Set)
	assert.Equal(t, blkid(t, a, "UUID_SUB"), one.Own)
	assert.Equal(t, blkid(t, b, "UUID_SUB"), two.Own)
}

// physical is a physical volume whose metadata area holds a text.
func physical(text []byte) []byte {
	image := make([]byte, 1<<20)
	copy(image, diskmaker.PhysicalVolume("abcdef-abcd-abcd-abcd-abcd-abcd-abcdef", string(text[:min(len(text), 1<<17)]), 1<<20))
	return image
}

func FuzzContainers(f *testing.F) {
	f.Add([]byte("vg {\nid = \"a\"\nextent_size = 8\nphysical_volumes { pv0 { id = \"abcdef-abcd-abcd-abcd-abcd-abcd-abcdef\"\npe_start = 8\n} }\n" +
		"logical_volumes { root { id = \"b\" segment_count = 1\nsegment1 { type = \"striped\" stripe_count = 1 extent_count = 2\nstripes = [\n\"pv0\", 0\n] } } }\n}\n# c\n"))
	f.Add([]byte("vg { id = \"a\" extent_size = -1 } }"))
	f.Add([]byte("a { a { a { a { a { a { a { a { a { a {"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		image := physical(raw)
		d, err := disk.New(bytes.NewReader(image), int64(len(image)), 512)
		require.NoError(t, err)
		v := volume.Examine(d, disk.Partition{Number: 1, Length: uint64(len(image)) / 512})
		if v.Container == nil {
			t.Fatal("a physical volume tells of no group")
		}
		for _, p := range v.Container.Parts {
			if p.Offset >= 0 && (p.Length <= 0 || p.Offset+p.Length > int64(len(image))) {
				t.Fatalf("%s lies at %d, %d bytes long", p.Name, p.Offset, p.Length)
			}
		}
	})
}

func TestATextWrittenByHand(t *testing.T) {
	image := physical([]byte("vg{id=\"a\"extent_size=8\nphysical_volumes{pv0{id=\"abcdef-abcd-abcd-abcd-abcd-abcd-abcdef\"\npe_start=16}}" +
		"logical_volumes{root{id=\"b\"segment_count=1 segment1{type=\"striped\" stripe_count=1 extent_count=2 stripes=[\"pv0\",3]}}}} # end"))
	d, err := disk.New(bytes.NewReader(image), int64(len(image)), 512)
	require.NoError(t, err)
	c := volume.Examine(d, disk.Partition{Number: 1, Length: uint64(len(image)) / 512}).Container
	assert.Equal(t, []volume.Part{{Name: "root", UUID: "b", Offset: (16 + 3*8) * 512, Length: 2 * 8 * 512, Here: true}},
		c.Parts)
	assert.False(t, c.Open)
	// One flipped bit, and nothing of the group is believed.
	image[4096+520] ^= 1
	d, err = disk.New(bytes.NewReader(image), int64(len(image)), 512)
	require.NoError(t, err)
	c = volume.Examine(d, disk.Partition{Number: 1, Length: uint64(len(image)) / 512}).Container
	assert.Empty(t, c.Parts)
	assert.True(t, c.Open)
}
