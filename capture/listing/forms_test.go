package listing_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/simplifiedchinese"

	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// Every tool of Debian's that lists partitions, in every form it has: what is read of its
// output is what the bytes say, or not told.
func TestEveryFormOfDebiansTools(t *testing.T) {
	for _, style := range []string{"gpt", "dos"} {
		path := written(t, style)
		held := contents(t, path)
		for _, form := range []struct {
			args   []string
			format listing.Format
		}{
			{[]string{"fdisk", "--list", path}, listing.Fdisk}, {[]string{"sfdisk", "--list", path}, listing.Fdisk},
			{[]string{"sgdisk", "--print", path}, listing.Sgdisk}, {[]string{"gdisk", "-l", path}, listing.Sgdisk},
			{[]string{"parted", "-s", path, "print"}, listing.PartedPrint}, {[]string{"parted", "-s", path, "unit",
				"B", "print"}, listing.PartedPrint},
			{[]string{"parted", "-s", path, "unit", "s", "print"}, listing.PartedPrint}, {[]string{"parted", "-s",
				path, "unit", "MiB", "print"}, listing.PartedPrint},
			{[]string{"parted", "-s", "-j", path, "print"}, listing.PartedJSON}, {[]string{"parted", "-s", "-j",
				path, "unit", "s", "print"}, listing.PartedJSON},
			{[]string{"parted", "-s", "-m", path, "unit", "B", "print"}, listing.Parted}, {[]string{"parted", "-s",
				"-m", path, "print"}, listing.Parted},
		} {
			t.Run(style+" "+strings.Join(form.args[:len(form.args)-1], " "), func(t *testing.T) {
				out := "root@bench:~# " + strings.Join(form.args, " ") + "\n" + reference.Printed(form.args[0],
					form.args[1:]...) + "root@bench:~# "
				l := read(t, out)
				assert.Equal(t, form.format, l.Format)
				require.Len(t, l.Disks, 1)
				told := l.Disks[0].Contents()
				_, contradictions := machine.Merge("x", held, told)
				assert.Empty(t, contradictions)
				agrees(t, held, told, &l.Disks[0])
				if form.format == listing.Sgdisk {
					assert.Equal(t, held.Layout.Style, told.Layout.Style, "what it says before the list")
				}
			})
		}
	}
}

// agrees holds what is told against the bytes: exactly where it is exact.
func agrees(t *testing.T, held, told *machine.Contents, d *machine.Described) {
	t.Helper()
	if told.Layout.Style != disk.StyleUnknown {
		assert.Equal(t, held.Layout.Style, told.Layout.Style)
	}
	if d.Size > 0 && !d.Rounded {
		assert.EqualValues(t, 512<<20, d.Size)
	}
	require.Len(t, told.Layout.Partitions, len(held.Layout.Partitions))
	for i, p := range told.Layout.Partitions {
		q := held.Layout.Partitions[i]
		if !p.Rough {
			assert.Equal(t, [2]uint64{q.Start, q.Length}, [2]uint64{p.Start, p.Length})
		} else {
			assert.InDelta(t, q.Start, p.Start, 2048)
		}
		if !p.TypeGUID.IsZero() {
			assert.Equal(t, q.TypeGUID, p.TypeGUID)
		}
		if p.MBRType != 0 {
			assert.Equal(t, q.MBRType, p.MBRType)
		}
		if !p.ActiveOpen {
			assert.Equal(t, q.Active, p.Active)
		}
	}
}

func TestInfoOfOnePartition(t *testing.T) {
	path := written(t, "gpt")
	l := read(t, "# sgdisk -i 2 /dev/sda\n"+reference.Run(t, "", "sgdisk", "-i", "2", path))
	assert.Equal(t, listing.Sgdisk, l.Format)
	require.Len(t, l.Disks[0].Partitions, 1)
	p, q := l.Disks[0].Partitions[0], contents(t, path).Layout.Partitions[1]
	assert.Equal(t, 2, p.Number)
	assert.Equal(t, q.TypeGUID, p.Type)
	assert.Equal(t, q.GUID, p.GUID)
	assert.EqualValues(t, q.Start*512, p.Start)
	assert.EqualValues(t, q.Length*512, p.Length)
	assert.False(t, l.Disks[0].Whole)
}

