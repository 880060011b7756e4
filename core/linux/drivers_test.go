package linux_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// onNewBus is a machine with a copy of what hung on SATA.
func onNewBus(t *testing.T, d diskmaker.Disk, bus string) machine.Machine {
	t.Helper()
	clone := sample.Drive(t, machine.RoleClone, d.MustBuild())
	clone.Bus = fact.Tell(bus)
	original := machine.Drive{Name: "original", Role: machine.RoleOriginal, Bus: fact.Tell("sata"), Attached: fact.Tell(false)}
	return sample.Whole(firmware.UEFI, clone, original)
}

// What an initial RAM disk holds reaches its drive, what it lacks stops the start, and the rest is asked. Which modules
// reach a drive: the kernel's drivers/nvme, drivers/ata, drivers/scsi, drivers/usb/storage and
// drivers/pci/controller ("VMD").
func TestTheDriversInTheInitialRAMDisk(t *testing.T) {
	const nvme, ahci, disks, usb, host, ata = "kernel/drivers/nvme/host/nvme.ko.xz", "ahci.ko", "kernel/drivers/scsi/sd_mod.ko.zst",
		"usb-storage.ko", "xhci-pci.ko", "libata.ko"
	type list = []string
	for name, c := range map[string]struct {
		modules, builtIn  list
		bus, mode, option string
		want              startup.Verdict
	}{
		"for NVMe":                           {list{nvme}, nil, "nvme", "", "", startup.Starts},
		"for NVMe, built in":                 {nil, list{nvme}, "nvme", "", "", startup.Starts},
		"none for NVMe":                      {list{ahci, disks, ata}, nil, "nvme", "", "", startup.Stops},
		"for NVMe, kept from being loaded":   {list{nvme}, nil, "nvme", "", " modprobe.blacklist=nvme", startup.Depends},
		"for NVMe, in RAID mode":             {list{nvme}, nil, "nvme", "raid", "", startup.Depends},
		"for NVMe and its RAID mode":         {list{nvme, "vmd.ko"}, nil, "nvme", "raid", "", startup.Starts},
		"for SATA":                           {list{ahci, disks}, list{ata}, "sata", "", "", startup.Starts},
		"for SATA, of another controller":    {list{"ata_piix.ko", disks, ata}, nil, "sata", "", "", startup.Depends},
		"for SATA, of a controller not here": {list{"ata_piix.ko", disks, ata}, nil, "sata", "ahci", "", startup.Stops},
		"for SATA, without disks":            {list{ahci, ata}, nil, "sata", "", "", startup.Stops},
		"none for SATA":                      {list{nvme, disks}, nil, "sata", "", "", startup.Stops},
		"for SATA, in RAID mode":             {list{ahci, disks, ata}, nil, "sata", "raid", "", startup.Depends},
		"for USB":                            {list{usb, disks}, list{host}, "usb", "", "", startup.Starts},
		"for USB, by another host":           {list{"uas.ko", disks}, nil, "usb", "", "", startup.Depends},
		"for USB, without disks":             {list{usb, host}, nil, "usb", "", "", startup.Stops},
		"none for USB":                       {list{disks, host}, nil, "usb", "", "", startup.Stops},
	} {
		t.Run(name, func(t *testing.T) {
			d := sample.With(sample.LinuxDisk(1, 1), 1, "boot/initrd.img", string(diskmaker.RAMDiskWith("6.1", c.modules, c.builtIn)))
			menu := string(d.Partitions[1].Volume.Files["boot/grub/grub.cfg"])
			d = sample.With(d, 1, "boot/grub/grub.cfg", strings.ReplaceAll(menu, "\n initrd", c.option+"\n initrd"))
			m := onNewBus(t, d, c.bus)
			m.Drives[1].Bus = fact.Tell("virtio")
			if c.mode != "" {
				m.Firmware.StorageMode = fact.Tell(c.mode)
			}
			trace := startup.Simulate(m)
			assert.Equal(t, c.want, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			m.Answers = map[string]string{"driver:clone": "yes"}
			assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict, "a person looked")
		})
	}
}

// An initial RAM disk that does not unpack to its end proves no start.
func TestAnInitialRAMDiskThatIsCutOff(t *testing.T) {
	whole := diskmaker.RAMDiskWith("6.1", []string{"nvme.ko"}, nil)
	d := sample.With(sample.LinuxDisk(1, 1), 1, "boot/initrd.img", string(whole[:len(whole)/2]))
	trace := startup.Simulate(onNewBus(t, d, "sata"))
	assert.Equal(t, startup.Depends, trace.Verdict)
	assert.Contains(t, trace.Headline+trace.Reason, "does not unpack to its end")
}
