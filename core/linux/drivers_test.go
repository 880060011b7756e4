package linux_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// The initial RAM disk of initramfs-tools has the drivers of all disks where its settings say so; what is not in
// evidence, or said otherwise, is asked. What a person tells counts.
func TestWhetherTheInitialRAMDiskHasAllDrivers(t *testing.T) {
	const settings, more, shipped = "etc/initramfs-tools/initramfs.conf", "etc/initramfs-tools/conf.d/", "usr/share/initramfs-tools/conf.d/"
	for name, c := range map[string]struct {
		files map[string]string
		bus   string
		tools []string // beside Debian's
		mode  string
		want  startup.Verdict
	}{
		"all drivers":                       {map[string]string{settings: "MODULES=most\n"}, "nvme", nil, "", startup.Starts},
		"all drivers, on USB":               {map[string]string{settings: "MODULES=most\n"}, "usb", nil, "", startup.Starts},
		"all drivers, and a file beside":    {map[string]string{settings: "MODULES=most\n", more + "resume": "RESUME=none\n"}, "nvme", nil, "", startup.Starts},
		"those of one machine":              {map[string]string{settings: "MODULES=dep\n"}, "nvme", nil, "", startup.Depends},
		"those of one machine, by a policy": {map[string]string{settings: "MODULES=most\n", more + "driver-policy": "MODULES=dep\n"}, "nvme", nil, "", startup.Depends},
		"all drivers, by a policy":          {map[string]string{settings: "MODULES=dep\n", more + "driver-policy": "MODULES=most\n"}, "nvme", nil, "", startup.Starts},
		"the owner's policy is the last":    {map[string]string{settings: "MODULES=dep\n", shipped + "a": "MODULES=dep\n", more + "b": "MODULES=most\n"}, "nvme", nil, "", startup.Starts},
		"a file that is not read":           {map[string]string{settings: "MODULES=most\n", more + "x.dpkg-old": "MODULES=dep\n"}, "nvme", nil, "", startup.Starts},
		"what is not followed":              {map[string]string{settings: "MODULES=most\n", more + "x": "MODULES=$y\n"}, "nvme", nil, "", startup.Depends},
		"nothing said":                      {map[string]string{settings: "BUSYBOX=auto\n"}, "nvme", nil, "", startup.Depends},
		"no settings":                       {nil, "nvme", nil, "", startup.Depends},
		"another maker beside":              {map[string]string{settings: "MODULES=most\n"}, "nvme", []string{"usr/bin/dracut"}, "", startup.Depends},
		"behind a controller that was set":  {map[string]string{settings: "MODULES=most\n"}, "sata", nil, "raid", startup.Depends},
	} {
		t.Run(name, func(t *testing.T) {
			d := sample.WithTools(sample.LinuxDisk(1, 1), 1, c.tools...)
			for file, text := range c.files {
				d = sample.With(d, 1, file, text)
			}
			m := onNewBus(t, d, c.bus)
			if c.mode != "" {
				m.Firmware.StorageMode, m.Firmware.StorageModeBefore = fact.Tell(c.mode), fact.Tell("ahci")
			}
			trace := startup.Simulate(m)
			assert.Equal(t, c.want, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			m.Answers = map[string]string{"driver:clone": "no"}
			assert.Equal(t, startup.Stops, startup.Simulate(m).Verdict, "a person looked")
		})
	}
	// Without the bytes of one of the files it is asked.
	d := sample.With(sample.With(sample.LinuxDisk(1, 1), 1, settings, "MODULES=most\n"), 1, more+"x", "RESUME=none\n")
	m := onNewBus(t, d, "nvme")
	for i := range m.Drives[0].Contents.Volumes[1].Configs {
		if c := &m.Drives[0].Contents.Volumes[1].Configs[i]; c.Kind == machine.ConfigRAMDisk {
			was := *c
			*c = machine.Config{Kind: c.Kind, Path: c.Path, Err: &disk.NotCaptured{}}
			assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict, was.Path)
			*c = was
		}
	}
}

// onNewBus is a machine with a copy of what hung on SATA.
func onNewBus(t *testing.T, d diskmaker.Disk, bus string) machine.Machine {
	t.Helper()
	clone := sample.Drive(t, machine.RoleClone, d.MustBuild())
	clone.Bus = fact.Tell(bus)
	original := machine.Drive{Name: "original", Role: machine.RoleOriginal, Bus: fact.Tell("sata"), Attached: fact.Tell(false)}
	return sample.Whole(firmware.UEFI, clone, original)
}
