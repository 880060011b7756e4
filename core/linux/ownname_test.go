package linux_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// A root named by the drive that it lay on: another drive does not carry the name, where that is
// called after another bus or holds another serial number. udev's 60-persistent-storage.rules.
func TestARootByTheNameOfItsDrive(t *testing.T) {
	const uuid = "01000000-0000-0000-0000-000000000000"
	for name, c := range map[string]struct {
		link    string
		read    machine.Hardware
		verdict startup.Verdict
		rule    course.Rule
	}{
		"of this drive":                      {"ata-Corvane_S210_C123456-part2", machine.Hardware{Bus: "sata", Serial: "C123456"}, startup.Starts, ""},
		"of this drive, read on USB":         {"ata-Corvane_S210_C123456-part2", machine.Hardware{Bus: "usb", Serial: "C123456"}, startup.Starts, ""},
		"of a drive on another bus":          {"ata-Corvane_S210_C123456-part2", machine.Hardware{Bus: "nvme"}, startup.Stops, "root-absent"},
		"of another drive on the same":       {"ata-Corvane_S210_C123456-part2", machine.Hardware{Bus: "sata", Serial: "D999999"}, startup.Stops, "root-absent"},
		"of a drive whose serial is unknown": {"ata-Corvane_S210_C123456-part2", machine.Hardware{Bus: "sata"}, startup.Depends, "root-unknown"},
		"of a drive that was read on USB":    {"ata-Corvane_S210_C123456-part2", machine.Hardware{Bus: "usb", Serial: "D999999"}, startup.Depends, "root-unknown"},
		"with an odd serial":                 {"nvme-Ostra_N3_C123456-part2", machine.Hardware{Bus: "nvme", Serial: "0025_38."}, startup.Depends, "root-unknown"},
		"by a world-wide name":               {"wwn-0x5000c500a1b2c3d4-part2", machine.Hardware{Bus: "sata", Serial: "D999999"}, startup.Depends, "root-unknown"},
		"by an identifier of NVMe":           {"nvme-eui.0025385b71b00f12-part2", machine.Hardware{Bus: "nvme", Serial: "D999999"}, startup.Depends, "root-unknown"},
		"by a RAID":                          {"md-uuid-0a:0b:0c:0d-part2", machine.Hardware{Bus: "nvme", Serial: "D999999"}, startup.Depends, "root-unknown"},
		"nobody told of the drive":           {"ata-Corvane_S210_C123456-part2", machine.Hardware{}, startup.Depends, "root-unknown"},
	} {
		d := sample.LinuxDisk(1, 1)
		d = sample.With(d, 1, "boot/grub/grub.cfg", "menuentry 'x' {\n search --fs-uuid --set=root "+uuid+
			"\n linux /boot/vmlinuz root=/dev/disk/by-id/"+c.link+" ro\n initrd /boot/initrd.img\n}\n")
		d = sample.With(d, 1, "etc/fstab", "/dev/disk/by-id/"+c.link+" / ext4 defaults 0 1\n")
		m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
		m.Drives[0].Hardware = c.read
		trace := startup.Simulate(m)
		assert.Equal(t, c.verdict, trace.Verdict, "%s: %s", name, trace.Headline)
		if c.rule != "" {
			steps := trace.Attempts[0].Steps
			assert.Equal(t, c.rule, steps[len(steps)-1].Rule, name)
		}
		if c.verdict != startup.Stops {
			continue
		}
		plan := repair.Find(m, repair.Linux)
		require.Len(t, plan.Steps, 1, "%s: %s", name, plan.Reason)
		assert.Equal(t, "linux-names", plan.Steps[0].Action, name)
		assert.Equal(t, startup.Starts, plan.Verdict, name)
	}
}

