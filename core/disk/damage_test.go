package disk_test

import (
	"encoding/binary"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture"
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

func healthy(t *testing.T) *diskmaker.Image {
	t.Helper()
	m, err := diskmaker.Disk{
		Sectors: 4 << 21, Style: diskmaker.GPT, GUID: disk.MustGUID("AAAAAAAA-0000-4000-8000-000000000000"),
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, MiB: 64, Name: "boot"}, {Type: disk.TypeBasicData, MiB: 1024}, {Type: disk.TypeLinuxData},
		},
	}.Build()
	require.NoError(t, err)
	return m
}

func layout(t *testing.T, m *diskmaker.Image) disk.Layout {
	t.Helper()
	d, err := disk.New(m, m.Size, m.SectorSize)
	require.NoError(t, err)
	return disk.ReadLayout(d)
}

func write(t *testing.T, m *diskmaker.Image, off int64, b ...byte) {
	t.Helper()
	_, err := m.WriteAt(b, off)
	require.NoError(t, err)
}

// resum writes correct checksums over a changed header, so that only the change
// itself is wrong.
func resum(t *testing.T, m *diskmaker.Image, lba int64) {
	t.Helper()
	h := make([]byte, 92)
	_, err := m.ReadAt(h, lba*512)
	require.NoError(t, err)
	clear(h[16:20])
	binary.LittleEndian.PutUint32(h[16:], crc32.ChecksumIEEE(h))
	write(t, m, lba*512, h...)
}

func codes(l disk.Layout) []string {
	var out []string
	for _, p := range l.Problems {
		out = append(out, string(p.Code))
	}
	return out
}

func TestDamagedGPT(t *testing.T) {
	last := int64(4<<21) - 1
	for name, c := range map[string]struct {
		damage     func(m *diskmaker.Image)
		primary    disk.CopyState
		backup     disk.CopyState
		partitions int
		codes      []string
	}{
		"healthy": {func(*diskmaker.Image) {}, disk.CopyGood, disk.CopyGood, 3, nil},
		"a bit of the header flips": {func(m *diskmaker.Image) { write(t, m, 512+60, 0x55) },
			disk.CopyDamaged, disk.CopyGood, 3, []string{"gpt-header-crc"}},
		"the header is wiped": {func(m *diskmaker.Image) { write(t, m, 512, make([]byte, 512)...) },
			disk.CopyAbsent, disk.CopyGood, 3, []string{"gpt-primary-absent"}},
		"an entry of the primary changes": {func(m *diskmaker.Image) { write(t, m, 1024+40, 9) },
			disk.CopyDamaged, disk.CopyGood, 3, []string{"gpt-array-crc"}},
		"the backup is wiped": {func(m *diskmaker.Image) { write(t, m, last*512, make([]byte, 512)...) },
			disk.CopyGood, disk.CopyAbsent, 3, []string{"gpt-backup-absent"}},
		"both are wiped": {func(m *diskmaker.Image) {
			write(t, m, 512, make([]byte, 512)...)
			write(t, m, last*512, make([]byte, 512)...)
		}, disk.CopyAbsent, disk.CopyAbsent, 0, []string{"gpt-none-valid"}},
		"a million entries": {func(m *diskmaker.Image) {
			write(t, m, 512+80, 0x40, 0x42, 0x0F, 0)
			resum(t, m, 1)
		}, disk.CopyDamaged, disk.CopyGood, 3, []string{"gpt-array-large"}},
		"a huge entry size": {func(m *diskmaker.Image) {
			write(t, m, 512+84, 0, 0, 0, 0x40)
			resum(t, m, 1)
		}, disk.CopyDamaged, disk.CopyGood, 3, []string{"gpt-array-outside"}},
		"an odd entry size": {func(m *diskmaker.Image) {
			write(t, m, 512+84, 100, 0, 0, 0)
			resum(t, m, 1)
		}, disk.CopyDamaged, disk.CopyGood, 3, []string{"gpt-entry-size", "gpt-array-crc"}},
		"a header size beyond the sector": {func(m *diskmaker.Image) { write(t, m, 512+12, 0, 8) },
			disk.CopyDamaged, disk.CopyGood, 3, []string{"gpt-header-size"}},
		"a header that stands elsewhere": {func(m *diskmaker.Image) {
			write(t, m, 512+24, 7)
			resum(t, m, 1)
		}, disk.CopyDamaged, disk.CopyGood, 3, []string{"gpt-my-lba"}},
		"an array beyond the end": {func(m *diskmaker.Image) {
			write(t, m, 512+72, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0x7F)
			resum(t, m, 1)
		}, disk.CopyDamaged, disk.CopyGood, 3, []string{"gpt-array-outside"}},
		"no protective MBR": {func(m *diskmaker.Image) { write(t, m, 446, make([]byte, 66)...) },
			disk.CopyGood, disk.CopyGood, 3, []string{"gpt-unprotected"}},
	} {
		t.Run(name, func(t *testing.T) {
			m := healthy(t)
			c.damage(m)
			l := layout(t, m)
			assert.Equal(t, disk.StyleGPT, l.Style)
			assert.Equal(t, c.primary, l.GPT.Primary.State)
			assert.Equal(t, c.backup, l.GPT.Backup.State)
			assert.Len(t, l.Partitions, c.partitions)
			assert.Equal(t, c.codes, codes(l))
			for _, p := range l.Problems {
				assert.Positive(t, p.Source.Length, "problem %s must point at bytes", p.Code)
			}
		})
	}
}

