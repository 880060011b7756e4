package disk_test

import (
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"

	diskfs "github.com/diskfs/go-diskfs"
	"github.com/diskfs/go-diskfs/partition/gpt"
	"github.com/diskfs/go-diskfs/partition/mbr"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/internal/reference"
)

// Disks written by Debian's partition tools, read by us; what is expected is
// the tools' own listing of what they wrote.

func open(t *testing.T, path string, sectorSize int) *disk.Disk {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	d, err := disk.New(f, info.Size(), sectorSize)
	require.NoError(t, err)
	return d
}

// sfdiskTable is the part of `sfdisk --json` that is compared; see sfdisk(8).
type sfdiskTable struct {
	PartitionTable struct {
		Label      string
		ID         string
		FirstLBA   uint64
		LastLBA    uint64
		Partitions []struct {
			Node, Type, UUID, Name, Attrs string
			Start, Size                   uint64
			Bootable                      bool
		}
	}
}

func sfdiskJSON(t *testing.T, path string) sfdiskTable {
	t.Helper()
	var table sfdiskTable
	require.NoError(t, json.Unmarshal([]byte(reference.Run(t, "", "sfdisk", "--json", path)), &table))
	return table
}

const gptScript = `label: gpt
label-id: 11111111-2222-3333-4444-555555555555
size=100MiB, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, name="EFI system partition"
size=16MiB, type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE
size=40GiB, type=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7, name="größer als früher"
size=500MiB, type=DE94BBA4-06D1-4D40-A16A-BFD50179D6AC, attrs="RequiredPartition GUID:63"
`

func TestGPTWrittenBySfdisk(t *testing.T) {
	path := reference.Image(t, 500_107_862_016)
	reference.Run(t, gptScript, "sfdisk", "--quiet", path)
	want := sfdiskJSON(t, path).PartitionTable
	l := disk.ReadLayout(open(t, path, 512))
	require.Equal(t, disk.StyleGPT, l.Style)
	assert.Empty(t, l.Problems)
	h := l.GPT.Primary.Header
	assert.Equal(t, want.ID, h.DiskGUID.String())
	assert.Equal(t, want.FirstLBA, h.FirstUsableLBA)
	assert.Equal(t, want.LastLBA, h.LastUsableLBA)
	assert.Equal(t, disk.CopyGood, l.GPT.Backup.State)
	require.Len(t, l.Partitions, len(want.Partitions))
	for i, w := range want.Partitions {
		p := l.Partitions[i]
		assert.Equal(t, w.Start, p.Start)
		assert.Equal(t, w.Size, p.Length)
		assert.Equal(t, w.Type, p.TypeGUID.String())
		assert.Equal(t, w.UUID, p.GUID.String())
		assert.Equal(t, w.Name, p.Name)
	}
	assert.Equal(t, uint64(1|1<<63), l.Partitions[3].Attributes)
}

func TestMBRWithLogicalPartitionsWrittenBySfdisk(t *testing.T) {
	path := reference.Image(t, 20<<30)
	reference.Run(t, `label: dos
label-id: 0x1f2e3d4c
size=500MiB, type=7, bootable
size=4GiB, type=7
type=5
size=1GiB, type=83
size=2GiB, type=82
type=c
`, "sfdisk", "--quiet", path)
	want := sfdiskJSON(t, path).PartitionTable
	l := disk.ReadLayout(open(t, path, 512))
	require.Equal(t, disk.StyleMBR, l.Style)
	assert.Empty(t, l.Problems)
	assert.Equal(t, strings.TrimPrefix(want.ID, "0x"), fmt.Sprintf("%08x", l.MBR.DiskSignature))
	got := map[int]disk.Partition{}
	for _, p := range l.Partitions {
		got[p.Number] = p
	}
	listed := 0
	for _, w := range want.Partitions {
		number, err := strconv.Atoi(regexp.MustCompile(`\d+$`).FindString(w.Node))
		require.NoError(t, err)
		kind, err := strconv.ParseUint(w.Type, 16, 8)
		require.NoError(t, err)
		if kind == 5 {
			continue // the container is no partition of its own
		}
		listed++
		assert.Equal(t, w.Start, got[number].Start, "partition %d", number)
		assert.Equal(t, w.Size, got[number].Length, "partition %d", number)
		assert.Equal(t, byte(kind), got[number].MBRType, "partition %d", number)
		assert.Equal(t, w.Bootable, got[number].Active, "partition %d", number)
	}
	assert.Len(t, l.Partitions, listed)
}

func TestGPTWrittenBySgdisk(t *testing.T) {
	path := reference.Image(t, 32<<30)
	reference.Run(t, "", "sgdisk", "-n", "1:0:+260M", "-t", "1:ef00", "-n", "5:0:+10G", "-t", "5:8300", "-c", "5:root", "-n", "3:0:0", "-t", "3:8200", path)
	l := disk.ReadLayout(open(t, path, 512))
	assert.Empty(t, l.Problems)
	require.Len(t, l.Partitions, 3)
	for _, p := range l.Partitions {
		info := reference.Run(t, "", "sgdisk", "-i", fmt.Sprint(p.Number), path)
		assert.Contains(t, info, "Partition GUID code: "+p.TypeGUID.String())
		assert.Contains(t, info, "Partition unique GUID: "+p.GUID.String())
		assert.Contains(t, info, fmt.Sprintf("First sector: %d ", p.Start))
		assert.Contains(t, info, fmt.Sprintf("Partition size: %d sectors", p.Length))
		assert.Contains(t, info, "Partition name: '"+p.Name+"'")
	}
}

