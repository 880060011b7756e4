package listing_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/core/volume"
)

// What wmic and Get-CimInstance print, in each of their forms; from memory. Win32_DiskDrive's
// Size counts whole cylinders, and reserved partitions are not among the others.
func TestWin32Classes(t *testing.T) {
	for name, text := range map[string]string{
		"wmic": "C:\\>wmic diskdrive get index,interfacetype,model,serialnumber,size\r\r\n" +
			"Index  InterfaceType  Model               SerialNumber  Size          \r\r\n" +
			"0      SCSI           Corvane S210 500GB  C1-0001       500105249280  \r\r\n\r\r\n\r\r\n" +
			"C:\\>wmic partition get bootpartition,diskindex,index,name,size,startingoffset,type\r\r\n" +
			"BootPartition  DiskIndex  Index  Name                   Size          StartingOffset  Type             \r\r\n" +
			"TRUE           0          0      Disk #0, Partition #0  104857600     1048576         GPT: System      \r\r\n" +
			"FALSE          0          1      Disk #0, Partition #1  499985000000  122683392       GPT: Basic Data  \r\r\n\r\r\n",
		"list": "Index=0\r\r\nInterfaceType=SCSI\r\r\nModel=Corvane S210 500GB\r\r\nSerialNumber=C1-0001\r\r\nSize=500105249280\r\r\n\r\r\n\r\r\n" +
			"BootPartition=TRUE\r\r\nDiskIndex=0\r\r\nIndex=0\r\r\nSize=104857600\r\r\nStartingOffset=1048576\r\r\nType=GPT: System\r\r\n\r\r\n\r\r\n" +
			"BootPartition=FALSE\r\r\nDiskIndex=0\r\r\nIndex=1\r\r\nSize=499985000000\r\r\nStartingOffset=122683392\r\r\nType=GPT: Basic Data\r\r\n",
		"values": "\r\r\nNode,Index,InterfaceType,Model,SerialNumber,Size\r\r\nQUAY,0,SCSI,Corvane S210 500GB,C1-0001,500105249280\r\r\n\r\r\n" +
			"\r\r\nNode,BootPartition,DiskIndex,Index,Size,StartingOffset,Type\r\r\nQUAY,TRUE,0,0,104857600,1048576,GPT: System\r\r\n" +
			"QUAY,FALSE,0,1,499985000000,122683392,GPT: Basic Data\r\r\n",
		"JSON": `{"Index":0,"InterfaceType":"SCSI","Model":"Corvane S210 500GB","SerialNumber":"C1-0001","Size":500105249280}

[{"BootPartition":true,"DiskIndex":0,"Index":0,"Size":104857600,"StartingOffset":1048576,"Type":"GPT: System"},
{"BootPartition":false,"DiskIndex":0,"Index":1,"Size":499985000000,"StartingOffset":122683392,"Type":"GPT: Basic Data"}]`,
	} {
		t.Run(name, func(t *testing.T) {
			l := read(t, text)
			assert.Equal(t, listing.WMI, l.Format)
			require.Len(t, l.Disks, 1, "%+v", l.Disks)
			d := l.Disks[0]
			assert.Equal(t, []string{"Disk 0", "Corvane S210 500GB", "C1-0001", ""}, []string{d.Name, d.Model, d.Serial, d.Bus})
			assert.True(t, d.Rounded && !d.Whole)
			assert.EqualValues(t, 500105249280, d.Size)
			assert.Equal(t, disk.StyleGPT, d.Style)
			require.Len(t, d.Partitions, 2)
			assert.Equal(t, disk.TypeESP, d.Partitions[0].Type)
			assert.EqualValues(t, 122683392, d.Partitions[1].Start)
			assert.EqualValues(t, 499985000000, d.Partitions[1].Length)
			_, told := d.Partitions[0].Active.Get()
			assert.False(t, told, "of a GPT it is no active mark")
		})
	}
	l := read(t, "Model               Size          \nCorvane S210 500GB  500105249280  \nOld One 250         250056737280  \n")
	require.Len(t, l.Disks, 2, "two drives without numbers")
	l = read(t, "BootPartition  DiskIndex  Index  Size       StartingOffset  Type\nTRUE           0          0      524288000  1048576         Installable File System\n")
	assert.Equal(t, disk.StyleMBR, l.Disks[0].Style)
	active, _ := l.Disks[0].Partitions[0].Active.Get()
	assert.True(t, active)
	l = read(t, "DiskIndex Index Size StartingOffset\n1 0 524288000 1048576\n")
	assert.Equal(t, "Disk 1", l.Disks[0].Name, "blanks that were collapsed")
	l, err := listing.Read("", []byte("DiskIndex Index Size Type\n1 0 524288000 Installable File System\n"), "")
	require.NoError(t, err)
	assert.Empty(t, l.Disks, "what stands where cannot be told")
	_, err = listing.Read("", []byte("DeviceID  FileSystem  FreeSpace  Size  VolumeName\nC:  NTFS  5  10  Windows\n"), "")
	require.NoError(t, err)
}