func TestRawCopiesToOtherSizes(t *testing.T) {
	m := healthy(t)
	larger := layout(t, m.Clone(m.Size*2))
	assert.Equal(t, []string{"gpt-backup-misplaced"}, codes(larger))
	assert.Equal(t, disk.CopyGood, larger.GPT.Backup.State)
	smaller := layout(t, m.Clone(m.Size/2))
	assert.Equal(t, []string{"gpt-backup-absent", "gpt-larger-disk", "beyond-end"}, codes(smaller))
	assert.Len(t, smaller.Partitions, 3)
}

func TestOverlapsAndDuplicates(t *testing.T) {
	guid := disk.MustGUID("BBBBBBBB-0000-4000-8000-000000000000")
	m, err := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.GPT, GUID: guid, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, GUID: guid, Start: 2048, MiB: 64}, {Type: disk.TypeLinuxData, GUID: guid, Start: 4096,
			MiB: 64},
	}}.Build()
	require.NoError(t, err)
	assert.Equal(t, []string{"overlap", "duplicate-guid"}, codes(layout(t, m)))
}

// mbrDisk returns a disk whose sector 0 has the given records of status, type,
// start and length.
func mbrDisk(t *testing.T, records ...[4]uint32) *diskmaker.Image {
	t.Helper()
	m := diskmaker.NewImage(1<<30, 512)
	writeRecords(t, m, 0, records...)
	return m
}

func writeRecords(t *testing.T, m *diskmaker.Image, sector int64, records ...[4]uint32) {
	t.Helper()
	b := make([]byte, 66)
	for i, r := range records {
		b[16*i], b[16*i+4] = byte(r[0]), byte(r[1])
		binary.LittleEndian.PutUint32(b[16*i+8:], r[2])
		binary.LittleEndian.PutUint32(b[16*i+12:], r[3])
	}
	b[64], b[65] = 0x55, 0xAA
	write(t, m, sector*512+446, b...)
}

func TestExtendedChains(t *testing.T) {
	extended := [4]uint32{0, 0x0F, 10_000, 100_000}
	logical := [4]uint32{0, 0x83, 63, 1000}
	for name, c := range map[string]struct {
		build func(m *diskmaker.Image)
		found int
		codes []string
		// Partitions that edk2 does not come to, and whether it goes on behind the last: as
		// seen in real firmware (package truth).
		passed int
		goesOn bool
	}{
		"two links": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, logical, [4]uint32{0, 5, 20_000, 2000})
			writeRecords(t, m, 30_000, logical)
		}, 2, nil, 0, false},
		"a loop": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, logical, [4]uint32{0, 5, 20_000, 2000})
			writeRecords(t, m, 30_000, logical, [4]uint32{0, 5, 0, 2000})
		}, 2, []string{"ebr-loop"}, 0, false},
		"a link outside": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, logical, [4]uint32{0, 5, 200_000, 2000})
		}, 1, []string{"ebr-outside"}, 1, false},
		"a record without signature": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, logical, [4]uint32{0, 5, 20_000, 2000})
		}, 1, []string{"ebr-signature"}, 0, false},
		"a record of a partition without signature": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, logical, [4]uint32{0, 5, 20_000, 2000})
			writeRecords(t, m, 30_000, logical)
			write(t, m, 30_000*512+510, 0, 0)
		}, 1, []string{"ebr-signature"}, 0, true},
		"an empty record": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, [4]uint32{}, [4]uint32{0, 5, 20_000, 2000})
			writeRecords(t, m, 30_000, logical)
		}, 1, nil, 1, false},
		"a partition that the first record ends beyond the chain": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, [4]uint32{0, 0x83, 63, 100_000}, [4]uint32{0, 5, 20_000, 2000})
			writeRecords(t, m, 30_000, logical)
		}, 2, []string{"overlap"}, 2, false},
		"a partition that a later record ends beyond the chain": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, logical, [4]uint32{0, 5, 20_000, 2000})
			writeRecords(t, m, 30_000, [4]uint32{0, 0x83, 63, 100_000}, [4]uint32{0, 5, 40_000, 2000})
			writeRecords(t, m, 50_000, logical)
		}, 3, []string{"overlap"}, 2, false},
		"a link of no extended type": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, logical, [4]uint32{0, 7, 20_000, 2000})
			writeRecords(t, m, 30_000, logical)
		}, 1, nil, 0, false},
		// As the Linux kernel reads it (block/partitions/msdos.c): the first record of an
		// extended type leads on, and is no partition.
		"a link that stands first": {func(m *diskmaker.Image) {
			writeRecords(t, m, 10_000, [4]uint32{0, 5, 20_000, 2000})
			writeRecords(t, m, 30_000, logical)
		}, 1, nil, 0, false},
		"beyond the end of the disk": {func(m *diskmaker.Image) {
			writeRecords(t, m, 0, [4]uint32{0, 0x0F, 4_000_000_000, 100_000})
		}, 0, []string{"ebr-unreadable", "beyond-end"}, 0, false},
	} {
		t.Run(name, func(t *testing.T) {
			m := mbrDisk(t, extended)
			c.build(m)
			l := layout(t, m)
			assert.Len(t, l.Partitions, c.found)
			assert.Equal(t, c.codes, codes(l))
			passed := 0
			for _, p := range l.Partitions {
				if p.Passed {
					passed++
				}
			}
			assert.Equal(t, c.passed, passed)
			assert.Equal(t, c.goesOn, l.MBR.GoesOn)
		})
	}
}

