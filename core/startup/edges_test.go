package startup_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/core/volume"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// What UEFI firmware may start from on an MBR: a partition of the type for it, a FAT volume of any, or one of which
// nobody knows what it holds. UEFI Specification 2.10, section 5.2; start-rules, stage 2.
func TestWhatOfAnMBRUEFIMayStartFrom(t *testing.T) {
	one := func(kind byte, v diskmaker.Volume) diskmaker.Disk {
		return diskmaker.Disk{Sectors: 1 << 19, Style: diskmaker.MBR, Signature: 7, Partitions: []diskmaker.Partition{
			{MBRType: 7, MiB: 20, Volume: diskmaker.Volume{Kind: "ntfs"}}, {MBRType: kind, MiB: 100, Volume: v}}}
	}
	for name, c := range map[string]struct {
		disk diskmaker.Disk
		open bool
		want course.Stage // at which it stops
	}{
		"no FAT, and no type for it":          {one(7, diskmaker.Volume{Kind: "ntfs"}), false, course.StageMode},
		"the type for it, and no FAT":         {one(0xEF, diskmaker.Volume{Kind: "ntfs"}), false, course.StageBootPartition},
		"FAT of another type, and no loader":  {one(7, diskmaker.Volume{Kind: "fat32"}), false, course.StageBootPartition},
		"FAT of the type for it":              {one(0xEF, diskmaker.Volume{Kind: "fat32"}), false, course.StageLoader},
		"one of which nobody knows the bytes": {one(7, diskmaker.Volume{Kind: "ntfs"}), true, ""},
	} {
		t.Run(name, func(t *testing.T) {
			d := sample.Drive(t, machine.RoleClone, c.disk.MustBuild())
			if c.open {
				d.Contents.Volumes[1] = machine.Volume{Volume: volume.Volume{Kind: volume.NotCaptured}}
			}
			trace := startup.Simulate(sample.EDK2(firmware.UEFI, d))
			assert.Equal(t, c.want, trace.Stage, "%s %s", trace.Headline, trace.Reason)
			if c.want == "" {
				assert.Equal(t, startup.Depends, trace.Verdict)
			}
		})
	}
}

// A loader on the original of which nobody knows where it leads may lead to a clone that is attached, or of which
// nobody told: law 2.
func TestWhereALoaderOnTheOriginalLeads(t *testing.T) {
	good := map[string][]byte{sample.FallbackPath: sample.X64()}
	for _, c := range []struct {
		attached fact.Of[bool]
		want     startup.Verdict
	}{{fact.Tell(true), startup.Depends}, {fact.Tell(false), startup.StartsOriginal}} {
		original := sample.Drive(t, machine.RoleOriginal, sample.GPTDisk(1, good).MustBuild())
		clone := sample.Drive(t, machine.RoleClone, sample.GPTDisk(2, nil).MustBuild())
		clone.Attached = c.attached
		trace := startup.Simulate(sample.Whole(firmware.UEFI, original, clone))
		assert.Equal(t, c.want, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
	}
}

// What a menu has started in the place of a kernel: GNU GRUB Manual 2.06, "chainloader".
func TestWhatAMenuHandsOnTo(t *testing.T) {
	onto := func(path string, files map[string][]byte) machine.Machine {
		d := sample.LinuxDisk(1, 1)
		d = sample.With(d, 1, "boot/grub/grub.cfg", "menuentry 'x' {\n search --fs-uuid --set=root 1000-0001\n chainloader "+path+"\n}\n")
		for name, raw := range files {
			d.Partitions[0].Volume.Files[name] = raw
		}
		return sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
	}
	other := map[string][]byte{`\EFI\other\other.efi`: sample.X64()}
	broken := map[string][]byte{`\EFI\Microsoft\Boot\bootmgfw.efi`: []byte("MZ and no more")}
	for name, c := range map[string]struct {
		m    machine.Machine
		want startup.Verdict
		says string
	}{
		"a program that is there":     {onto("/EFI/other/other.efi", other), startup.Depends, ""},
		"a program that is not there": {onto("/EFI/gone/gone.efi", nil), startup.Stops, "is not on"},
		"a program that is none":      {onto("/EFI/Microsoft/Boot/bootmgfw.efi", broken), startup.Stops, "bootmgfw.efi"},
		"a file that is not there":    {onto("/boot.img", nil), startup.Stops, "is not on"},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(c.m)
			assert.Equal(t, c.want, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			assert.Contains(t, sample.Words(trace), c.says)
		})
	}
}
