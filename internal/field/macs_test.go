package field_test

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

func TestMacs(t *testing.T) {
	t.Parallel()
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
	hold(t, []met{
		{name: "the whole container, built in", at: at(firmware.X64, "sata", whole, offered), says: "The list of Option shows it: it starts.", verdict: startup.Starts},
		{name: "the whole container, before anyone looked", at: at(firmware.X64, "sata", whole, nil), says: "Hold Option and look whether it is offered.", verdict: startup.Depends, words: "Option"},
		{name: "the whole container, not offered", at: at(firmware.X64, "sata", whole, map[string]string{"mac-offered:clone": "no"}),
			says: "A question mark: choose it as the start-up disk in the recovery, before anything is installed.", verdict: startup.Stops, stage: "loader", words: "question mark", first: "mac-bless"},
		{name: "on USB, with a security chip as delivered", at: at(firmware.X64, "usb", whole, map[string]string{"mac-offered:clone": "yes", "mac-external:clone": "no"}),
			says: "Startup Security Utility: allow external media.", verdict: startup.Stops, stage: "loader", words: "external", first: "mac-external"},
		{name: "on USB, nobody looked at the security", at: at(firmware.X64, "usb", whole, offered), says: "With a T2 chip external media are off: look in the utility.", verdict: startup.Depends, words: "not built in"},
		{name: "on USB, arm64", at: at(firmware.ARM64, "usb", whole, offered), says: "Hold the power button, choose it: an arm64 Mac has no such setting.", verdict: startup.Starts},
		{name: "files of the system alone", at: at(firmware.X64, "sata", container(open, data, preboot, recovery), map[string]string{"mac-offered:clone": "yes", "mac-installed:clone": "no"}),
			says: "A circle with a line: the seal is gone; install the system over it.", verdict: startup.Stops, stage: "system", words: "circle", first: "mac-install"},
		{name: "without Preboot", at: at(firmware.X64, "sata", container(sealed, data), nil), says: "Nothing to start from: the copy left Preboot out.", verdict: startup.Stops, stage: "loader",
			words: "no Preboot", first: "mac-install"},
		{name: "data alone", at: at(firmware.X64, "sata", container(data, preboot), nil),
			says: "There is no system on it: install it, the data stay.", verdict: startup.Stops, stage: "loader",
			words: "no volume of a system", first: "mac-install"},
		{name: "an older system, blessed", at: at(firmware.X64, "sata", older(5), offered), says: "It starts.", verdict: startup.Starts},
		{name: "an older system, not blessed", at: at(firmware.X64, "sata", older(0), nil), says: "Bless it: the Startup Disk of its installer or of the recovery.", verdict: startup.Stops, stage: "loader", words: "blessed"},
		{name: "in a PC", at: func(t *testing.T) machine.Machine {
			m := at(firmware.X64, "sata", whole, nil)(t)
			m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.ReadsMacVolumes, fact.Tell(false))
			return m
		}, says: "A PC's firmware does not read it.", verdict: startup.Stops, stage: "loader"},
	})
}
