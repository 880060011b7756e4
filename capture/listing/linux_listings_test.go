package listing_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// written makes a disk with Debian's tools: a table by sfdisk, volumes by mkfs.
func written(t *testing.T, style string) string {
	t.Helper()
	path := reference.Image(t, 512<<20)
	script := "label: gpt\nlabel-id: 7E21B6D0-4C1A-4F0B-9A55-3C5A19E00071\n" +
		"start=2048, size=204800, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, name=\"EFI, system\"\nstart=206848, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n"
	if style == "dos" {
		script = "label: dos\nlabel-id: 0x5a17c0de\nstart=2048, size=204800, type=c, bootable\nstart=206848, type=83\n"
	}
	reference.Run(t, script, "sfdisk", "-q", path)
	for _, v := range []struct {
		at   int64
		tool string
		args []string
	}{{2048, "mkfs.vfat", []string{"-F", "32", "-s", "1", "-n", "SYSTEM"}}, {206848, "mke2fs", []string{"-q", "-t", "ext4", "-L", "root"}}} {
		part := reference.Image(t, 100<<20)
		reference.Run(t, "", v.tool, append(v.args, part)...)
		reference.Run(t, "", "dd", "if="+part, "of="+path, "bs=512", fmt.Sprintf("seek=%d", v.at), "conv=notrunc,sparse", "status=none")
	}
	return path
}

// contents reads the disk itself.
func contents(t *testing.T, path string) *machine.Contents {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	d, err := disk.New(f, 512<<20, 512)
	require.NoError(t, err)
	return machine.Examine(d)
}

// What Debian's tools say of a disk, taken as they print it now, must agree with
// what its bytes say, in every fact.
func TestListingsOfDebianToolsAgreeWithTheBytes(t *testing.T) {
	for _, style := range []string{"gpt", "dos"} {
		path := written(t, style)
		for format, text := range map[listing.Format]string{
			listing.SfdiskDump: reference.Run(t, "", "sfdisk", "--dump", path),
			listing.SfdiskJSON: reference.Run(t, "", "sfdisk", "--json", path),
			listing.Parted:     reference.Run(t, "", "parted", "-m", path, "unit", "s", "print"),
		} {
			t.Run(style+" "+string(format), func(t *testing.T) {
				l := read(t, text)
				assert.Equal(t, format, l.Format)
				require.Len(t, l.Disks, 1)
				told := l.Disks[0].Contents()
				merged, contradictions := machine.Merge("x", contents(t, path), told)
				assert.Empty(t, contradictions)
				assert.Len(t, told.Layout.Partitions, 2)
				for i, p := range told.Layout.Partitions {
					q := merged.Layout.Partitions[i]
					assert.Equal(t, [2]uint64{q.Start, q.Length}, [2]uint64{p.Start, p.Length})
					assert.Positive(t, p.Source.Line)
				}
				// A header's last sector is not the disk's.
				if n, known := told.Size(); known {
					assert.EqualValues(t, 512<<20, n)
				}
				for _, line := range l.Lines {
					assert.NotEqual(t, listing.Unread, line.State, line.Text)
				}
			})
		}
		t.Run(style+" blkid", func(t *testing.T) {
			l := read(t, strings.Replace(reference.Run(t, "", "blkid", "-p", path), path+":", "/dev/sdb:", 1))
			assert.Equal(t, listing.Blkid, l.Format)
			require.Len(t, l.Disks, 1)
			assert.Equal(t, map[string]disk.Style{"gpt": disk.StyleGPT, "dos": disk.StyleMBR}[style], l.Disks[0].Style)
		})
	}
}

func TestBlkidOfVolumes(t *testing.T) {
	part := reference.Image(t, 64<<20)
	reference.Run(t, "", "mke2fs", "-q", "-t", "ext4", "-L", "the root", part)
	line := strings.TrimSpace(reference.Run(t, "", "blkid", "-p", "-s", "UUID", "-s", "LABEL", "-s", "TYPE", part))
	l := read(t, strings.Replace(line, part+":", "/dev/nvme0n1p2:", 1)+` PARTUUID="a1c9e6b2-0b52-4c0d-b3c7-6d1d2f4e8802" PARTLABEL="root"`+"\n")
	require.Len(t, l.Disks, 1)
	require.Len(t, l.Disks[0].Partitions, 1)
	p := l.Disks[0].Partitions[0]
	assert.Equal(t, 2, p.Number)
	assert.Equal(t, volume.KindExt, p.Kind)
	assert.Equal(t, "the root", p.Label)
	assert.Equal(t, strings.TrimSpace(reference.Run(t, "", "blkid", "-p", "-s", "UUID", "-o", "value", part)), p.Serial)
	assert.Equal(t, "nvme0n1", l.Disks[0].Name)
	assert.Equal(t, disk.StyleGPT, l.Disks[0].Style)
}

