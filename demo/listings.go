package demo

import (
	"encoding/binary"
	"fmt"
	"strings"
	"unicode/utf16"

	"latchkey/internal/diskmaker"
)

// Listing declares the output of a command that the technician pasted.
type Listing struct {
	Filename string
	Text     []byte
	Disks    map[string]string // drive role by the name of a disk in it
}

// Told declares what the technician read off a screen.
type Told struct {
	Style, Capacity string
	Partitions      []ToldPartition
	Whole           bool // the screen shows no other
}

// ToldPartition declares a partition read off a screen.
type ToldPartition struct{ Purpose, Size, FileSystem string }

func pasted(text string, disks map[string]string) Listing { return Listing{"", []byte(text), disks} }

// bootEntries lists the entry that leads to a disk's boot partition, as a running
// Linux shows it.
func bootEntries(d diskmaker.Disk) Listing {
	return pasted(fmt.Sprintf("$ efibootmgr -v\nBootCurrent: 0001\nTimeout: 1 seconds\nBootOrder: 0001,0000\nBoot0000* Setup\tFvFile(7c04a583-9e3e-4f1c-ad65-e05268d0b4d1)\n"+
		"Boot0001* Windows Boot Manager\tHD(1,GPT,%s,0x800,0x32000)/File(\\EFI\\Microsoft\\Boot\\bootmgfw.efi)\n", strings.ToLower(d.PartitionGUID(0).String())), nil)
}

// bootVariable is the raw variable of the entry that leads to a disk's boot
// partition, as Linux keeps it in a file. UEFI Specification 2.10, sections 3.1.3
// and 10.3.
func bootVariable(d diskmaker.Disk) Listing {
	le := binary.LittleEndian
	hd := make([]byte, 42)
	hd[0], hd[1], hd[2] = 4, 1, 42
	le.PutUint32(hd[4:], 1)
	le.PutUint64(hd[8:], 2048)
	le.PutUint64(hd[16:], 204800)
	g := d.PartitionGUID(0)
	copy(hd[24:], g[:])
	hd[40], hd[41] = 2, 2
	name := wide(`\EFI\Microsoft\Boot\bootmgfw.efi` + "\x00")
	path := append(hd, 4, 4, byte(4+len(name)), 0)
	path = append(append(path, name...), 0x7F, 0xFF, 4, 0)
	b := le.AppendUint32(nil, 7) // the attributes that Linux puts first
	b = le.AppendUint32(b, 1)
	b = le.AppendUint16(b, uint16(len(path)))
	b = append(append(b, wide("Windows Boot Manager\x00")...), path...)
	return Listing{"Boot0001-8be4df61-93ca-11d2-aa0d-00e098032b8c", b, nil}
}

func bootOrder() Listing {
	return Listing{"BootOrder-8be4df61-93ca-11d2-aa0d-00e098032b8c", []byte{7, 0, 0, 0, 1, 0}, nil}
}

