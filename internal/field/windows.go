package field

import (
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// hive is a SYSTEM hive that hivex writes, an independent writer of the format: the start types of
// drivers, and the partition that C: leads to.
func hive(t *testing.T, c diskmaker.Place, drivers map[string]string) []byte {
	t.Helper()
	key := func(path string) string { return "\n[HKEY_LOCAL_MACHINE\\SYSTEM\\" + path + "]\n" }
	var b strings.Builder
	b.WriteString("Windows Registry Editor Version 5.00\n" + key("Select") + "\"Current\"=dword:00000001\n\"Default\"=dword:00000001\n" +
		key("ControlSet001") + key(`ControlSet001\Control`) + "\"CurrentUser\"=\"USERNAME\"\n" + key(`ControlSet001\Services`))
	for _, name := range []string{"disk", "storahci", "stornvme", "iaStorV", "iaStorAVC", "iaStorVD", "USBSTOR", "pciide", "intelide", "vmd"} {
		start, is := drivers[name]
		if !is {
			continue
		}
		start, over, overridden := strings.Cut(start, "/")
		b.WriteString(key(`ControlSet001\Services\`+name) + "\"Start\"=dword:0000000" + start + "\n\"Type\"=dword:00000001\n")
		if overridden {
			b.WriteString(key(`ControlSet001\Services\`+name+`\StartOverride`) + "\"0\"=dword:0000000" + over + "\n")
		}
	}
	b.WriteString(key("MountedDevices"))
	raw := append([]byte("DMIO:ID:"), c.Partition[:]...)
	if c.Signature != 0 {
		raw = []byte{byte(c.Signature), byte(c.Signature >> 8), byte(c.Signature >> 16), byte(c.Signature >> 24)}
		for i := range 8 {
			raw = append(raw, byte(c.Start>>(8*i)))
		}
	}
	text := hex.EncodeToString(raw)
	var bytes []string
	for i := 0; i < len(text); i += 2 {
		bytes = append(bytes, text[i:i+2])
	}
	b.WriteString(`"\\DosDevices\\C:"=hex:` + strings.Join(bytes, ",") + "\n")
	return hiveOf(t, b.String())
}

var (
	hivesMu sync.Mutex
	hives   = map[string][]byte{}
)

func hiveOf(t *testing.T, text string) []byte {
	t.Helper()
	hivesMu.Lock()
	defer hivesMu.Unlock()
	if hives[text] == nil {
		reference.Need(t, "hivexregedit")
		path, merge := filepath.Join(t.TempDir(), "SYSTEM"), filepath.Join(t.TempDir(), "merge.reg")
		require.NoError(t, os.WriteFile(path, (&diskmaker.Key{}).Bytes(), 0o600))
		require.NoError(t, os.WriteFile(merge, []byte(text), 0o600))
		reference.Run(t, "", "hivexregedit", "--merge", "--prefix", `HKEY_LOCAL_MACHINE\SYSTEM`, path, merge)
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		hives[text] = raw
	}
	return hives[text]
}

// inbox are the start types that a Windows of today has, installed on SATA with AHCI.
var inbox = map[string]string{"disk": "0", "storahci": "0", "stornvme": "0/3", "iaStorV": "3", "iaStorAVC": "3", "USBSTOR": "3", "pciide": "3"}

func but(more map[string]string) map[string]string {
	all := map[string]string{}
	for name, start := range inbox {
		all[name] = start
	}
	for name, start := range more {
		if all[name] = start; start == "" {
			delete(all, name)
		}
	}
	return all
}

// windowsLaid is how a Windows with UEFI is laid out, of the disk of an identifier.
func windowsLaid(id byte) diskmaker.Disk {
	recovery := disk.MustGUID("DE94BBA4-06D1-4D40-A16A-BFD50179D6AC")
	return diskmaker.Disk{Sectors: 1000 << 11, Style: diskmaker.GPT, GUID: disk.MustGUID(fmt.Sprintf("AD15C000-0000-4000-8000-0000000000%02X", id*16)),
		Partitions: []diskmaker.Partition{
			{Type: disk.TypeESP, MiB: 100, Name: "EFI system partition", Volume: diskmaker.Volume{Kind: "fat32"}},
			{Type: disk.MustGUID("E3C9E316-0B5C-4DB8-817D-F92DF00215AE"), MiB: 16, Name: "Microsoft reserved partition"},
			{Type: disk.TypeBasicData, MiB: 600, Name: "Basic data partition"},
			{Type: recovery, MiB: 200, Attributes: 0x8000000000000001, Volume: diskmaker.Volume{Kind: "ntfs",
				Files: map[string][]byte{`\Recovery\WindowsRE\Winre.wim`: []byte("MSWIM\x00\x00\x00")}}},
		}}
}

// windows is such a disk with its system; its store and its letters name what names says.
func windows(t *testing.T, id, names byte, drivers map[string]string) diskmaker.Disk {
	t.Helper()
	d, was := windowsLaid(id), windowsLaid(names)
	boot, err := was.Place(0)
	require.NoError(t, err)
	system, err := was.Place(2)
	require.NoError(t, err)
	manager := diskmaker.Program{Is: "windows", Signed: true, Size: 8192}.Bytes()
	d.Partitions[0].Volume.Files = map[string][]byte{`\EFI\Microsoft\Boot\bootmgfw.efi`: manager, `\EFI\Boot\bootx64.efi`: manager,
		`\EFI\Microsoft\Boot\BCD`: diskmaker.BootStore{Boot: boot, System: system, Beside: true}.Bytes()}
	d.Partitions[2].Volume = diskmaker.Volume{Kind: "ntfs", UsedMiB: 100, Files: map[string][]byte{`\Windows\System32\winload.efi`: x64,
		`\Windows\System32\winload.exe`: x64, `\Windows\System32\ntoskrnl.exe`: x64, `\Windows\System32\config\SYSTEM`: hive(t, system, drivers), `\pagefile.sys`: []byte("x")}}
	return d
}

// managed is the entry that Windows has for itself.
func managed(t *testing.T, d diskmaker.Disk) []firmware.Entry {
	return []firmware.Entry{entry(t, "Windows Boot Manager", d, 0, `\EFI\Microsoft\Boot\bootmgfw.efi`)}
}

// replaced is a clone in the place of the original, whose bus and entry are known.
func replaced(t *testing.T, bus string, was, is diskmaker.Disk) machine.Machine {
	m := pc(firmware.UEFI, managed(t, was), on(t, machine.RoleClone, bus, is), machine.Drive{Name: "original",
		Role: machine.RoleOriginal, Bus: fact.Tell("sata"), Attached: fact.Tell(false)})
	m.Firmware.Behaviour = m.Firmware.Behaviour.With(firmware.StartsFromNVMe, fact.Tell(true))
	return m
}

func windowses(t *testing.T) []Met {
	at := func(bus string, id, names byte, drivers map[string]string,
		change ...func(*diskmaker.Disk)) func(*testing.T) machine.Machine {
		return func(t *testing.T) machine.Machine {
			d := windows(t, id, names, drivers)
			for _, c := range change {
				c(&d)
			}
			return replaced(t, bus, windowsLaid(1), d)
		}
	}
	without := func(partition int, files ...string) func(*diskmaker.Disk) {
		return func(d *diskmaker.Disk) {
			for _, f := range files {
				delete(d.Partitions[partition].Volume.Files, f)
			}
		}
	}
	both := func(bus string, id, names byte) func(*testing.T) machine.Machine {
		return func(t *testing.T) machine.Machine {
			was := windows(t, 1, 1, inbox)
			entries := append(managed(t, windowsLaid(id)), managed(t, windowsLaid(1))...)
			return pc(firmware.UEFI, entries, on(t, machine.RoleClone, bus, windows(t, id, names, inbox)),
				on(t, machine.RoleOriginal, "sata", was))
		}
	}
	return []Met{
		{Name: "copied sector by sector", At: at("sata", 1, 1, inbox), Says: "It starts.", Verdict: startup.Starts},
		{Name: "new identifiers, the store of before", At: at("sata", 2, 1, inbox), Says: "0xc000000e: bcdboot, or correct the store's devices.",
			Verdict: startup.Stops, Stage: "configuration", Words: "0xc000000e"},
		{Name: "to NVMe, its driver is loaded at start", At: at("nvme", 1, 1, but(map[string]string{"stornvme": "0"})), Says: "stornvme is a boot driver: it starts.", Verdict: startup.Starts},
		{Name: "to NVMe, its driver is overridden", At: at("nvme", 1, 1, inbox), Says: "StartOverride may keep stornvme from loading, or Windows finds it: start it once and look.", Verdict: startup.Depends, Words: "NVMe"},
		{Name: "to NVMe, its driver is loaded on demand", At: at("nvme", 1, 1, but(map[string]string{"stornvme": "3"})),
			Says: "0x7B, INACCESSIBLE_BOOT_DEVICE: safe mode once, or the driver's start type.", Verdict: startup.Stops, Stage: "system", Words: "0x7B"},
		{Name: "to NVMe, a Windows without a driver", At: at("nvme", 1, 1, but(map[string]string{"stornvme": ""})),
			Says: "0x7B: a driver has to be put in first, or SATA.", Verdict: startup.Stops, Stage: "system", Words: "0x7B", First: "-", Remains: "give its system the driver"},
		{Name: "in a USB enclosure", At: at("usb", 1, 1, inbox), Says: "An ordinary Windows does not start from USB: build it in.", Verdict: startup.Stops, Stage: "system", Words: "USB", First: "build-in"},
		{Name: "without its store", At: at("sata", 1, 1, inbox, without(0, `\EFI\Microsoft\Boot\BCD`)), Says: "0xc000000f: bcdboot C:\\Windows.", Verdict: startup.Stops,
			Stage: "configuration", Words: "BCD", First: "windows-boot-files"},
		{Name: "without winload", At: at("sata", 1, 1, inbox, without(2, `\Windows\System32\winload.efi`)), Says: "winload.efi is missing: the copy is damaged; sfc, or copy again.", Verdict: startup.Stops,
			Stage: "system", Words: "winload.efi", First: "-", Remains: "sfc /scannow"},
		{Name: "without its kernel", At: at("sata", 1, 1, inbox, without(2, `\Windows\System32\ntoskrnl.exe`)), Says: "ntoskrnl.exe is missing or corrupt: the copy is damaged; sfc, or copy again.",
			Verdict: startup.Stops, Stage: "system", Words: "ntoskrnl.exe", First: "-", Remains: "sfc /scannow"},
		{Name: "without its registry", At: at("sata", 1, 1, inbox, without(2, diskmaker.RegistryPath)), Says: "config\\SYSTEM is missing: no Windows starts without. Copy again, and not from the running system.",
			Verdict: startup.Stops, Stage: "system", Words: "SYSTEM", First: "-", Remains: "Copy again"},
		{Name: "its registry could not be read from the old drive", At: at("sata", 1, 1, inbox, func(d *diskmaker.Disk) {
			d.Partitions[2].Volume.Files[diskmaker.RegistryPath] = make([]byte, 16384)
		}), Says: "The registry is zeros: its logs may save it, but do not count on it. Copy again.", Verdict: startup.Depends, Words: "cannot be read"},
		{Name: "encrypted, an empty boot partition", At: at("sata", 1, 1, inbox, without(0, `\EFI\Microsoft\Boot\BCD`, `\EFI\Microsoft\Boot\bootmgfw.efi`, `\EFI\Boot\bootx64.efi`), func(d *diskmaker.Disk) {
			d.Partitions[2].Volume = diskmaker.Volume{Kind: "raw", Raw: []byte("\xEB\x58\x90-FVE-FS-")}
		}), Says: "Unlock C: with the recovery key first (manage-bde -unlock), then bcdboot.", Verdict: startup.Stops, Stage: "loader", First: "windows-boot-files"},
		{Name: "an empty boot partition", At: at("sata", 1, 1, inbox, without(0, `\EFI\Microsoft\Boot\BCD`, `\EFI\Microsoft\Boot\bootmgfw.efi`, `\EFI\Boot\bootx64.efi`)),
			Says: "No boot files: bcdboot C:\\Windows /s to the EFI partition.", Verdict: startup.Stops, Stage: "loader", First: "windows-boot-files"},
		{Name: "the boot partition was left behind", At: at("sata", 2, 1, inbox, func(d *diskmaker.Disk) {
			d.Partitions = append([]diskmaker.Partition{}, d.Partitions[2:3]...)
		}), Says: "C: alone was copied: make an EFI partition, then bcdboot.", Verdict: startup.Stops, Stage: "boot-partition"},
		{Name: "hibernated by fast start-up", At: at("sata", 1, 1, inbox, func(d *diskmaker.Disk) {
			d.Partitions[2].Volume.Files[`\hiberfil.sys`] = append([]byte("hibr"), make([]byte, 9000)...)
		}), Says: "It starts, and wakes what the original left: shut it down whole before copying.", Verdict: startup.Starts, Words: "asleep"},
		{Name: "encrypted", At: at("sata", 1, 1, inbox, func(d *diskmaker.Disk) {
			d.Partitions[2].Volume = diskmaker.Volume{Kind: "raw", Raw: []byte("\xEB\x58\x90-FVE-FS-")}
		}), Says: "The TPM lets it start where nothing else changed; else it asks for the recovery key.", Verdict: startup.Depends, Words: "recovery key"},
		{Name: "no entry, as in another machine", At: func(t *testing.T) machine.Machine {
			m := replaced(t, "sata", windowsLaid(1), windows(t, 1, 1, inbox))
			m.Firmware.Entries = &firmware.Entries{All: map[uint16]firmware.Entry{}}
			return m
		}, Says: "Most boards try \\EFI\\Boot\\bootx64.efi; else an entry has to be made.", Verdict: startup.Depends, Words: "fallback"},
		{Name: "the original beside it, the same identifiers", At: both("nvme", 1, 1), Says: "Two disks with one identifier: unplug the original, then start.",
			Verdict: startup.Depends, Words: "same identifiers", First: "-", Remains: "Unplug the original before anything else"},
		{Name: "the original beside it, identifiers of its own and C: the original's", At: func(t *testing.T) machine.Machine {
			clone := windows(t, 2, 2, inbox)
			place, _ := windowsLaid(1).Place(2)
			clone.Partitions[2].Volume.Files[`\Windows\System32\config\SYSTEM`] = hive(t, place, inbox)
			return pc(firmware.UEFI, managed(t, windowsLaid(2)), on(t, machine.RoleClone, "sata", clone),
				on(t, machine.RoleOriginal, "sata", windows(t, 1, 1, inbox)))
		}, Says: "It comes up with C: on the old disk, half of each: unplug the original for the first start.", Verdict: startup.Stops, Stage: "system", Words: "C:", First: "detach-original"},
		{Name: "from RAID to AHCI, its driver on demand", At: func(t *testing.T) machine.Machine {
			m := replaced(t, "sata", windowsLaid(1), windows(t, 1, 1, but(map[string]string{"storahci": "0/3", "iaStorAVC": "0"})))
			m.Firmware.StorageMode, m.Firmware.StorageModeBefore = fact.Tell("ahci"), fact.Tell("raid")
			return m
		}, Says: "0x7B is likely: set the controller back to RAID, or safe mode once.", Verdict: startup.Depends, Words: "AHCI"},
		{Name: "under secure boot", At: func(t *testing.T) machine.Machine {
			m := replaced(t, "sata", windowsLaid(1), windows(t, 1, 1, inbox))
			m.Firmware.SecureBoot = fact.Tell(true)
			return m
		}, Says: "Windows' own programs are signed for it: it starts.", Verdict: startup.Starts},
		{Name: "in legacy mode", At: func(t *testing.T) machine.Machine {
			m := replaced(t, "sata", windowsLaid(1), windows(t, 1, 1, inbox))
			m.Firmware.Mode, m.DeviceOrder = fact.Tell(firmware.Legacy), []string{"clone"}
			return m
		}, Says: "GPT does not start in legacy mode: set the firmware to UEFI.", Verdict: startup.Stops, Stage: "mode", First: "set-mode"},
	}
}

// sevenLaid is how a Windows 7 with legacy firmware is laid out; hidden is what its boot sectors say of their
// place, 0 for the truth.
func sevenLaid(signature uint32, hidden uint32) diskmaker.Disk {
	return diskmaker.Disk{Sectors: 800 << 11, Style: diskmaker.MBR, Signature: signature, BootCode: "classic",
		Partitions: []diskmaker.Partition{
			{MBRType: 7, MiB: 100, Active: true, Volume: diskmaker.Volume{Kind: "ntfs", Label: "System Reserved"}, Hidden: hidden},
			{MBRType: 7, MiB: 600, Volume: diskmaker.Volume{Kind: "ntfs", UsedMiB: 100}}}}
}

func seven(t *testing.T, d diskmaker.Disk, names uint32) diskmaker.Disk {
	t.Helper()
	was := sevenLaid(names, 0)
	boot, err := was.Place(0)
	require.NoError(t, err)
	system, err := was.Place(1)
	require.NoError(t, err)
	store := diskmaker.BootStore{Legacy: true, Boot: boot, System: system}.Bytes()
	d.Partitions[0].Volume.Files = map[string][]byte{`\bootmgr`: x64, `\Boot\BCD`: store}
	d.Partitions[1].Volume.Files = map[string][]byte{`\Windows\System32\winload.exe`: x64, `\Windows\System32\winload.efi`: x64, `\Windows\System32\ntoskrnl.exe`: x64,
		`\Windows\System32\config\SYSTEM`: hive(t, system, map[string]string{"disk": "0", "msahci": "0", "storahci": "0", "pciide": "0", "USBSTOR": "3"})}
	return d
}

func legacyWindowses(t *testing.T) []Met {
	at := func(mode firmware.Mode, bus string, d disks) func(*testing.T) machine.Machine {
		return func(t *testing.T) machine.Machine {
			m := pc(mode, nil, on(t, machine.RoleClone, bus, d(t)))
			m.DeviceOrder = []string{"clone"}
			return m
		}
	}
	with := func(signature, names uint32, change func(*diskmaker.Disk)) disks {
		return func(t *testing.T) diskmaker.Disk {
			d := seven(t, sevenLaid(signature, 0), names)
			if change != nil {
				change(&d)
			}
			return d
		}
	}
	same := with(0xCAFE0001, 0xCAFE0001, nil)
	return []Met{
		{Name: "copied sector by sector", At: at(firmware.Legacy, "sata", same), Says: "It starts.", Verdict: startup.Starts},
		{Name: "the active flag was left out", At: at(firmware.Legacy, "sata", with(0xCAFE0001, 0xCAFE0001, func(d *diskmaker.Disk) {
			d.Partitions[0].Active = false
		})), Says: "No active partition: mark the reserved one active.", Verdict: startup.Stops, Stage: "boot-partition", First: "set-active"},
		{Name: "the wrong partition is active", At: at(firmware.Legacy, "sata", with(0xCAFE0001, 0xCAFE0001, func(d *diskmaker.Disk) {
			d.Partitions[0].Active, d.Partitions[1].Active = false, true
		})), Says: "BOOTMGR is missing: mark the reserved one active.", Verdict: startup.Stops, Stage: "loader", Words: "BOOTMGR is missing", First: "set-active"},
		{Name: "no boot code in sector 0", At: at(firmware.Legacy, "sata", with(0xCAFE0001, 0xCAFE0001, func(d *diskmaker.Disk) { d.BootCode = "" })),
			Says: "bootrec /fixmbr.", Verdict: startup.Stops, Stage: "table", First: "boot-code"},
		{Name: "a new signature", At: at(firmware.Legacy, "sata", with(0xCAFE0002, 0xCAFE0001, nil)), Says: "0xc000000e: the store names the old signature; give it back, or correct the store.",
			Verdict: startup.Stops, Stage: "configuration", Words: "0xc000000e"},
		{Name: "a boot sector of another place", At: at(firmware.Legacy, "sata", func(t *testing.T) diskmaker.Disk {
			return seven(t, sevenLaid(0xCAFE0001, 63), 0xCAFE0001)
		}), Says: "A disk read error occurred: the hidden sectors are those of the old place.", Verdict: startup.Stops, Stage: "boot-partition", First: "hidden-sectors"},
		{Name: "the reserved partition was left behind", At: at(firmware.Legacy, "sata", with(0xCAFE0001, 0xCAFE0001, func(d *diskmaker.Disk) {
			d.Partitions = d.Partitions[1:]
			d.Partitions[0].Active = true
		})), Says: "BOOTMGR is missing: bcdboot C:\\Windows /s C: from the recovery environment.", Verdict: startup.Stops, Stage: "loader", Words: "BOOTMGR is missing", First: "windows-boot-files"},
		{Name: "in a machine that starts by UEFI alone", At: at(firmware.UEFI, "sata", same), Says: "Legacy support on, or convert to GPT.", Verdict: startup.Stops, Stage: "mode"},
		{Name: "in a USB enclosure", At: at(firmware.Legacy, "usb", same), Says: "0x7B: Windows does not start from USB: build it in.", Verdict: startup.Stops, Stage: "system", Words: "0x7B", First: "-", Remains: "Build the drive into the machine"},
	}
}