func TestMBRForms(t *testing.T) {
	two := layout(t, mbrDisk(t, [4]uint32{0x80, 7, 2048, 1000}, [4]uint32{0x80, 7, 4096, 1000}))
	assert.Equal(t, []string{"mbr-two-active"}, codes(two))
	odd := layout(t, mbrDisk(t, [4]uint32{0x01, 7, 2048, 1000}))
	assert.Equal(t, []string{"mbr-status"}, codes(odd))
	blank := layout(t, diskmaker.NewImage(1<<20, 512))
	assert.Equal(t, disk.StyleNone, blank.Style)
	assert.Equal(t, []string{"mbr-signature"}, codes(blank))
	beyond := layout(t, mbrDisk(t, [4]uint32{0, 7, 2048, 1 << 31}))
	assert.Equal(t, []string{"beyond-end"}, codes(beyond))
	full := diskmaker.NewImage(1<<20, 512)
	all := make([]byte, 1<<20)
	for i := range all {
		all[i] = 0xFF
	}
	write(t, full, 0, all...)
	assert.Equal(t, disk.StyleNone, layout(t, full).Style)
}

func TestPartsThatAreNotCapturedStayUnknown(t *testing.T) {
	m := healthy(t)
	for name, c := range map[string]struct {
		extents []capture.Extent
		style   disk.Style
		primary disk.CopyState
		backup  disk.CopyState
	}{
		"sector 0 alone":  {[]capture.Extent{{Offset: 0, Length: 512}}, disk.StyleGPT, disk.CopyNotCaptured, disk.CopyNotCaptured},
		"without the end": {[]capture.Extent{{Offset: 0, Length: 1 << 20}}, disk.StyleGPT, disk.CopyGood, disk.CopyNotCaptured},
		"without array":   {[]capture.Extent{{Offset: 0, Length: 1024}}, disk.StyleGPT, disk.CopyNotCaptured, disk.CopyNotCaptured},
		"the end alone": {[]capture.Extent{{Offset: m.Size - 1<<20, Length: 1 << 20}}, disk.StyleGPT, disk.CopyNotCaptured,
			disk.CopyGood},
		"the middle": {[]capture.Extent{{Offset: 1 << 24, Length: 4096}}, disk.StyleUnknown, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			sparse, err := capture.NewSparse(m, c.extents)
			require.NoError(t, err)
			d, err := disk.New(sparse, m.Size, 512)
			require.NoError(t, err)
			l := disk.ReadLayout(d)
			assert.Equal(t, c.style, l.Style)
			if c.style == disk.StyleGPT {
				assert.Equal(t, c.primary, l.GPT.Primary.State)
				assert.Equal(t, c.backup, l.GPT.Backup.State)
			}
			assert.Empty(t, l.Problems, "what is not known is no problem")
		})
	}
}

func TestRegionsNameTheFields(t *testing.T) {
	m := healthy(t)
	l := layout(t, m)
	found := map[string]string{}
	for _, r := range l.Regions() {
		for _, f := range r.Fields {
			raw := make([]byte, f.Length)
			_, err := m.ReadAt(raw, r.Offset+f.Offset)
			require.NoError(t, err)
			found[r.Structure+" "+f.Name] = f.Decode(raw)
		}
	}
	assert.Equal(t, "EFI PART", found["GPT header (primary) Signature"])
	assert.Equal(t, "1", found["GPT header (primary) MyLBA"])
	assert.Equal(t, "8388607", found["GPT header (backup) MyLBA"])
	assert.Equal(t, disk.TypeESP.String(), found["GPT entry 1 (primary) PartitionTypeGUID"])
	assert.Equal(t, "boot", found["GPT entry 1 (backup) PartitionName"])
	assert.Equal(t, "EE", found["MBR record 1 OSType"])
	assert.Equal(t, "55 AA", found["MBR Signature"])
}
