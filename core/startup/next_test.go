package startup_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// Stages 7 and 8, as start-rules tells them. The paths and identifiers are those
// of the makers' documentation; the messages are common practice, no source.

const storePath = `\EFI\Microsoft\Boot\BCD`

// windowsDisk declares a Windows disk whose store names the partitions of another.
func windowsDisk(id, names byte) diskmaker.Disk {
	d := gptDisk(id, nil)
	boot, _ := gptDisk(names, nil).Place(0)
	system, _ := gptDisk(names, nil).Place(1)
	manager := diskmaker.Program{Is: "windows", Size: 8192}.Bytes()
	d.Partitions[0].Volume.Files = map[string][]byte{fallbackPath: manager, storePath: diskmaker.BootStore{Boot: boot,
		System: system}.Bytes()}
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "ntfs", Files: map[string][]byte{`\Windows\System32\winload.efi`: x64(), `\Windows\System32\winload.exe`: x64()}}
	return d
}

func legacyWindowsDisk(legacy bool) diskmaker.Disk {
	d := mbrDisk("classic", 0)
	boot, _ := d.Place(0)
	system, _ := d.Place(1)
	d.Partitions[0].Volume.Files = map[string][]byte{`\bootmgr`: x64(), `\Boot\BCD`: diskmaker.BootStore{Legacy: legacy, Boot: boot,
		System: system}.Bytes()}
	d.Partitions[1].Volume.Files = map[string][]byte{`\Windows\System32\winload.exe`: x64(), `\Windows\System32\winload.efi`: x64()}
	return d
}

// linuxDisk declares a Linux disk; its configuration names the file systems of
// another.
func linuxDisk(id, names byte) diskmaker.Disk {
	d := gptDisk(id, nil)
	root := fmt.Sprintf("%02x000000-0000-0000-0000-000000000000", names)
	d.Partitions[0].Volume.Serial = 0x10000000 | uint64(id)
	d.Partitions[0].Volume.Files = map[string][]byte{
		fallbackPath:           diskmaker.Program{Is: "grub", Prefix: "/EFI/debian", Size: 8192}.Bytes(),
		`\EFI\debian\grub.cfg`: []byte("search.fs_uuid " + root + " root\nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"),
	}
	d.Partitions[1].Type = disk.TypeLinuxData
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "ext4", Label: "root", UUID: [16]byte{id}, Files: map[string][]byte{
		"boot/grub/grub.cfg": []byte("menuentry 'x' {\n search --fs-uuid --set=root " + root + "\n linux /boot/vmlinuz root=UUID=" + root + "\n initrd /boot/initrd.img\n}\n"),
		"boot/vmlinuz":       x64(), "boot/initrd.img": x64(),
		"etc/fstab": []byte("UUID=" + root + " / ext4 defaults 0 1\n" + fmt.Sprintf("UUID=1000-00%02X /boot/efi vfat defaults 0 1\n", names)),
	}}
	return d
}

func with(d diskmaker.Disk, partition int, file, text string) diskmaker.Disk {
	files := d.Partitions[partition].Volume.Files
	if text == "" {
		delete(files, file)
	} else {
		files[file] = []byte(text)
	}
	return d
}

func whole(mode firmware.Mode, drives ...machine.Drive) machine.Machine {
	m := edk2(mode, drives...)
	m.Until = ""
	return m
}

