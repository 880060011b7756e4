package listing_test

import (
	"encoding/binary"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

func read(t *testing.T, text string) *listing.Listing {
	t.Helper()
	l, err := listing.Read("", []byte(text), "")
	require.NoError(t, err)
	heldWithLess(t, text, l)
	return l
}

func TestDamagedForms(t *testing.T) {
	// Broken off in the middle of the second partition.
	cut := twoDisks[:strings.Index(twoDisks, `"499000000000"`)]
	l := read(t, cut)
	assert.Contains(t, l.Problem, "breaks off")
	require.Len(t, l.Disks, 1)
	assert.EqualValues(t, 104857600, l.Disks[0].Partitions[0].Length)

	// With the prompt of a terminal around it, in UTF-16, with either line ending.
	dressed := "root@rescue:~# lsblk --json -b -O\r\n" + strings.ReplaceAll(twoDisks, "\n", "\r\n") + "root@rescue:~# "
	for name, raw := range map[string][]byte{
		"UTF-8 with mark": append([]byte{0xEF, 0xBB, 0xBF}, dressed...), "UTF-16": wide(dressed, binary.LittleEndian, true),
		"UTF-16 without mark": wide(twoDisks, binary.LittleEndian, false), "UTF-16 big-endian": wide(dressed, binary.BigEndian, true),
	} {
		l, err := listing.Read("", raw, "")
		require.NoError(t, err, name)
		assert.Len(t, l.Disks, 2, name)
		for _, line := range l.Lines {
			assert.NotEqual(t, listing.Unread, line.State, "%s: %q", name, line.Text)
		}
	}
	for text, want := range map[string]string{
		"": "empty", "Dear colleague,\nthe disk is broken.\n": "none of the listings", "\x00\x01\x02binary\x00\xFF": "not text",
	} {
		_, err := listing.Read("", []byte(text), "")
		assert.ErrorContains(t, err, want)
	}
	_, err := listing.Read("", []byte("x"), "fdisk")
	assert.ErrorContains(t, err, "not known")
	// A format that is insisted on says line by line what it missed.
	l, err = listing.Read("", []byte("BootOrder: 0001\nsomething else\n"), listing.Efibootmgr)
	require.NoError(t, err)
	assert.Equal(t, listing.Unread, l.Lines[1].State)
}

func wide(s string, order binary.AppendByteOrder, mark bool) []byte {
	var b []byte
	if mark {
		b = order.AppendUint16(b, 0xFEFF)
	}
	for _, u := range utf16.Encode([]rune(s)) {
		b = order.AppendUint16(b, u)
	}
	return b
}

// The columns of DiskPart, from its maker's reference and from memory of its
// output, in English and in German.
func TestDiskpart(t *testing.T) {
	for name, text := range map[string]string{
		"English": `DISKPART> list disk

  Disk ###  Status         Size     Free     Dyn  Gpt
  --------  -------------  -------  -------  ---  ---
  Disk 0    Online          465 GB  1024 KB        *
  Disk 1    Online          931 GB      0 B

DISKPART> select disk 0

Disk 0 is now the selected disk.

DISKPART> list partition

  Partition ###  Type              Size     Offset
  -------------  ----------------  -------  -------
  Partition 1    System             100 MB  1024 KB
  Partition 2    Reserved            16 MB   101 MB
  Partition 3    Primary            464 GB   117 MB

DISKPART> detail disk

Corvane S210
Disk ID: {7E21B6D0-4C1A-4F0B-9A55-3C5A19E00071}
Type   : SATA
Status : Online
`,
		"German": `DISKPART> list disk

  Datenträger ###  Status         Größe    Frei     Dyn  GPT
  ---------------  -------------  -------  -------  ---  ---
  Datenträger 0    Online          465 GB  1024 KB        *
  Datenträger 1    Online          931 GB      0 B

DISKPART> select disk 0

Datenträger 0 ist jetzt der gewählte Datenträger.

DISKPART> list partition

  Partition ###  Typ               Größe    Offset
  -------------  ----------------  -------  -------
  Partition 1    System             100 MB  1024 KB
  Partition 2    Reserviert          16 MB   101 MB
  Partition 3    Primär             464 GB   117 MB

DISKPART> detail disk

Corvane S210
Datenträger-ID: {7E21B6D0-4C1A-4F0B-9A55-3C5A19E00071}
Typ   : SATA
Status : Online
`,
	} {
		t.Run(name, func(t *testing.T) {
			l := read(t, text)
			assert.Equal(t, listing.Diskpart, l.Format)
			require.Len(t, l.Disks, 2)
			d := l.Disks[0]
			assert.Equal(t, "Disk 0", d.Name)
			assert.Equal(t, disk.StyleGPT, d.Style)
			assert.Empty(t, l.Disks[1].Style, "MBR, or nothing at all")
			assert.True(t, d.Rounded)
			assert.EqualValues(t, 465<<30, d.Size)
			assert.Equal(t, "7E21B6D0-4C1A-4F0B-9A55-3C5A19E00071", d.ID)
			assert.Equal(t, "sata", d.Bus)
			assert.Equal(t, "Corvane S210", d.Model)
			require.Len(t, d.Partitions, 3)
			assert.Equal(t, disk.RoleBoot, d.Partitions[0].Role)
			assert.EqualValues(t, 100<<20, d.Partitions[0].Length)
			assert.EqualValues(t, 1<<20, d.Partitions[0].Start)
			assert.True(t, d.Contents().Layout.Partitions[0].IsESP())
		})
	}
}

// ConvertTo-Json of the Storage module's objects: its maker's reference; from
// memory. Windows PowerShell redirects in UTF-16.
func TestPowerShell(t *testing.T) {
	disks := `[{"Number":0,"FriendlyName":"Corvane S210","SerialNumber":" C1 ","Size":500107862016,"LogicalSectorSize":512,"PartitionStyle":2,"Guid":"{7e21b6d0-4c1a-4f0b-9a55-3c5a19e00071}","BusType":11},
{"Number":1,"FriendlyName":"Ostra N3","Size":1000204886016,"LogicalSectorSize":512,"PartitionStyle":"MBR","Signature":1511506142,"BusType":"NVMe"}]`
	l, err := listing.Read("", wide(disks, binary.LittleEndian, true), "")
	require.NoError(t, err)
	assert.Equal(t, listing.GetDisk, l.Format)
	require.Len(t, l.Disks, 2)
	assert.Equal(t, "C1", l.Disks[0].Serial)
	assert.Equal(t, "sata", l.Disks[0].Bus)
	assert.Equal(t, "5A17C0DE", l.Disks[1].ID)
	l = read(t, `[{"DiskNumber":0,"PartitionNumber":1,"DriveLetter":"\u0000","Offset":1048576,"Size":104857600,"GptType":"{c12a7328-f81f-11d2-ba4b-00a0c93ec93b}","Guid":"{7e21b6d0-4c1a-4f0b-9a55-3c5a19e00072}"},
{"DiskNumber":0,"PartitionNumber":3,"DriveLetter":"C","Offset":122683392,"Size":498000000000,"GptType":"{ebd0a0a2-b9e5-4433-87c0-68b6b72699c7}"}]`)
	assert.Equal(t, listing.GetPartition, l.Format)
	require.Len(t, l.Disks[0].Partitions, 2)
	assert.Equal(t, "C", l.Disks[0].Partitions[1].Letter)
	assert.Equal(t, "", l.Disks[0].Partitions[0].Letter)
	assert.EqualValues(t, 1048576, l.Disks[0].Partitions[0].Start)
	l = read(t, `{"DriveLetter":"C","FileSystemLabel":"Windows","FileSystem":"NTFS","Size":498000000000,"SizeRemaining":400000000000}`)
	assert.Equal(t, listing.GetVolume, l.Format)
	assert.True(t, l.Empty())
	assert.Contains(t, l.Problem, "Get-Partition")
	// The volume before the partition that it lies in, in one text.
	l = read(t, `{"DriveLetter":"C","FileSystemLabel":"Windows","FileSystem":"NTFS","Size":498000000000,"SizeRemaining":400000000000}

[{"DiskNumber":0,"PartitionNumber":1,"DriveLetter":"C","Offset":1048576,"Size":498000000000,"GptType":"{ebd0a0a2-b9e5-4433-87c0-68b6b72699c7}"}]`)
	assert.Equal(t, listing.Several, l.Format)
	require.Len(t, l.Disks, 1)
	assert.Equal(t, volume.KindNTFS, l.Disks[0].Partitions[0].Kind)
	assert.EqualValues(t, 98000000000, l.Disks[0].Partitions[0].Used)
}

// BCDEdit's reference, "/enum"; headings translated in the second.
func TestBcdedit(t *testing.T) {
	text := `Windows Boot Manager
--------------------
identifier              {9dea862c-5cdd-4e70-acc1-f32b344d4795}
device                  partition=\Device\HarddiskVolume1
path                    \EFI\Microsoft\Boot\bootmgfw.efi
default                 {0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
displayorder            {0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
                        {1ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
timeout                 30

Windows Boot Loader
-------------------
identifier              {0ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
device                  unknown
path                    \Windows\system32\winload.efi
description             Windows
osdevice                partition=C:
systemroot              \Windows
`
	german := strings.NewReplacer("identifier ", "Bezeichner ", "Windows Boot Manager", "Windows-Start-Manager", "Windows Boot Loader", "Windows-Startladeprogramm").Replace(text)
	for _, s := range []string{text, german} {
		l := read(t, s)
		assert.Equal(t, listing.Bcdedit, l.Format)
		mode, _ := l.Mode.Get()
		assert.Equal(t, firmware.UEFI, mode)
		require.NotNil(t, l.Store)
		o, ok := l.Store.Default()
		require.True(t, ok)
		assert.True(t, o.IsLoader())
		e, _ := o.Element(loader.ElementDevice)
		assert.Equal(t, loader.DeviceGone, e.Device.Kind)
		e, _ = o.Element(loader.ElementOSDevice)
		assert.Equal(t, "C", e.Device.Name)
		m, _ := l.Store.Object(loader.BootManager)
		order, _ := m.Element(loader.ElementDisplayOrder)
		assert.Len(t, order.IDs, 2)
	}
}

// diskutil(8); from memory of its property lists.
func TestDiskutil(t *testing.T) {
	l := read(t, `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0"><dict>
<key>AllDisksAndPartitions</key><array>
<dict><key>Content</key><string>GUID_partition_scheme</string><key>DeviceIdentifier</key><string>disk0</string>
<key>Partitions</key><array>
<dict><key>Content</key><string>EFI</string><key>DeviceIdentifier</key><string>disk0s1</string><key>DiskUUID</key><string>6A5102B7-339E-4C0D-A011-7F2E44589CD3</string><key>Size</key><integer>209715200</integer></dict>
<dict><key>Content</key><string>Apple_APFS</string><key>DeviceIdentifier</key><string>disk0s2</string><key>Size</key><integer>499800000000</integer></dict>
</array><key>Size</key><integer>500107862016</integer></dict>
<dict><key>APFSVolumes</key><array><dict><key>DeviceIdentifier</key><string>disk1s1</string></dict></array><key>DeviceIdentifier</key><string>disk1</string></dict>
</array></dict></plist>
`)
	assert.Equal(t, listing.Diskutil, l.Format)
	require.Len(t, l.Disks, 1)
	d := l.Disks[0]
	assert.Equal(t, disk.StyleGPT, d.Style)
	require.Len(t, d.Partitions, 2)
	assert.Equal(t, disk.TypeESP, d.Partitions[0].Type)
	assert.Equal(t, volume.KindAPFS, d.Partitions[1].Kind)
	l = read(t, `<?xml version="1.0"?><plist version="1.0"><dict><key>DeviceIdentifier</key><string>disk0s2</string><key>ParentWholeDisk</key><string>disk0</string>
<key>BusProtocol</key><string>SATA</string><key>DeviceBlockSize</key><integer>512</integer><key>Size</key><integer>499800000000</integer><key>Content</key><string>Apple_APFS</string></dict></plist>`)
	assert.Equal(t, "sata", l.Disks[0].Bus)
	l, err := listing.Read("", []byte("<?xml version=\"1.0\"?><plist><dict><key>A</key>"), "")
	require.NoError(t, err)
	assert.NotEmpty(t, l.Problem)
}

func TestRawVariables(t *testing.T) {
	name := "BootOrder-8be4df61-93ca-11d2-aa0d-00e098032b8c"
	l, err := listing.Read(name, []byte{7, 0, 0, 0, 3, 0, 1, 0}, "")
	require.NoError(t, err)
	assert.Equal(t, listing.Efivar, l.Format)
	assert.Equal(t, []uint16{3, 1}, l.Entries.Order)
}

// A line of a disk that is cut off tells nothing of its partitions: by which sectors they are told
// is not known, and the next line is no disk.
func TestALineOfADiskThatIsCutOff(t *testing.T) {
	const whole = "/dev/sda:100000s:scsi:4096:4096:gpt:M:;"
	const parts = "\n1:2048s:83967s:81920s:::msftdata;\n2:83968s:90000s:6033s:::;\n"
	for n := range len(whole) - len(":M:;") {
		l, err := listing.Read("", []byte("BYT;\n"+whole[:n]+parts), listing.Parted)
		none := err != nil || len(l.Disks) == 0
		require.True(t, none || l.Disks[0].Name == "sda" && l.Disks[0].SectorSize == 4096, whole[:n])
	}
	l, err := listing.Read("", []byte("BYT;\n"+whole+parts), listing.Parted)
	require.NoError(t, err)
	assert.Len(t, l.Disks[0].Partitions, 2)
}

// A table of parted's that was pasted without its columns tells places and lengths, by their order,
// and nothing of what may be left out in a row.
func TestATableWithoutItsColumns(t *testing.T) {
	l, err := listing.Read("", []byte("Model: M (scsi)\nDisk /dev/sda: 201326592B\nSector size (logical/physical): 512B/512B\n"+
		"Partition Table: gpt\n\nNumber Start End Size File system Name Flags\n"+
		" 1 1048576B 68157439B 67108864B fat32 boot, esp\n 2 68157440B 135266303B 67108864B x\n"), "")
	require.NoError(t, err)
	require.Len(t, l.Disks[0].Partitions, 2)
	for i, p := range l.Disks[0].Partitions {
		assert.EqualValues(t, 1<<20+i*(64<<20), p.Start)
		assert.EqualValues(t, 64<<20, p.Length)
		assert.Empty(t, p.Kind)
		assert.Empty(t, p.Name)
	}
	l, err = listing.Read("", []byte("NAME SIZE TYPE FSTYPE LABEL UUID MOUNTPOINT\nsda 100G disk\n├─sda1 512M part vfat AAAA-BBBB /boot\n"+
		"└─sda2 99G part Data /mnt\n"), "")
	require.NoError(t, err)
	require.Len(t, l.Disks, 1)
	require.Len(t, l.Disks[0].Partitions, 2)
	for _, p := range l.Disks[0].Partitions {
		assert.Empty(t, string(p.Kind)+p.Label+p.Serial)
	}
}

// A UUID that is cut off, at the end of a line or by a column, is none: no volume would carry it.
func TestAUUIDThatIsCutOff(t *testing.T) {
	for _, whole := range []string{"6A31-0001", "0badc0de-0000-4000-8000-00000000002a", "3C11A0B2C3D4E5F6", "2026-11-27-23-05-00-00"} {
		for n := range len(whole) + 1 {
			l, err := listing.Read("", []byte("NAME   SIZE TYPE UUID\nsda    100G disk \n└─sda1  99G part "+whole[:n]+"\n"), "")
			require.NoError(t, err)
			want := ""
			if n == len(whole) {
				want = whole
			}
			assert.Equal(t, want, l.Disks[0].Partitions[0].Serial)
		}
	}
}

// samples are small outputs of every format.
func samples() map[listing.Format]string {
	return map[listing.Format]string{
		listing.Lsblk:      twoDisks,
		listing.SfdiskDump: "label: gpt\n/dev/sda1 : start=2048, size=100, type=83, name=\"a,b\"\n",
		listing.SfdiskJSON: `{"partitiontable":{"label":"dos","id":"0x1","device":"a","unit":"sectors","sectorsize":512,"partitions":[{"node":"a1","start":1,"size":2,"type":"7","bootable":true}]}}`,
		listing.Parted:     "BYT;\n/dev/sda:100s:scsi:512:512:gpt:M:;\n1:34s:40s:7s:fat32::boot;\n",
		listing.Diskpart:   "  Disk ###  Status         Size     Free     Dyn  Gpt\n  --------  -------------  -------  -------  ---  ---\n  Disk 0    Online          465 GB  1024 KB        *\n",
		listing.Bcdedit:    "x\n-----\nidentifier              {a}\ndevice                  unknown\n",
		listing.Blkid:      "/dev/sda1: UUID=\"x\" TYPE=\"ext4\"\n",
		listing.Efibootmgr: "BootCurrent: 0001\nBootOrder: 0001\nBoot0001* x\tHD(1,GPT,11111111-2222-3333-4444-555555555555,0x800,0x10)/File(\\a.efi)\n",
		listing.GetDisk:    `[{"Number":0,"Size":1024,"PartitionStyle":"GPT","Guid":"{x}","BusType":"NVMe"}]`,
		listing.Diskutil:   `<?xml version="1.0"?><plist version="1.0"><dict><key>AllDisksAndPartitions</key><array><dict><key>Size</key><integer>1024</integer><key>DeviceIdentifier</key><string>disk0</string><key>Partitions</key><array><dict><key>Size</key><integer>512</integer></dict></array></dict></array></dict></plist>`,
	}
}

// FuzzRead reads texts as what they look like, or as the format that is said.
func FuzzRead(f *testing.F) {
	for format, text := range samples() {
		f.Add([]byte(text), byte(slices.Index(listing.Formats, format)))
		f.Add([]byte(text), byte(255))
	}
	f.Fuzz(func(_ *testing.T, raw []byte, which byte) {
		format := listing.Format("")
		if int(which) < len(listing.Formats) {
			format = listing.Formats[which]
		}
		l, err := listing.Read("", raw, format)
		if err != nil {
			return
		}
		for i := range l.Disks {
			l.Disks[i].Contents()
		}
	})
}

// FuzzPropertyList reads the inside of a property list.
func FuzzPropertyList(f *testing.F) {
	f.Add("<dict><key>WholeDisks</key><array><string>a</string></array></dict>")
	f.Add("<array><array><array/></array></array><!-- x --><data>AAAA</data><date>2026-11-25T00:00:00Z</date><real>1</real>")
	f.Fuzz(func(_ *testing.T, inside string) {
		_, _ = listing.Read("", []byte(`<?xml version="1.0"?><plist version="1.0">`+inside+"</plist>"), listing.Diskutil)
	})
}