const partitionC = "PS C:\\> Get-Partition | fl\nDiskNumber      : 0\nPartitionNumber : 3\nOffset          : 122683392\nSize            : 499985000000\nDriveLetter     : C\n\n"

// Commands that tell of one volume, joined to its partition by the letter. From memory.
func TestOneVolume(t *testing.T) {
	of := func(text string) listing.Listing {
		l := read(t, partitionC+text)
		require.Len(t, l.Disks, 1)
		return *l
	}
	const bde = "C:\\>manage-bde -status\nBitLocker Drive Encryption: Configuration Tool version 10.0.19041\nCopyright (C) 2013\n\n" +
		"Disk volumes that can be protected with\nBitLocker Drive Encryption:\nVolume C: [Windows]\n[OS Volume]\n\n    Size:                 465.65 GB\n" +
		"    BitLocker Version:    2.0\n    Conversion Status:    Used Space Only Encrypted\n    Protection Status:    Protection On\n"
	assert.Equal(t, volume.KindBitLocker, of(bde).Disks[0].Partitions[0].Kind)
	german := "C:\\>manage-bde -status\nVolume \"C:\" [Windows]\n[Betriebssystemvolume]\n\n    Größe:                465,65 GB\n    BitLocker-Version:    2.0\n"
	assert.Equal(t, volume.KindBitLocker, of(german).Disks[0].Partitions[0].Kind)
	l := of("C:\\>manage-bde -status\nVolume C: [Windows]\n[OS Volume]\n\n    Size:                 465.65 GB\n    BitLocker Version:    None\n")
	assert.Empty(t, l.Disks[0].Partitions[0].Kind, "what lies there is not told")
	assert.Zero(t, l.Disks[0].Partitions[0].Used, "what is free is not told")
	_, err := listing.Read("", []byte("BitLocker Drive Encryption: Configuration Tool version 10.0.19041\n"), "")
	assert.ErrorContains(t, err, "manage-bde")

	for _, report := range []string{
		"C:\\>fsutil fsinfo ntfsinfo C:\nNTFS Volume Serial Number :        0x5a1c0d2e3f405162\nTotal Sectors :                    0x000000003a352944\nFree Clusters  :                   0x0000000000800000\nBytes Per Sector  :                512\nBytes Per Cluster :                4096\n",
		"C:\\>fsutil fsinfo ntfsinfo c:\nNTFS Volume Serial Number :        0x5a1c0d2e3f405162\nTotal Sectors:                     976,562,500  (465.7 GB)\nFree Clusters:                     8,388,608  ( 32.0 GB)\nBytes Per Sector  :                512\nBytes Per Cluster :                4096\n",
	} {
		p := of(report).Disks[0].Partitions[0]
		assert.Equal(t, volume.KindNTFS, p.Kind)
		assert.EqualValues(t, 976562500*512-8388608*4096, p.Used)
	}
	l = of("C:\\>reagentc /info\nWindows Recovery Environment (Windows RE) and system reset configuration\nInformation:\n\n    Windows RE status:         Enabled\n" +
		"    Windows RE location:       \\\\?\\GLOBALROOT\\device\\harddisk0\\partition4\\Recovery\\WindowsRE\n")
	require.Len(t, l.Disks[0].Partitions, 2)
	assert.Equal(t, 4, l.Disks[0].Partitions[1].Number)
	assert.Empty(t, l.Problem)
}