// What the mount table names by the old drive is waited for in vain, and is called by its number there.
func TestAMountByTheNameOfItsDrive(t *testing.T) {
	d := sample.LinuxDisk(1, 1)
	d.Partitions[1].MiB = 200
	home := d.Partitions[1]
	home.Volume = diskmaker.Volume{Kind: "ext4", UUID: [16]byte{9}}
	d.Partitions = append(d.Partitions, home)
	d = sample.With(d, 1, "etc/fstab", "UUID=01000000-0000-0000-0000-000000000000 / ext4 defaults 0 1\n"+
		"/dev/disk/by-id/ata-Corvane_S210_C123456-part3 /home ext4 defaults 0 2\n")
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild()))
	assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict, "nobody told of the drive")

	m.Drives[0].Hardware = machine.Hardware{Bus: "nvme"}
	trace := startup.Simulate(m)
	assert.Equal(t, startup.Stops, trace.Verdict)
	assert.Equal(t, course.EmergencyMode.ID, trace.SymptomID)
	plan := repair.Find(m, repair.Linux)
	require.Len(t, plan.Steps, 1, plan.Reason)
	assert.Equal(t, "linux-names", plan.Steps[0].Action)
	root, _ := m.Drives[0].Contents.LinuxRoot()
	names := m.Drives[0].LinuxNames(0, root, nil)
	require.Len(t, names.Mounts, 1)
	assert.Equal(t, machine.Address{Index: 2}, names.Mounts[0].To)
	assert.Empty(t, names.Lax)
}

// What the start waits for by a name that nothing tells of is not proven; what it does not wait for is
// nothing to it. systemd.mount(5), "Fstab".
func TestMountsThatTheStartWaitsFor(t *testing.T) {
	const gone = "UUID=0badc0de-0000-4000-8000-00000000dead"
	for line, verdict := range map[string]startup.Verdict{
		gone + " /data ext4 defaults 0 2":                             startup.Stops,
		gone + " /data ext4 defaults,nofail 0 2":                      startup.Starts,
		gone + " /data ext4 noauto 0 2":                               startup.Starts,
		gone + " /data ext4 defaults,x-systemd.automount 0 2":         startup.Starts,
		gone + " /data ext4 _netdev 0 2":                              startup.Starts,
		gone + " /usr ext4 x-systemd.automount 0 2":                   startup.Stops,
		"/dev/disk/by-id/dm-uuid-LVM-abc /data ext4 defaults 0 2":     startup.Depends,
		"/dev/disk/by-id/md-uuid-0a:0b:0c:0d /data ext4 defaults 0 2": startup.Depends,
		"/dev/block/8:2 /data ext4 defaults 0 2":                      startup.Depends,
		"server:/export /data nfs defaults 0 0":                       startup.Starts,
		"/var/lib/data /data none bind 0 0":                           startup.Starts,
		"tmpfs /tmp tmpfs defaults 0 0":                               startup.Starts,
	} {
		d := sample.With(sample.LinuxDisk(1, 1), 1, "etc/fstab", "UUID=01000000-0000-0000-0000-000000000000 / ext4 defaults 0 1\n"+line+"\n")
		trace := startup.Simulate(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild())))
		assert.Equal(t, verdict, trace.Verdict, "%s: %s", line, trace.Headline)
	}
}

// A device that is made of others, or numbered anew at each start, is not one that no disk carries.
func TestARootOnADeviceOfNoDisk(t *testing.T) {
	for _, device := range []string{"/dev/dm-0", "/dev/bcache0", "/dev/nbd0p1", "/dev/loop0p2", "/dev/block/8:2", "/dev/disk/by-diskseq/1-part2"} {
		d := sample.With(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg", "menuentry 'x' {\n search --fs-uuid --set=root "+
			"01000000-0000-0000-0000-000000000000\n linux /boot/vmlinuz root="+device+" ro\n initrd /boot/initrd.img\n}\n")
		trace := startup.Simulate(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild())))
		assert.Equal(t, startup.Depends, trace.Verdict, "%s: %s", device, trace.Headline)
	}
}