// lsblk(8) in forms other than the recommended one; from memory, the columns of its pages.
func TestLsblkInEveryForm(t *testing.T) {
	for name, text := range map[string]string{
		"plain": `$ lsblk
NAME        MAJ:MIN RM   SIZE RO TYPE MOUNTPOINTS
loop0         7:0    0  63.9M  1 loop /snap/core/1
sda           8:0    0 465.8G  0 disk
├─sda1        8:1    0   100M  0 part /boot/efi
└─sda2        8:2    0 465.7G  0 part /
nvme0n1     259:0    0 931.5G  0 disk
└─nvme0n1p1 259:1    0 931.5G  0 part
`,
		"file systems": `$ lsblk -f
NAME        FSTYPE FSVER LABEL  UUID                                 FSAVAIL FSUSE% MOUNTPOINTS
sda
├─sda1      vfat   FAT32 SYSTEM 6A31-0001                             90.1M     9% /boot/efi
└─sda2      ext4   1.0   root   0a1b2c3d-0000-4000-8000-000000000001  400G     7% /
nvme0n1
└─nvme0n1p1 ntfs         data   01D0C0DE01D0C0DE
`,
		"pairs": `NAME="sda" TYPE="disk" SIZE="500107862016" PTTYPE="gpt"
NAME="sda1" TYPE="part" SIZE="104857600" FSTYPE="vfat" PKNAME="sda"
NAME="sda2" TYPE="part" SIZE="499000000000" FSTYPE="ext4" PKNAME="sda"
NAME="nvme0n1" TYPE="disk" SIZE="1000204886016"
NAME="nvme0n1p1" TYPE="part" SIZE="1000204886016" FSTYPE="ntfs"
`,
	} {
		t.Run(name, func(t *testing.T) {
			l := read(t, text)
			assert.Equal(t, listing.LsblkTable, l.Format)
			require.Len(t, l.Disks, 2, "%+v", l.Disks)
			assert.Equal(t, []string{"sda", "nvme0n1"}, []string{l.Disks[0].Name, l.Disks[1].Name})
			require.Len(t, l.Disks[0].Partitions, 2)
			require.Len(t, l.Disks[1].Partitions, 1)
			assert.True(t, l.Disks[0].Whole, "another disk follows")
			assert.False(t, l.Disks[1].Whole, "the text may have been cut off")
			if name != "plain" {
				assert.Equal(t, volume.KindExt, l.Disks[0].Partitions[1].Kind)
				assert.Equal(t, volume.KindNTFS, l.Disks[1].Partitions[0].Kind)
			}
			if name != "file systems" {
				assert.InDelta(t, 500107862016, l.Disks[0].Size, 1<<27)
				assert.InDelta(t, 104857600, l.Disks[0].Partitions[0].Length, 1<<20)
			}
		})
	}
}

func TestBlkidInEveryForm(t *testing.T) {
	for name, text := range map[string]string{
		"export": "DEVNAME=/dev/sda1\nUUID=6A31-0001\nLABEL=THE\\ SYSTEM\nTYPE=vfat\nPARTUUID=7e21b6d0-4c1a-4f0b-9a55-3c5a19e00072\n\nDEVNAME=/dev/sda2\nUUID=x\nTYPE=ext4\n",
		"list":   "device     fs_type label      mount point    UUID\n--------------------------------------------------------\n/dev/sda1  vfat    THE SYSTEM /boot/efi      6A31-0001\n/dev/sda2  ext4               /              x\n",
	} {
		l := read(t, text)
		assert.Equal(t, listing.Blkid, l.Format, name)
		require.Len(t, l.Disks, 1, name)
		require.Len(t, l.Disks[0].Partitions, 2, name)
		p := l.Disks[0].Partitions[0]
		assert.Equal(t, volume.KindFAT, p.Kind, name)
		assert.Equal(t, "THE SYSTEM", p.Label, name)
		assert.Equal(t, "6A31-0001", p.Serial, name)
	}
}