// lsblk of the machine that runs the tests, held against /sys.
// The tool itself lists disks that are laid out for it as the kernel tells of them
// (kernel documentation, ABI/stable/sysfs-block): what else the machine has is not
// looked at.
func TestLsblkItself(t *testing.T) {
	root := t.TempDir()
	tell := func(name, value string) {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(value+"\n"), 0o600))
	}
	link := func(name, to string) {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.Symlink(to, path))
	}
	for i, d := range []struct {
		name, sectors string
		sectorSize    int
	}{{"sda", "976773168", 512}, {"nvme0n1", "1953525168", 4096}} {
		at := "devices/pci0/host0/block/" + d.name
		part := map[string]string{"sda": "sda1", "nvme0n1": "nvme0n1p1"}[d.name]
		for name, value := range map[string]string{"size": d.sectors, "dev": fmt.Sprintf("%d:0", 8+i), "removable": "0", "ro": "0",
			"queue/logical_block_size": fmt.Sprint(d.sectorSize), part + "/dev": fmt.Sprintf("%d:1", 8+i), part + "/size": "204800", part + "/start": "2048", part +
				"/partition": "1"} {
			tell("sys/"+at+"/"+name, value)
		}
		link("sys/block/"+d.name, "../"+at)
		link(fmt.Sprintf("sys/dev/block/%d:0", 8+i), "../../"+at)
		link(fmt.Sprintf("sys/dev/block/%d:1", 8+i), "../../"+at+"/"+part)
		tell("dev/"+d.name, "")
		tell("dev/"+part, "")
	}
	require.NoError(t, os.MkdirAll(filepath.Join(root, "proc/self"), 0o700))
	l := read(t, reference.Run(t, "", "lsblk", "--sysroot", root, "--json", "-b", "-O"))
	assert.Equal(t, listing.Lsblk, l.Format)
	assert.Empty(t, l.Problem)
	require.Len(t, l.Disks, 2)
	for _, d := range l.Disks {
		require.Len(t, d.Partitions, 1, d.Name)
		assert.EqualValues(t, 204800*512, d.Partitions[0].Length)
		if d.Name == "sda" {
			assert.EqualValues(t, 976773168*512, d.Size)
			assert.Equal(t, 512, d.SectorSize)
		} else {
			assert.EqualValues(t, 1953525168*512, d.Size)
			assert.Equal(t, 4096, d.SectorSize)
		}
	}
}

// lsblk's form, from lsblk(8) and its output on a machine with two disks; from
// memory.
const twoDisks = `{
   "blockdevices": [
      {"name":"sda", "type":"disk", "size":500107862016, "model":"Corvane S210", "serial":"C1", "tran":"sata", "log-sec":512, "pttype":"gpt", "ptuuid":"7e21b6d0-4c1a-4f0b-9a55-3c5a19e00071",
         "children": [
            {"name":"sda1", "type":"part", "size":104857600, "start":2048, "fstype":"vfat", "uuid":"6A31-0001", "parttype":"c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "partuuid":"7e21b6d0-4c1a-4f0b-9a55-3c5a19e00072"},
            {"name":"sda2", "type":"part", "size":"499000000000", "start":"206848", "fstype":"ntfs", "fsused":92000000000, "parttype":"ebd0a0a2-b9e5-4433-87c0-68b6b72699c7"}
         ]
      },
      {"name":"nvme0n1", "type":"disk", "size":"1000204886016", "tran":"nvme", "log-sec":512, "pttype":null},
      {"name":"sr0", "type":"rom", "size":1073741312}
   ]
}
`

func TestLsblkWithTwoDisks(t *testing.T) {
	l := read(t, twoDisks)
	require.Len(t, l.Disks, 2)
	d := l.Disks[0]
	assert.Equal(t, "Corvane S210", d.Model)
	assert.Equal(t, "sata", d.Bus)
	assert.EqualValues(t, 500107862016, d.Size)
	require.Len(t, d.Partitions, 2)
	assert.Equal(t, disk.TypeESP, d.Partitions[0].Type)
	assert.EqualValues(t, 206848*512, d.Partitions[1].Start)
	assert.EqualValues(t, 92000000000, d.Partitions[1].Used)
	assert.Equal(t, "nvme", l.Disks[1].Bus)
	assert.Equal(t, listing.Passed, l.Lines[9].State, "the optical drive is passed over")
}

// Files that are attached as disks are no drives of the machine, whatever lies on them.
func TestAttachedFilesAreNoDrives(t *testing.T) {
	for name, text := range map[string]string{
		"a tree": `{"blockdevices": [{"name": "loop0", "size": 0, "type": "loop", "children": [{"name": "loop0p1", "type": "part", "pkname": "loop0", "size": 1048576}]},
			{"name": "sda", "size": 500107862016, "type": "disk", "pttype": "gpt", "children": [{"name": "sda1", "type": "part", "size": 1048576, "start": 2048}]}]}`,
		"a flat list": `{"blockdevices": [{"name": "loop0", "size": 0, "type": "loop"}, {"name": "loop0p1", "type": "part", "pkname": "loop0", "size": 1048576},
			{"name": "sda", "size": 500107862016, "type": "disk", "pttype": "gpt"}, {"name": "sda1", "type": "part", "pkname": "sda", "size": 1048576, "start": 2048}]}`,
		"blkid": "/dev/loop0: TYPE=\"squashfs\"\n/dev/loop1p1: UUID=\"1C0A-4F2B\" TYPE=\"vfat\" PARTUUID=\"a1c9e6b2-0b52-4c0d-b3c7-6d1d2f4e8802\"\n" +
			"/dev/sda1: UUID=\"1C0A-4F2B\" TYPE=\"vfat\" PARTUUID=\"a1c9e6b2-0b52-4c0d-b3c7-6d1d2f4e8801\"\n",
	} {
		l := read(t, text)
		require.Len(t, l.Disks, 1, name)
		assert.Equal(t, "sda", l.Disks[0].Name, name)
		assert.Len(t, l.Disks[0].Partitions, 1, name)
	}
}
