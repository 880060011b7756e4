package field

import (
	"testing"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
)

// ofMac is a Mac's disk: the EFI system partition that its firmware does not need, and one with what raw begins.
func ofMac(kind string, raw []byte) diskmaker.Disk {
	return diskmaker.Disk{Sectors: 700 << 11, Style: diskmaker.GPT,
		GUID: disk.MustGUID("0AC00000-0000-4000-8000-000000000010"), Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, MiB: 200, Name: "EFI System Partition", Volume: diskmaker.Volume{Kind: "fat32"}},
			{Type: disk.MustGUID(kind), MiB: 400, Volume: diskmaker.Volume{Kind: "raw", Raw: raw}}}}
}

const (
	apfs = "7C3457EF-0000-11AA-AA11-00306543ECAC"
	hfs  = "48465300-0000-11AA-AA11-00306543ECAC"
)

func macs(t *testing.T) []Met {
	sealed, open := diskmaker.AppleVolume{Name: "Macintosh HD", Role: 1, Sealed: true}, diskmaker.AppleVolume{Name: "Macintosh HD", Role: 1}
	preboot, data := diskmaker.AppleVolume{Name: "Preboot", Role: 0x10}, diskmaker.AppleVolume{Name: "Macintosh HD - Data", Role: 0x40}
	recovery, vm := diskmaker.AppleVolume{Name: "Recovery", Role: 4}, diskmaker.AppleVolume{Name: "VM", Role: 8}
	container := func(volumes ...diskmaker.AppleVolume) diskmaker.Disk {
		return ofMac(apfs, diskmaker.Container(100<<20/4096, volumes...))
	}
	older := func(blessed byte) diskmaker.Disk {
		raw := make([]byte, 4096)
		copy(raw[1024:], "H+\x00\x04")
		raw[1024+83] = blessed
		return ofMac(hfs, raw)
	}
	at := func(arch firmware.Arch, bus string, d diskmaker.Disk,
		answers map[string]string) func(*testing.T) machine.Machine {
		return func(t *testing.T) machine.Machine {
			m := pc(firmware.UEFI, nil, on(t, machine.RoleClone, bus, d))
			m.Firmware.Arch, m.Answers = fact.Tell(arch), answers
			m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Tell(true))
			return m
		}
	}
	offered := map[string]string{"mac-offered:clone": "yes"}
	whole := container(sealed, data, preboot, recovery, vm)
	return []Met{
		{Name: "the whole container, built in", At: at(firmware.X64, "sata", whole, offered), Says: "The list of Option shows it: it starts.", Verdict: startup.Starts},
		{Name: "the whole container, before anyone looked", At: at(firmware.X64, "sata", whole, nil), Says: "Hold Option and look whether it is offered.", Verdict: startup.Depends, Words: "Option"},
		{Name: "the whole container, not offered", At: at(firmware.X64, "sata", whole, map[string]string{"mac-offered:clone": "no"}),
			Says: "A question mark: choose it as the start-up disk in the recovery, before anything is installed.", Verdict: startup.Stops, Stage: "loader", Words: "question mark", First: "mac-bless"},
		{Name: "on USB, with a security chip as delivered", At: at(firmware.X64, "usb", whole, map[string]string{"mac-offered:clone": "yes", "mac-external:clone": "no"}),
			Says: "Startup Security Utility: allow external media.", Verdict: startup.Stops, Stage: "loader", Words: "external", First: "mac-external"},
		{Name: "on USB, nobody looked at the security", At: at(firmware.X64, "usb", whole, offered), Says: "With a T2 chip external media are off: look in the utility.", Verdict: startup.Depends, Words: "not built in"},
		{Name: "on USB, arm64", At: at(firmware.ARM64, "usb", whole, offered), Says: "Hold the power button, choose it: an arm64 Mac has no such setting.", Verdict: startup.Starts},
		{Name: "files of the system alone", At: at(firmware.X64, "sata", container(open, data, preboot, recovery), map[string]string{"mac-offered:clone": "yes", "mac-installed:clone": "no"}),
			Says: "A circle with a line: the seal is gone; install the system over it.", Verdict: startup.Stops, Stage: "system", Words: "circle", First: "mac-install"},
		{Name: "without Preboot", At: at(firmware.X64, "sata", container(sealed, data), nil), Says: "Nothing to start from: the copy left Preboot out.", Verdict: startup.Stops, Stage: "loader",
			Words: "no Preboot", First: "mac-install"},
		{Name: "data alone", At: at(firmware.X64, "sata", container(data, preboot), nil),
			Says: "There is no system on it: install it, the data stay.", Verdict: startup.Stops, Stage: "loader",
			Words: "no volume of a system", First: "mac-install"},
		{Name: "an older system, blessed", At: at(firmware.X64, "sata", older(5), offered), Says: "It starts.", Verdict: startup.Starts},
		{Name: "an older system, not blessed", At: at(firmware.X64, "sata", older(0), nil), Says: "Bless it: the Startup Disk of its installer or of the recovery.", Verdict: startup.Stops, Stage: "loader", Words: "blessed"},
		{Name: "in a PC", At: func(t *testing.T) machine.Machine {
			m := at(firmware.X64, "sata", whole, nil)(t)
			m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Tell(false))
			return m
		}, Says: "A PC's firmware does not read it.", Verdict: startup.Stops, Stage: "loader"},
	}
}