func TestWhatTheLoaderLoads(t *testing.T) {
	damaged := windowsDisk(1, 1)
	damaged.Partitions[0].Volume.Files[storePath] = append([]byte{}, damaged.Partitions[0].Volume.Files[storePath]...)
	damaged.Partitions[0].Volume.Files[storePath][100] ^= 1
	encrypted := windowsDisk(1, 1)
	encrypted.Partitions[1].Volume = diskmaker.Volume{Kind: "raw", Raw: []byte("\xEB\x58\x90-FVE-FS-")}
	notNTFS := windowsDisk(1, 1)
	notNTFS.Partitions[1].Volume = diskmaker.Volume{Kind: "fat32"}
	byName := func(name string) diskmaker.Disk {
		return with(linuxDisk(1, 1), 1, "boot/grub/grub.cfg", "menuentry 'x' {\n linux /boot/vmlinuz root="+name+"\n}\n")
	}
	entry := linuxDisk(1, 1)
	entry.Partitions[0].Volume.Files = map[string][]byte{fallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes(), "/vmlinuz": x64(),
		"/loader/entries/a.conf": []byte("title x\nlinux /vmlinuz\noptions root=LABEL=root\n")}
	noEntry := linuxDisk(1, 1)
	noEntry.Partitions[0].Volume.Files = map[string][]byte{fallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes()}
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		mode    firmware.Mode
		verdict startup.Verdict
		stage   course.Stage
		says    string // in the symptom or the reason
	}{
		"Windows": {windowsDisk(1, 1), firmware.UEFI, startup.Starts, "", "Windows comes up"},
		"no store": {with(windowsDisk(1, 1), 0, storePath, ""), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "0xc000000f"},
		"a damaged store":                 {damaged, firmware.UEFI, startup.Stops, course.StageConfiguration, "0xc000014c"},
		"a store that names another disk": {windowsDisk(1, 0x41), firmware.UEFI, startup.Stops, course.StageConfiguration, "0xc000000e"},
		"no system loader": {with(windowsDisk(1, 1), 1, `\Windows\System32\winload.efi`, ""), firmware.UEFI, startup.Stops,
			course.StageSystem, "winload.efi is not"},
		"no NTFS":                            {notNTFS, firmware.UEFI, startup.Stops, course.StageSystem, "FAT32"},
		"an encrypted system":                {encrypted, firmware.UEFI, startup.Depends, "", "recovery key"},
		"legacy Windows":                     {legacyWindowsDisk(true), firmware.Legacy, startup.Starts, "", "Windows comes up"},
		"legacy, with the loader of UEFI":    {legacyWindowsDisk(false), firmware.Legacy, startup.Stops, course.StageConfiguration, "winload.efi"},
		"Linux":                              {linuxDisk(1, 1), firmware.UEFI, startup.Starts, "", "Linux comes up"},
		"GRUB without configuration":         {with(linuxDisk(1, 1), 0, `\EFI\debian\grub.cfg`, ""), firmware.UEFI, startup.Stops, course.StageConfiguration, "grub>"},
		"GRUB that looks for another volume": {linuxDisk(1, 2), firmware.UEFI, startup.Stops, course.StageConfiguration, "no such device"},
		"no kernel": {with(linuxDisk(1, 1), 1, "boot/vmlinuz", ""), firmware.UEFI, startup.Stops,
			course.StageConfiguration, "file not found"},
		"no initial RAM disk":           {with(linuxDisk(1, 1), 1, "boot/initrd.img", ""), firmware.UEFI, startup.Stops, course.StageConfiguration, "initrd.img is not"},
		"root by a name of its bus":     {byName("/dev/sda2"), firmware.UEFI, startup.Starts, "", "Linux comes up"},
		"root by a name of another bus": {byName("/dev/nvme0n1p2"), firmware.UEFI, startup.Stops, course.StageConfiguration, "initramfs"},
		"root by partition UUID": {byName("PARTUUID=" + strings.ToLower(gptDisk(1, nil).PartitionGUID(1).String())), firmware.UEFI,
			startup.Starts, "", ""},
		"root by a wrong label":       {byName("LABEL=rot"), firmware.UEFI, startup.Stops, course.StageConfiguration, "initramfs"},
		"root within LVM":             {byName("/dev/mapper/vg-root"), firmware.UEFI, startup.Depends, "", "does not tell"},
		"a mount that is not there":   {with(linuxDisk(1, 1), 1, "etc/fstab", "UUID=dead /home ext4 defaults 0 2\n"), firmware.UEFI, startup.Stops, course.StageConfiguration, "emergency mode"},
		"a search that finds nothing": {with(linuxDisk(1, 1), 1, "boot/grub/grub.cfg", "menuentry 'x' {\n search --fs-uuid --set=root dead-beef\n linux /boot/vmlinuz root=UUID=01000000-0000-0000-0000-000000000000\n}\n"), firmware.UEFI, startup.Starts, "", ""},
		"a mount that may fail":       {with(linuxDisk(1, 1), 1, "etc/fstab", "UUID=dead /home ext4 nofail 0 2\n"), firmware.UEFI, startup.Starts, "", ""},
		"boot loader entry":           {entry, firmware.UEFI, startup.Starts, "", ""},
		"no boot loader entry":        {noEntry, firmware.UEFI, startup.Stops, course.StageConfiguration, "no entry"},
		"an unknown loader":           {gptDisk(1, map[string][]byte{fallbackPath: x64()}), firmware.UEFI, startup.Depends, "", "none of the loaders"},
	} {
		t.Run(name, func(t *testing.T) {
			trace := startup.Simulate(whole(c.mode, drive(t, machine.RoleClone, c.disk.MustBuild())))
			assert.Equal(t, c.verdict, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			assert.Equal(t, c.stage, trace.Stage)
			all := trace.Symptom + trace.Reason + trace.Headline
			for _, q := range trace.Missing {
				all += q.Text
			}
			assert.Contains(t, all, c.says)
		})
	}
}

