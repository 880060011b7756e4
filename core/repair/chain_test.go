package repair_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// The samples with logical partitions: a boot partition of 100 MiB, and in the chain behind it
// one of data and the system's.
const (
	firstRecord  = (1 + 100) << 20
	secondRecord = firstRecord + (1+200)<<20
)

// logicalWindows has its system in the second logical partition.
func logicalWindows() diskmaker.Disk {
	d := sample.LegacyWindowsDisk(true)
	d.Partitions = []diskmaker.Partition{d.Partitions[0],
		{MBRType: 7, MiB: 200, Logical: true, Volume: diskmaker.Volume{Kind: "ntfs"}}, d.Partitions[1]}
	d.Partitions[2].Logical = true
	boot, _ := d.Place(0)
	system, _ := d.Place(2)
	d.Partitions[0].Volume.Files[`\Boot\BCD`] = diskmaker.BootStore{Legacy: true, Boot: boot, System: system}.Bytes()
	return d
}

// logicalLinux has its root in the second logical partition, which GRUB looks for by number.
func logicalLinux() diskmaker.Disk {
	const root = "07000000-0000-0000-0000-000000000000"
	files := map[string][]byte{
		"boot/grub/grub.cfg": []byte("menuentry 'x' {\n set root=(hd0,msdos6)\n linux /boot/vmlinuz root=UUID=" + root +
			"\n initrd /boot/initrd.img\n}\n"),
		"boot/vmlinuz": sample.X64(), "boot/initrd.img": diskmaker.RAMDisk(), "boot/grub/i386-pc/normal.mod": []byte("x"),
		"etc/fstab": []byte("UUID=" + root + " / ext4 defaults 0 1\n"), "sbin/init": sample.X64(),
		"usr/sbin/grub-install": []byte("x"), "usr/sbin/update-grub": []byte("x"), "usr/lib/grub/i386-pc/modinfo.sh": []byte("x"),
	}
	return diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.MBR, Signature: 0xBEEF, BootCode: "grub",
		GRUBPrefix: "(,msdos6)/boot/grub", Partitions: []diskmaker.Partition{
			{MBRType: 7, MiB: 100, Volume: diskmaker.Volume{Kind: "ntfs"}},
			{MBRType: 0x83, MiB: 200, Logical: true, Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{6}}},
			{MBRType: 0x83, Logical: true, Volume: diskmaker.Volume{Kind: "ext4", UUID: [16]byte{7}, Files: files}},
		}}
}

var ofChain = []damaged{
	{"the first record without 55 AA", "correct-table", put(firstRecord+510, 0, 0)},
	{"the second record without 55 AA", "correct-table", put(secondRecord+510, 0, 0)},
	{"nothing of the first record", "correct-table", wipe(firstRecord, 512)},
	{"nothing of both records", "correct-table", together(wipe(firstRecord, 512), wipe(secondRecord, 512))},
	{"a link to itself", "correct-table", put(firstRecord+470, 0, 0, 0, 0)},
	{"a link beyond the end", "correct-table", put(firstRecord+470, 0, 0, 0, 0x10)},
	{"no link", "correct-table", wipe(firstRecord+462, 16)},
	{"the system's one sector on", "correct-table", put(secondRecord+454, 1)},
	{"the system's of length 0", "correct-table", put(secondRecord+458, 0, 0, 0, 0)},
	{"an extended partition of type 83", "correct-table", put(466, 0x83)},
	{"an extended partition of type 0", "correct-table", put(466, 0)},
	{"an extended partition of a strange status, and no link", "correct-table", together(put(462, 0x5C), wipe(firstRecord+462, 16))},
	{"no extended partition", "correct-table", wipe(462, 16)},
	{"a record of type EE beside them", "rebuild-table", put(494, 0, 0, 0, 0, 0xEE, 0, 0, 0, 1, 0, 0, 0, 99, 0, 0, 0)},
	{"no signature", "rebuild-table", put(510, 0, 0)},
	{"no table", "rebuild-table", wipe(446, 64)},
	{"no table and no second record", "rebuild-table", together(wipe(446, 64), wipe(secondRecord, 512))},
}

var chained = []ofSystem{
	{"Windows, logical", firmware.Legacy, logicalWindows(), ofChain},
	// Of what is not recognised it is not known that GRUB reads nothing there; nor what it makes of the
	// number that it looks for, where no table is.
	{"Linux, logical", firmware.Legacy, logicalLinux(), slices.DeleteFunc(slices.Clone(ofChain), func(d damaged) bool {
		return d.name == "the system's one sector on" || d.name == "a record of type EE beside them"
	})},
}

// What was damaged in a chain of records is mended so that each logical partition has its
// number again.
func TestTheChainIsWrittenAsItWas(t *testing.T) {
	t.Parallel()
	for _, s := range chained {
		want := sample.Examine(t, s.disk.MustBuild()).Layout.Partitions
		for _, d := range s.damages {
			if d.name == "no table and no second record" {
				continue // that partition may as well have been a primary one
			}
			t.Run(s.name+": "+d.name, func(t *testing.T) {
				image := s.disk.MustBuild()
				d.spoil(image)
				m := s.machine(t, image, false)
				plan := repair.Find(m, repair.Linux)
				require.NotEmpty(t, plan.Steps, plan.Reason)
				plan.Steps = plan.Steps[:1]
				got := carriedOut(t, image, plan).Layout
				assert.Empty(t, got.Problems)
				require.Len(t, got.Partitions, len(want))
				for i, p := range got.Partitions {
					assert.Equal(t, []uint64{uint64(want[i].Number), want[i].Start, want[i].EBR},
						[]uint64{uint64(p.Number), p.Start, p.EBR})
				}
			})
		}
	}
}

// A record that would not fit, or a chain in disorder, is no table that is written.
func TestChainsThatAreNotWritten(t *testing.T) {
	t.Parallel()
	image := logicalWindows().MustBuild()
	together(put(478, bytesAt(image, 462, 16)...), wipe(secondRecord, 512))(image)
	c := sample.Examine(t, image)
	require.NotEmpty(t, c.Layout.Problems)
	for _, s := range repair.TableSteps(machine.Drive{Name: "a", Contents: c}) {
		assert.NotEqual(t, "correct-table", s.Action, "two extended partitions are one too many")
	}
}

// An extended boot record before a volume tells of it as a logical partition; one that tells
// of another place, or is no record, does not.
func TestTheRecordBefore(t *testing.T) {
	t.Parallel()
	image := logicalWindows().MustBuild()
	d, err := disk.New(image, image.Size, 512)
	require.NoError(t, err)
	e, found, err := disk.RecordBefore(d, (firstRecord+1<<20)/512)
	require.NoError(t, err)
	require.True(t, found)
	assert.Equal(t, uint64(200*2048), e.Length)
	_, found, _ = disk.RecordBefore(d, (firstRecord+1<<20)/512+1)
	assert.False(t, found)
	put(firstRecord+446+32, 1)(image)
	_, found, _ = disk.RecordBefore(d, (firstRecord+1<<20)/512)
	assert.False(t, found, "the third record of a chain's is empty")
}