func TestHybridMBRWrittenBySgdisk(t *testing.T) {
	path := reference.Image(t, 8<<30)
	reference.Run(t, "", "sgdisk", "-n", "1:0:+1G", "-t", "1:0700", "-n", "2:0:+1G", "-h", "1", path)
	l := disk.ReadLayout(open(t, path, 512))
	assert.Equal(t, disk.StyleGPT, l.Style)
	assert.True(t, l.MBR.Hybrid())
	_, said := l.Find(disk.CodeMBRHybrid)
	assert.True(t, said)
	assert.Len(t, l.Partitions, 2)
}

func TestTablesWrittenByParted(t *testing.T) {
	for label, style := range map[string]disk.Style{"gpt": disk.StyleGPT, "msdos": disk.StyleMBR} {
		path := reference.Image(t, 10<<30)
		reference.Run(t, "", "parted", "-s", path, "mklabel", label, "mkpart", "primary", "fat32", "1MiB", "513MiB",
			"mkpart", "primary", "ext4", "513MiB", "100%")
		l := disk.ReadLayout(open(t, path, 512))
		assert.Equal(t, style, l.Style)
		assert.Empty(t, l.Problems, label)
		listing := reference.Run(t, "", "parted", "-m", "-s", path, "unit", "s", "print")
		for _, p := range l.Partitions {
			assert.Contains(t, listing, fmt.Sprintf("\n%d:%ds:%ds:%ds:", p.Number, p.Start, p.End()-1, p.Length))
		}
		assert.Len(t, l.Partitions, 2)
	}
}

func TestGPTWith4096ByteSectorsWrittenByFdisk(t *testing.T) {
	path := reference.Image(t, 64<<30)
	reference.Run(t, "g\nn\n1\n\n+300M\nt\n1\nn\n2\n\n\nw\n", "fdisk", "-b", "4096", path)
	l := disk.ReadLayout(open(t, path, 4096))
	assert.Empty(t, l.Problems)
	listing := reference.Run(t, "", "fdisk", "-b", "4096", "-l", "-o", "Start,End,Sectors,Type-UUID,UUID", path)
	require.Len(t, l.Partitions, 2)
	for _, p := range l.Partitions {
		line := regexp.MustCompile(fmt.Sprintf(`(?m)^\s*%d\s+%d\s+%d\s+%s\s+%s\s*$`, p.Start, p.End()-1, p.Length, p.TypeGUID, p.GUID))
		assert.Regexp(t, line, listing)
	}
	// The same disk on a port that presents 512-byte sectors.
	moved := disk.ReadLayout(open(t, path, 512))
	assert.Equal(t, 4096, moved.WrittenFor)
	assert.Empty(t, moved.Partitions)
}

// TestSecondReader holds undamaged tables against a general-purpose Go library.
func TestSecondReader(t *testing.T) {
	path := reference.Image(t, 60<<30)
	reference.Run(t, gptScript, "sfdisk", "--quiet", path)
	d, err := diskfs.Open(path, diskfs.WithOpenMode(diskfs.ReadOnly))
	require.NoError(t, err)
	defer d.Close()
	table, err := d.GetPartitionTable()
	require.NoError(t, err)
	second, ok := table.(*gpt.Table)
	require.True(t, ok)
	l := disk.ReadLayout(open(t, path, 512))
	assert.Equal(t, second.GUID, l.GPT.Primary.Header.DiskGUID.String())
	n := 0
	for _, w := range second.Partitions {
		if w.Type == gpt.Unused {
			continue
		}
		p := l.Partitions[n]
		n++
		assert.Equal(t, string(w.Type), p.TypeGUID.String())
		assert.Equal(t, w.GUID, p.GUID.String())
		assert.Equal(t, w.Start, p.Start)
		assert.Equal(t, w.End, p.End()-1)
		assert.Equal(t, w.Name, p.Name)
	}
	assert.Len(t, l.Partitions, n)
}

func TestSecondReaderMBR(t *testing.T) {
	path := reference.Image(t, 8<<30)
	reference.Run(t, "label: dos\nsize=1GiB, type=7, bootable\ntype=83\n", "sfdisk", "--quiet", path)
	d, err := diskfs.Open(path, diskfs.WithOpenMode(diskfs.ReadOnly))
	require.NoError(t, err)
	defer d.Close()
	table, err := d.GetPartitionTable()
	require.NoError(t, err)
	second, ok := table.(*mbr.Table)
	require.True(t, ok)
	l := disk.ReadLayout(open(t, path, 512))
	require.Len(t, l.Partitions, 2)
	for i, p := range l.Partitions {
		assert.Equal(t, byte(second.Partitions[i].Type), p.MBRType)
		assert.EqualValues(t, second.Partitions[i].Start, p.Start)
		assert.EqualValues(t, second.Partitions[i].Size, p.Length)
		assert.Equal(t, second.Partitions[i].Bootable, p.Active)
	}
}