func TestASystemOnTheOtherDisk(t *testing.T) {
	original, clone := windowsDisk(1, 1), windowsDisk(0x41, 1)
	m := whole(firmware.UEFI, drive(t, machine.RoleClone, clone.MustBuild()),
		drive(t, machine.RoleOriginal, original.MustBuild()))
	trace := startup.Simulate(m)
	assert.Equal(t, startup.StartsOriginal, trace.Verdict)
	assert.Contains(t, trace.Reason, "That is the original")
	refs := machine.References(m)
	require.Len(t, refs, 6)
	assert.Equal(t, "other", refs[0].Means)
	assert.Equal(t, []int{2}, refs[0].On[1].Partitions)
	assert.Equal(t, "this", refs[5].Means)
	assert.EqualValues(t, 88, refs[0].Source.Length)
	for _, p := range startup.Pins(m, "clone") {
		if p.Stage == course.StageConfiguration {
			assert.Equal(t, course.Wrong, p.State)
		}
	}

	m.Drives[1].Attached = fact.Tell(false)
	trace = startup.Simulate(m)
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Equal(t, course.StageConfiguration, trace.Stage)
}

func TestTwinsAreAQuestion(t *testing.T) {
	image := windowsDisk(1, 1).MustBuild()
	m := whole(firmware.UEFI, drive(t, machine.RoleClone, image), drive(t, machine.RoleOriginal, image))
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	require.Len(t, trace.Missing, 1)
	assert.Equal(t, "answer:twin", trace.Missing[0].Fact.String())
	m.Answers = map[string]string{"twin": "clone"}
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	m.Answers = map[string]string{"twin": "original"}
	assert.Equal(t, startup.StartsOriginal, startup.Simulate(m).Verdict)
	m.Answers = map[string]string{"twin": "neither"} // no answer to this question
	assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict)
}

func TestANewBusAsksForADriver(t *testing.T) {
	clone, original := drive(t, machine.RoleClone, windowsDisk(1, 1).MustBuild()), drive(t, machine.RoleOriginal, nil)
	clone.Bus, original.Attached = fact.Tell("nvme"), fact.Tell(false)
	m := whole(firmware.UEFI, clone, original)
	trace := startup.Simulate(m)
	require.Len(t, trace.Missing, 1)
	assert.Contains(t, trace.Missing[0].Text, "driver for NVMe")
	m.Answers = map[string]string{"driver:clone": "no"}
	trace = startup.Simulate(m)
	assert.Equal(t, course.StageSystem, trace.Stage)
	assert.Contains(t, trace.Symptom, "0x7B")
}

func TestASleepingSystemIsARisk(t *testing.T) {
	d := windowsDisk(1, 1)
	d.Partitions[1].Volume.Files[`\hiberfil.sys`] = append([]byte("hibr"), make([]byte, 9000)...)
	d.Partitions[1].Volume.Unclean = true
	trace := startup.Simulate(whole(firmware.UEFI, drive(t, machine.RoleClone, d.MustBuild())))
	assert.Equal(t, startup.Starts, trace.Verdict)
	texts := ""
	for _, f := range trace.Findings {
		texts += f.Severity + ": " + f.Text + "\n"
	}
	assert.Contains(t, texts, "risk: The system is asleep")
	assert.Contains(t, texts, "risk: The file system was not closed cleanly")
}