func wide(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

// listedStore is a boot configuration store as the recovery environment lists it
// when the system's partition is not there.
const listedStore = `Windows Boot Manager
--------------------
identifier              {9dea862c-5cdd-4e70-acc1-f32b344d4795}
device                  partition=\Device\HarddiskVolume1
path                    \EFI\Microsoft\Boot\bootmgfw.efi
description             Windows Boot Manager
default                 {6c2d5f0a-71b3-4e0e-9a44-0d5e7c1b2f90}
displayorder            {6c2d5f0a-71b3-4e0e-9a44-0d5e7c1b2f90}
timeout                 30

Windows Boot Loader
-------------------
identifier              {6c2d5f0a-71b3-4e0e-9a44-0d5e7c1b2f90}
device                  unknown
path                    \Windows\system32\winload.efi
description             Windows
osdevice                unknown
systemroot              \Windows
`

// diskpartSession is what the recovery environment's command shows of two disks.
const diskpartSession = `DISKPART> list disk

  Disk ###  Status         Size     Free     Dyn  Gpt
  --------  -------------  -------  -------  ---  ---
  Disk 0    Online          465 GB  1024 KB        *
  Disk 1    Online          931 GB   465 GB        *

DISKPART> select disk 0

Disk 0 is now the selected disk.

DISKPART> list partition

  Partition ###  Type              Size     Offset
  -------------  ----------------  -------  -------
  Partition 1    System             100 MB  1024 KB
  Partition 2    Reserved            16 MB   101 MB
  Partition 3    Primary            464 GB   117 MB

DISKPART> select disk 1

Disk 1 is now the selected disk.

DISKPART> list partition

  Partition ###  Type              Size     Offset
  -------------  ----------------  -------  -------
  Partition 1    System             100 MB  1024 KB
  Partition 2    Reserved            16 MB   101 MB
  Partition 3    Primary            464 GB   117 MB
`

// storageDisks, storagePartitions and storageVolumes are what a running Windows
// tells of its disk, redirected into files as its shell does: in UTF-16.
func storageDisks() Listing {
	return Listing{"disks.json", wide("\uFEFF" + `[{"Number":0,"FriendlyName":"Corvane S210","SerialNumber":"C210-7714","Size":500107862016,"LogicalSectorSize":512,"PartitionStyle":2,"Guid":"{5b0de9a2-3a77-4a1c-9d0e-2f6a44c1e871}","BusType":11}]` + "\r\n"),
		map[string]string{"Disk 0": "original"}}
}

func storagePartitions() Listing {
	return Listing{"partitions.json", wide("\uFEFF" + `[{"DiskNumber":0,"PartitionNumber":1,"DriveLetter":"\u0000","Offset":1048576,"Size":104857600,"GptType":"{c12a7328-f81f-11d2-ba4b-00a0c93ec93b}","Guid":"{5b0de9a2-3a77-4a1c-9d0e-2f6a44c1e872}"},
{"DiskNumber":0,"PartitionNumber":2,"DriveLetter":"\u0000","Offset":105906176,"Size":16777216,"GptType":"{e3c9e316-0b5c-4db8-817d-f92df00215ae}","Guid":"{5b0de9a2-3a77-4a1c-9d0e-2f6a44c1e873}"},
{"DiskNumber":0,"PartitionNumber":3,"DriveLetter":"C","Offset":122683392,"Size":499982008320,"GptType":"{ebd0a0a2-b9e5-4433-87c0-68b6b72699c7}","Guid":"{5b0de9a2-3a77-4a1c-9d0e-2f6a44c1e874}"}]` + "\r\n"),
		map[string]string{"Disk 0": "original"}}
}

func storageVolumes() Listing {
	return Listing{"volumes.json", wide("\uFEFF" + `[{"DriveLetter":"C","FileSystemLabel":"Windows","FileSystem":"NTFS","Size":499982008320,"SizeRemaining":402118344704}]` + "\r\n"), nil}
}

// partedOf and dumpOf list a disk as Linux' partition tools do.
const partedRadar = "BYT;\n/dev/sdb:1953525168s:scsi:512:512:gpt:Ostra N3:;\n1:2048s:206847s:204800s:fat32:EFI system partition:boot, esp;\n" +
	"2:206848s:239615s:32768s::Microsoft reserved partition:msftres;\n3:239616s:976771071s:976531456s:ntfs:Basic data partition:msftdata;\n"

const dumpGalley = `label: dos
label-id: 0x3b1f77d2
device: /dev/sda
unit: sectors
sector-size: 512

/dev/sda1 : start=        2048, size=     1024000, type=7, bootable
/dev/sda2 : start=     1026048, size=   487370752, type=7
`

const jsonGalley = `{
   "partitiontable": {
      "label":"dos",
      "id":"0x3b1f77d2",
      "device":"/dev/sdb",
      "unit":"sectors",
      "sectorsize":512,
      "partitions": [
         {"node":"/dev/sdb1", "start":2048, "size":1024000, "type":"7"},
         {"node":"/dev/sdb2", "start":1026048, "size":975742976, "type":"7", "bootable":true}
      ]
   }
}
`

const lsblkGalley = `{
   "blockdevices": [
      {"name":"sda", "type":"disk", "size":250059350016, "model":"Halden V2", "tran":"sata", "log-sec":512, "pttype":"dos", "ptuuid":"3b1f77d2"},
      {"name":"sdb", "type":"disk", "size":500107862016, "model":"Corvane S240", "tran":"sata", "log-sec":512, "pttype":"dos", "ptuuid":"3b1f77d2"}
   ]
}
`

const blkidGalley = `/dev/sda1: LABEL="System Reserved" UUID="3C11A0B2C3D4E5F6" TYPE="ntfs" PARTUUID="3b1f77d2-01"
/dev/sda2: UUID="3C12A0B2C3D4E5F6" TYPE="ntfs" PARTUUID="3b1f77d2-02"
/dev/sdb1: LABEL="System Reserved" UUID="3C11A0B2C3D4E5F6" TYPE="ntfs" PARTUUID="3b1f77d2-01"
/dev/sdb2: UUID="3C12A0B2C3D4E5F6" TYPE="ntfs" PARTUUID="3b1f77d2-02"
`

const macList = `<?xml version="1.0" encoding="UTF-8"?>
<plist version="1.0">
<dict>
	<key>AllDisksAndPartitions</key>
	<array>
		<dict>
			<key>Content</key>
			<string>GUID_partition_scheme</string>
			<key>DeviceIdentifier</key>
			<string>disk2</string>
			<key>Partitions</key>
			<array>
				<dict>
					<key>Content</key>
					<string>EFI</string>
					<key>DeviceIdentifier</key>
					<string>disk2s1</string>
					<key>Size</key>
					<integer>209715200</integer>
				</dict>
				<dict>
					<key>Content</key>
					<string>Apple_APFS</string>
					<key>DeviceIdentifier</key>
					<string>disk2s2</string>
					<key>Size</key>
					<integer>999994122240</integer>
				</dict>
			</array>
			<key>Size</key>
			<integer>1000204886016</integer>
		</dict>
	</array>
</dict>
</plist>
`