// The Mac's own commands for people; from memory.
func TestMacTexts(t *testing.T) {
	l := read(t, `user@mac ~ % diskutil list
/dev/disk0 (internal, physical):
   #:                       TYPE NAME                    SIZE       IDENTIFIER
   0:      GUID_partition_scheme                        *500.3 GB   disk0
   1:                        EFI EFI                     209.7 MB   disk0s1
   2:                 Apple_APFS Container disk1         500.1 GB   disk0s2

/dev/disk1 (synthesized):
   #:                       TYPE NAME                    SIZE       IDENTIFIER
   0:      APFS Container Scheme -                      +500.1 GB   disk1
   1:                APFS Volume Macintosh HD            11.2 GB    disk1s1

user@mac ~ % diskutil info disk0
   Device Identifier:         disk0
   Part of Whole:             disk0
   Whole:                     Yes
   Device / Media Name:       Corvane X

   Content (IOContent):       GUID_partition_scheme
   Protocol:                  PCI-Express
   Disk Size:                 500.3 GB (500277790720 Bytes) (exactly 977105060 512-Byte-Units)
   Device Block Size:         4096 Bytes
`)
	require.Len(t, l.Disks, 1, "%+v", l.Disks)
	d := l.Disks[0]
	assert.EqualValues(t, 500277790720, d.Size)
	assert.Equal(t, "nvme", d.Bus)
	assert.Equal(t, disk.StyleGPT, d.Style)
	require.Len(t, d.Partitions, 2)
	assert.Equal(t, disk.TypeESP, d.Partitions[0].Type)
	assert.Equal(t, disk.TypeAPFS, d.Partitions[1].Type)
	assert.True(t, d.Whole)
	l = read(t, `gpt show: /dev/disk0: mediasize=500107862016; sectorsize=512; blocks=976773168
       start       size  index  contents
           0          1         PMBR
           1          1         Pri GPT header
          40     409600      1  GPT part - C12A7328-F81F-11D2-BA4B-00A0C93EC93B
      409640  976101368      2  GPT part - 7C3457EF-0000-11AA-AA11-00306543ECAC
   976773167          1         Sec GPT header
`)
	assert.Equal(t, listing.GPTShow, l.Format)
	require.Len(t, l.Disks[0].Partitions, 2)
	assert.EqualValues(t, 40*512, l.Disks[0].Partitions[0].Start)
	assert.True(t, l.Disks[0].Whole)
}

// What a system says of the machine: msinfo32's export and lspci -nn; from memory.
func TestSystemSummaries(t *testing.T) {
	l := read(t,
		"System Summary\n\nItem\tValue\nOS Name\tMicrosoft Windows 10 Pro\nSystem Model\tQuayside K2\nBIOS Mode\tUEFI\nSecure Boot State\tOff\n")
	assert.Equal(t, listing.SystemSummary, l.Format)
	mode, _ := l.Mode.Get()
	assert.Equal(t, firmware.UEFI, mode)
	on, told := l.SecureBoot.Get()
	assert.True(t, told && !on)
	assert.Equal(t, "Quayside K2", l.Model)
	l = read(t, "00:17.0 SATA controller [0106]: Some maker's AHCI mode [8086:a102]\n00:1f.3 Audio device [0403]: x\n")
	ahci, _ := l.StorageMode.Get()
	assert.Equal(t, "ahci", ahci)
	l = read(t, "BIOS-Modus\tVorgängerversion\nSicherer Startzustand\tNicht unterstützt\n")
	mode, _ = l.Mode.Get()
	assert.Equal(t, firmware.Legacy, mode)
	l = read(t, "BIOS Mode\tSomething else\n")
	assert.True(t, l.Empty(), "a value that is not known")
	for text, want := range map[string]bool{
		"$ mokutil --sb-state\nSecureBoot enabled\n": true, "SecureBoot disabled\nPlatform is in Setup Mode\n": false,
		"PS C:\\> Confirm-SecureBootUEFI\nTrue\n": true, "PS C:\\> Confirm-SecureBootUEFI\nFalse\n\nPS C:\\>\n": false,
	} {
		on, told := read(t, text).SecureBoot.Get()
		assert.True(t, told, text)
		assert.Equal(t, want, on, text)
	}
	for text, want := range map[string]firmware.Mode{
		"$ ls /sys/firmware/efi\nconfig_table  efivars  esrt  fw_platform_size  fw_vendor  runtime  runtime-map  systab\n": firmware.UEFI,
		"config_table\nefivars\nfw_platform_size\n":                                                         firmware.UEFI,
		"$ ls /sys/firmware/efi\nls: cannot access '/sys/firmware/efi': No such file or directory\n":        firmware.Legacy,
		"ls: Zugriff auf '/sys/firmware/efi' nicht möglich: Datei oder Verzeichnis nicht gefunden\n":        firmware.Legacy,
		"ls: /sys/firmware/efi: No such file or directory\n":                                                firmware.Legacy,
		"$ [ -d /sys/firmware/efi ] && echo UEFI || echo BIOS\nBIOS\n":                                      firmware.Legacy,
		"PS C:\\> $env:firmware_type\nUEFI\n":                                                               firmware.UEFI,
		"PS C:\\> (Get-ComputerInfo).BiosFirmwareType\nBios\n":                                              firmware.Legacy,
		"BiosFirmwareType                 : Uefi\nBiosManufacturer                 : x\n":                   firmware.UEFI,
		"2026-11-28 08:00:00, Info  IBS  Callback_BootEnvironmentDetect: Detected boot environment: BIOS\n": firmware.Legacy,
	} {
		mode, told := read(t, text).Mode.Get()
		assert.True(t, told, text)
		assert.Equal(t, want, mode, text)
	}
	_, err := listing.Read("", []byte("ls: cannot access '/sys/firmware/efi/efivars': No such file or directory\n"), "")
	assert.Error(t, err, "the folder above may be there")
	_, err = listing.Read("", []byte("PS C:\\> Test-Path x\nTrue\n"), "")
	assert.Error(t, err, "another command's answer")
	l = read(t, "System:\n      Firmware: UEFI 2.70 (EDK II 1.00)\n Firmware Arch: x64\n   Secure Boot: disabled\n")
	mode, _ = l.Mode.Get()
	assert.Equal(t, firmware.UEFI, mode)
	on, told = l.SecureBoot.Get()
	assert.True(t, told && !on)
}