// GRUB as its own tools put it on a disk: grub-mkimage and grub-bios-setup, into
// an ext4 file system, where the machine lets an image be mounted.
func TestGRUBInstalledByItsOwnTools(t *testing.T) {
	setup := "/usr/lib/grub/i386-pc/grub-bios-setup"
	reference.NeedFile(t, setup)
	path := reference.Image(t, 200<<20)
	reference.Run(t, "label: dos\nstart=2048, type=83, bootable\n", "sfdisk", "-q", path)
	whole := strings.TrimSpace(reference.Run(t, "", "losetup", "-f", "--show", path))
	defer reference.Run(t, "", "losetup", "-d", whole)
	part := strings.TrimSpace(reference.Run(t, "", "losetup", "-f", "--show", "-o", "1048576", path))
	defer reference.Run(t, "", "losetup", "-d", part)
	reference.Run(t, "", "mkfs.ext4", "-q", part)
	uuid := strings.TrimSpace(reference.Run(t, "", "blkid", "-p", "-s", "UUID", "-o", "value", part))
	dir := t.TempDir()
	reference.Run(t, "", "mount", part, dir)
	unmounted := false
	defer func() {
		if !unmounted {
			reference.Run(t, "", "umount", dir)
		}
	}()
	grub := filepath.Join(dir, "boot", "grub")
	for name, text := range map[string]string{
		"boot/grub/grub.cfg": "menuentry 'a' {\n search --fs-uuid --set=root " + uuid + "\n linux /boot/vmlinuz root=UUID=" + uuid + "\n}\n",
		"boot/vmlinuz":       "kernel", "etc/fstab": "UUID=" + uuid + " / ext4 defaults 0 1\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	reference.Run(t, "", "cp", "/usr/lib/grub/i386-pc/boot.img", grub)
	reference.Run(t, "", "grub-mkimage", "-O", "i386-pc", "-p", "(hd0,msdos1)/boot/grub", "-o", filepath.Join(grub, "core.img"), "biosdisk", "part_msdos", "ext2")
	devices := filepath.Join(t.TempDir(), "device.map")
	require.NoError(t, os.WriteFile(devices, []byte("(hd0) "+whole+"\n(hd1) "+part+"\n"), 0o600))
	reference.Run(t, "", setup, "-d", grub, "-m", devices, "-s", "(hd0)")
	reference.Run(t, "", "umount", dir)
	unmounted = true

	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	d, err := disk.New(f, 200<<20, 512)
	require.NoError(t, err)
	clone := machine.Drive{Name: "clone", Role: machine.RoleClone, Bus: fact.Tell("sata"), Attached: fact.Tell(true),
		Contents: machine.Examine(d)}
	require.NotNil(t, clone.Contents.Core.Image, clone.Contents.Core.Err)
	assert.Equal(t, "(hd0,msdos1)/boot/grub", clone.Contents.Core.Image.Prefix)
	trace := startup.Simulate(machine.Machine{Firmware: firmware.Settings{Mode: fact.Tell(firmware.Legacy)},
		Drives: []machine.Drive{clone}})
	assert.Equal(t, startup.Starts, trace.Verdict, trace.Reason)
}

func TestAChangedControllerModeAsksForADriver(t *testing.T) {
	m := whole(firmware.UEFI, drive(t, machine.RoleClone, windowsDisk(1, 1).MustBuild()))
	m.Firmware.StorageMode, m.Firmware.StorageModeBefore = fact.Tell("ahci"), fact.Tell("ahci")
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	m.Firmware.StorageModeBefore = fact.Tell("raid")
	trace := startup.Simulate(m)
	require.Len(t, trace.Missing, 1)
	assert.Contains(t, trace.Missing[0].Text, "AHCI, before RAID")
}

func TestADriveThatTheBootListDoesNotShow(t *testing.T) {
	d := drive(t, machine.RoleClone, windowsDisk(1, 1).MustBuild())
	d.Shown = fact.Tell(false)
	trace := startup.Simulate(whole(firmware.UEFI, d))
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Equal(t, course.StageDrive, trace.Stage)
	d.Bus, d.Shown = fact.Tell("nvme"), fact.Tell(true)
	m := whole(firmware.UEFI, d)
	m.Firmware.Behaviour, m.DeviceOrder = m.Firmware.Behaviour.With(firmware.StartsFromNVMe, fact.Unknown[bool]()), nil
	m.Answers = map[string]string{"driver:clone": "yes"}
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "what the boot list shows needs no question")
}

// A Mac's firmware reads what others do not. start-rules, section 7; common
// practice, no source.
func TestAMacReadsItsOwnVolumes(t *testing.T) {
	raw := make([]byte, 4096)
	copy(raw[32:], "NXSB")
	d := gptDisk(1, nil)
	d.Partitions[1].Type = disk.MustGUID("7C3457EF-0000-11AA-AA11-00306543ECAC")
	d.Partitions[1].Volume = diskmaker.Volume{Kind: "raw", Raw: raw}
	m := whole(firmware.UEFI, drive(t, machine.RoleClone, d.MustBuild()))
	assert.Equal(t, startup.Stops, startup.Simulate(m).Verdict, "edk2 has no driver for it")
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Unknown[bool]())
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Depends, trace.Verdict)
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Tell(true))
	m.Answers = map[string]string{"mac-offered:clone": "no"}
	trace = startup.Simulate(m)
	assert.Equal(t, course.StageLoader, trace.Stage)
	assert.Contains(t, trace.Symptom, "question mark")
	m.Answers = map[string]string{"mac-offered:clone": "yes", "mac-installed:clone": "no"}
	trace = startup.Simulate(m)
	assert.Equal(t, course.StageSystem, trace.Stage)
	assert.Contains(t, trace.Symptom, "a circle with a line through it")
	m.Answers["mac-installed:clone"] = "yes"
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
}