// What lies in Linux' partitions, by the commands that put it together. From memory.
func TestMembers(t *testing.T) {
	for _, one := range []struct {
		want volume.Kind
		text string
	}{
		{volume.KindLVM, "  PV         VG  Fmt  Attr PSize   PFree\n  /dev/sda3  vg0 lvm2 a--  463.76g    0\n"},
		{volume.KindLVM, "  --- Physical volume ---\n  PV Name               /dev/sda3\n  VG Name               vg0\n"},
		{volume.KindLVM, "  LV   VG  Attr       LSize   Devices\n  root vg0 -wi-ao---- 100.00g /dev/sda3(0)\n"},
		{volume.KindRAID, "/dev/md0:\n           Version : 1.2\n        Raid Level : raid1\n\n    Number   Major   Minor   RaidDevice State\n       0       8        3        0      active sync   /dev/sda3\n"},
		{volume.KindRAID, "/dev/sda3:\n          Magic : a92b4efc\n     Raid Level : raid1\n"},
		{volume.KindRAID, "Personalities : [raid1]\nmd0 : active raid1 sda3[0]\n      487253824 blocks super 1.2 [2/1] [U_]\n"},
		{volume.KindLUKS, "# cryptsetup luksDump /dev/sda3\nLUKS header information\nVersion:       \t2\nUUID:          \t0a1b2c3d-1111-4222-8333-444455556666\n"},
		{volume.KindLUKS, "LUKS header information for /dev/sda3\n\nVersion:       \t1\nUUID:          \t0a1b2c3d-1111-4222-8333-444455556666\n"},
		{volume.KindExt, "sysfs on /sys type sysfs (rw)\n/dev/sda3 on / type ext4 (rw,relatime)\n/dev/mapper/x on /home type xfs (rw)\n"},
		{volume.KindExt, "TARGET                SOURCE     FSTYPE OPTIONS\n/                     /dev/sda3  ext4   rw,relatime\n├─/sys                sysfs      sysfs  rw\n│ └─/sys/fs/cgroup    cgroup2    cgroup2 rw\n"},
		{volume.KindBtrfs, "TARGET SOURCE FSTYPE OPTIONS\n|-/home /dev/sda3[/@home] btrfs rw,subvol=/@home\n"},
		{volume.KindSwap, "NAME      TYPE      SIZE USED PRIO\n/dev/sda3 partition   8G   0B   -2\n"},
		{volume.KindSwap, "Filename\t\t\t\tType\t\tSize\t\tUsed\t\tPriority\n/dev/sda3                               partition\t8388604\t\t0\t\t-2\n"},
	} {
		text, want := one.text, one.want
		l := read(t, text)
		assert.Empty(t, l.Problem, text)
		require.Len(t, l.Disks, 1, text)
		require.Len(t, l.Disks[0].Partitions, 1, text)
		assert.Equal(t, "sda", l.Disks[0].Name)
		assert.Equal(t, 3, l.Disks[0].Partitions[0].Number)
		assert.Equal(t, want, l.Disks[0].Partitions[0].Kind, text)
		if want == volume.KindLUKS {
			assert.Equal(t, "0a1b2c3d-1111-4222-8333-444455556666", l.Disks[0].Partitions[0].Serial)
		}
	}
}

// A Mac's report and its list of containers. From memory.
func TestMacReports(t *testing.T) {
	l := read(t, "NVMExpress:\n\n    Some Controller:\n\n        Corvane M1 251:\n\n          Capacity: 251 GB (251,000,193,024 bytes)\n          Model: Corvane M1 251\n          Serial Number: C0 77\n"+
		"          BSD Name: disk0\n          Partition Map Type: GPT (GUID Partition Table)\n          Volumes:\n            EFI:\n              Capacity: 314.6 MB (314,572,800 bytes)\n"+
		"              File System: MS-DOS FAT32\n              BSD Name: disk0s1\n              Content: EFI\n            disk0s2:\n              Capacity: 250.68 GB (250,685,575,168 bytes)\n"+
		"              BSD Name: disk0s2\n              Content: Apple_APFS\n\nStorage:\n\n    Data:\n\n      Capacity: 250.68 GB (250,685,575,168 bytes)\n      File System: APFS\n      BSD Name: disk1s1\n")
	assert.Equal(t, listing.MacReport, l.Format)
	require.Len(t, l.Disks, 1, "a container's volumes are no disk")
	d := l.Disks[0]
	assert.EqualValues(t, 251000193024, d.Size)
	assert.Equal(t, []string{"Corvane M1 251", "C0 77", "nvme"}, []string{d.Model, d.Serial, d.Bus})
	assert.Equal(t, disk.StyleGPT, d.Style)
	require.Len(t, d.Partitions, 2)
	assert.Equal(t, disk.TypeESP, d.Partitions[0].Type)
	assert.Equal(t, volume.KindFAT32, d.Partitions[0].Kind)
	assert.Equal(t, volume.KindAPFS, d.Partitions[1].Kind)

	l = read(t, "APFS Container (1 found)\n|\n+-- Container disk1 11111111-2222-4333-8444-555555555555\n    ====\n    APFS Container Reference:     disk1\n    Size (Capacity Ceiling):      250685575168 B (250.7 GB)\n    |\n"+
		"    +-< Physical Store disk0s2 66666666-2222-4333-8444-555555555555\n    |   ----\n    |   APFS Physical Store Disk:   disk0s2\n    |   Size:                       250685575168 B (250.7 GB)\n    |\n    +-> Volume disk1s1 77777777-2222-4333-8444-555555555555\n")
	assert.Equal(t, listing.Containers, l.Format)
	require.Len(t, l.Disks[0].Partitions, 1)
	p := l.Disks[0].Partitions[0]
	assert.Equal(t, volume.KindAPFS, p.Kind)
	assert.EqualValues(t, 250685575168, p.Length)
	assert.Equal(t, "66666666-2222-4333-8444-555555555555", p.GUID.String())
}