// One text of several commands, with prompts and without, and texts that say nothing of a
// disk: each is named, with the command that does.
func TestSeveralAndNone(t *testing.T) {
	path := written(t, "dos")
	dump := reference.Run(t, "", "sfdisk", "--dump", path)
	two := dump + "\n" + strings.ReplaceAll(dump, "0x5a17c0de", "0x00000001")
	l := read(t, two)
	require.Len(t, l.Disks, 2, "two dumps are two disks")
	assert.Equal(t, []string{"5A17C0DE", "00000001"}, []string{l.Disks[0].ID, l.Disks[1].ID})
	assert.Len(t, l.Disks[0].Partitions, 2)
	l = read(t, "a@b:~$ sudo sfdisk -d /dev/sda\n"+strings.ReplaceAll(dump, path,
		"/dev/sda")+"a@b:~$ sudo blkid\n/dev/sda1: UUID=\"6A31-0001\" TYPE=\"vfat\"\n"+
		"a@b:~$ efibootmgr -v\nBootCurrent: 0001\nBootOrder: 0001\nBoot0001* x\tHD(1,GPT,11111111-2222-3333-4444-555555555555,0x800,0x10)/File(\\a.efi)\na@b:~$ df -h\nFilesystem      Size  Used Avail Use% Mounted on\n")
	assert.Equal(t, listing.Several, l.Format)
	require.Len(t, l.Disks, 1)
	assert.Equal(t, "6A31-0001", l.Disks[0].Partitions[0].Serial)
	assert.True(t, l.Disks[0].Whole)
	require.NotNil(t, l.Entries)
	assert.False(t, l.Entries.NextOpen)
	assert.Contains(t, l.Problem, "This is df")
	for text, want := range map[string]string{
		"/dev/md0:\n           Version : 1.2\n        Raid Level : raid1\n":                       "mdadm",
		"  LV   VG Attr       LSize\n  root vg -wi-ao---- 10g\n":                                  "logical volumes",
		"LUKS header information\nVersion: 2\n":                                                   "luksDump",
		"BitLocker Drive Encryption: Configuration Tool version 10.0.1\n":                         "manage-bde",
		"bash: sfdisk: command not found\n":                                                       "not found",
		"\xFF\xD8\xFF\xE0\x00\x10JFIF":                                                            "photograph",
		"fdisk: cannot open /dev/sda: Permission denied\n":                                        "administrator",
		"\n/dev/sda:\n\nATA device, with non-removable media\n\tModel Number:       Fenmark D4\n": "of itself",
		"  *-disk\n       description: ATA Disk\n       logical name: /dev/sda\n":                 "lshw",
		"major minor  #blocks  name\n\n   8        0  500107608 sda\n":                            "/proc/partitions",
		"lrwxrwxrwx 1 root root 10 Nov 28 03:12 1A2B-3C4D -> ../../sda1\n":                        "/dev/disk",
		"BOOT_IMAGE=/boot/vmlinuz-6.1.0-13-amd64 root=UUID=0a7c6f2e ro quiet\n":                   "kernel line",
		"EFI variables are not supported on this system.\n":                                       "legacy mode",
	} {
		_, err := listing.Read("", []byte(text), "")
		assert.ErrorContains(t, err, want, text)
	}
}

// Code pages of Windows and of its console: the words come out.
func TestCodePages(t *testing.T) {
	german, polish, russian, chinese := "Datenträger 0    Online          465 GB  Größe für",
		"Dysk ###  Stan   Rozmiar  Wolne  Właściwości dysków są puste", "Диск 0 размер свободно состояние",
		"磁盘 0 联机 大小 可用"
	encode := func(name string, bytes []byte, err error, want string) {
		require.NoError(t, err)
		l, err := listing.Read("", append(bytes, "\nBootOrder: 0001\n"...), listing.Efibootmgr)
		require.NoError(t, err)
		assert.Equal(t, want, l.Lines[0].Text, name)
	}
	for name, c := range map[string]*charmap.Charmap{"850": charmap.CodePage850, "437": charmap.CodePage437,
		"1252": charmap.Windows1252} {
		b, err := c.NewEncoder().Bytes([]byte(german))
		encode(name, b, err, german)
	}
	for name, c := range map[string]*charmap.Charmap{"852": charmap.CodePage852, "1250": charmap.Windows1250} {
		b, err := c.NewEncoder().Bytes([]byte(polish))
		encode(name, b, err, polish)
	}
	for name, c := range map[string]*charmap.Charmap{"866": charmap.CodePage866, "1251": charmap.Windows1251} {
		b, err := c.NewEncoder().Bytes([]byte(russian))
		encode(name, b, err, russian)
	}
	b, err := simplifiedchinese.GBK.NewEncoder().Bytes([]byte(chinese))
	encode("936", b, err, chinese)
}

// Lines that a window broke at its edge are one again.
func TestWrappedLines(t *testing.T) {
	wrap := func(s string, width int) string {
		var b strings.Builder
		for _, line := range strings.Split(s, "\n") {
			for len(line) > width {
				b.WriteString(line[:width] + "\n")
				line = line[width:]
			}
			b.WriteString(line + "\n")
		}
		return b.String()
	}
	entries := "$ efibootmgr -v\nBootCurrent: 0001\nTimeout: 1 seconds\nBootOrder: 0001,0000,0002,0003\n" +
		"Boot0000* Setup\tFvFile(7c04a583-9e3e-4f1c-ad65-e05268d0b4d1)\n" +
		"Boot0001* Windows Boot Manager\tHD(1,GPT,11111111-2222-3333-4444-555555555555,0x800,0x32000)/File(\\EFI\\Microsoft\\Boot\\bootmgfw.efi)\n"
	tags := "/dev/sda1: LABEL=\"SYSTEM\" UUID=\"6A31-0001\" TYPE=\"vfat\" PARTLABEL=\"EFI system\" PARTUUID=\"7e21b6d0-4c1a-4f0b-9a55-3c5a19e00072\"\n" +
		"/dev/sda2: UUID=\"x\" TYPE=\"ext4\"\n"
	whole := read(t, twoDisks).Disks
	for width := 44; width < 140; width += 3 {
		l := read(t, wrap(entries, width))
		assert.Equal(t, `\EFI\Microsoft\Boot\bootmgfw.efi`, l.Entries.All[1].Path.File, width)
		assert.Equal(t, []uint16{1, 0, 2, 3}, l.Entries.Order, width)
		l = read(t, wrap(tags, width))
		require.Len(t, l.Disks[0].Partitions, 2, width)
		assert.Equal(t, "SYSTEM", l.Disks[0].Partitions[0].Label, width)
		assert.Equal(t, "7E21B6D0-4C1A-4F0B-9A55-3C5A19E00072", l.Disks[0].Partitions[0].GUID.String(), width)
		l = read(t, wrap(twoDisks, width))
		require.Len(t, l.Disks, len(whole), width)
		assert.Equal(t, whole[0].Size, l.Disks[0].Size, width)
		assert.Equal(t, whole[0].Partitions[1].Length, l.Disks[0].Partitions[1].Length, width)
		assert.Equal(t, whole[0].Partitions[1].Type, l.Disks[0].Partitions[1].Type, width)
	}
}