// The roles and seals of a container's volumes; that they are all is known where another
// container, or a prompt, follows. Layout from memory.
func TestTheVolumesOfContainers(t *testing.T) {
	volumeOf := func(n int, role, sealed string) string {
		return fmt.Sprintf("    +-> Volume disk3s%d 7777777%d-2222-4333-8444-555555555555\n    |   -----\n    |   APFS Volume Disk (Role):   disk3s%d (%s)\n    |   Name:                      Vol %d (Case-insensitive)\n    |   Mount Point:               Not Mounted\n    |   Capacity Consumed:         20480 B (20.5 KB)\n    |   Sealed:                    %s\n    |   FileVault:                 No\n    |\n",
			n, n, n, role, n, sealed)
	}
	container := func(store string, volumes ...string) string {
		return "+-- Container disk3 11111111-2222-4333-8444-555555555555\n    ====\n    APFS Container Reference:     disk3\n    Size (Capacity Ceiling):      250685575168 B (250.7 GB)\n    |\n" +
			store + strings.Join(volumes, "")
	}
	store := func(n int) string {
		return fmt.Sprintf("    +-< Physical Store disk0s%d 6666666%d-2222-4333-8444-555555555555\n    |   ----\n    |   APFS Physical Store Disk:   disk0s%d\n    |   Size:                       250685575168 B (250.7 GB)\n    |\n", n, n, n)
	}
	apple := func(text string) *volume.Apple {
		l := read(t, text)
		require.NotEmpty(t, l.Disks)
		return l.Disks[0].Partitions[0].Apple
	}
	whole := container(store(2), volumeOf(1, "System", "Yes"), volumeOf(2, "Preboot", "No"), volumeOf(3, "No specific role", "Broken"), volumeOf(4, "Backup", "No"))
	a := apple("APFS Containers (2 found)\n|\n" + whole + container(store(3), volumeOf(1, "VM", "No")))
	require.NotNil(t, a)
	assert.False(t, a.Open)
	assert.Equal(t, []string{"Vol 1"}, []string{a.Of(volume.RoleSystem)[0].Name})
	assert.True(t, a.Of(volume.RoleSystem)[0].Sealed)
	assert.Len(t, a.Of(volume.RolePreboot), 1)
	require.Len(t, a.Of(volume.RoleNone), 1)
	assert.False(t, a.Of(volume.RoleNone)[0].Sealed, "a broken seal is none")
	assert.Len(t, a.Volumes, 4)

	a = apple("APFS Container (1 found)\n|\n" + whole)
	require.NotNil(t, a)
	assert.True(t, a.Open, "the paste may be cut")
	a = apple("tech@mac ~ % diskutil apfs list\nAPFS Container (1 found)\n|\n" + whole + "tech@mac ~ % diskutil list\n")
	require.NotNil(t, a)
	assert.False(t, a.Open, "a prompt follows")
	assert.Nil(t, apple("APFS Container (1 found)\n|\n"+container(store(2)+store(3), volumeOf(1, "System", "Yes"))+"tech@mac ~ % diskutil list\n"), "it lies in two partitions")
	_, err := listing.Read("", []byte("APFS Container (1 found)\n|\n"+container(store(2), strings.Repeat(volumeOf(1, "Data", "No"), 200))), "")
	assert.NoError(t, err)
}
