package listing_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/capture/listing"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/volume"
)

// Tables, lists and values of Windows' Storage module, as its default views print them;
// from memory. The first is the command that the help hands out.
func TestTablesOfPowerShell(t *testing.T) {
	for name, text := range map[string]string{
		"tables": `PS C:\> Get-Disk

Number Friendly Name                  Serial Number                    HealthStatus         OperationalStatus      Total Size Partition
                                                                                                                              Style
------ -------------                  -------------                    ------------         -----------------      ---------- ----------
0      Corvane S210 500GB             C1-0001                          Healthy              Online                  465.76 GB GPT

PS C:\> Get-Partition -DiskNumber 0 | Format-Table DiskNumber, PartitionNumber, Offset, Size, Type, DriveLetter

DiskNumber PartitionNumber    Offset         Size Type     DriveLetter
---------- ---------------    ------         ---- ----     -----------
         0               1   1048576    104857600 System
         0               2 105906176     16777216 Reserved
         0               3 122683392 499985000000 Basic              C

PS C:\> Get-Volume

DriveLetter FriendlyName FileSystemType DriveType HealthStatus OperationalStatus SizeRemaining      Size
----------- ------------ -------------- --------- ------------ ----------------- -------------      ----
C           Windows      NTFS           Fixed     Healthy      OK                    400.01 GB 465.64 GB

PS C:\>
`,
		"lists": `PS C:\> Get-Volume C | fl

DriveLetter     : C
FileSystemLabel : Windows
FileSystem      : NTFS
SizeRemaining   : 400000000000
Size            : 499985000000

PS C:\> Get-Disk | fl
Number            : 0
FriendlyName      : Corvane S210 500GB
SerialNumber      : C1-0001
Size              : 500107862016
PartitionStyle    : GPT
LogicalSectorSize : 512

PS C:\> Get-Partition | fl DiskNumber, PartitionNumber, Offset, Size, GptType, DriveLetter

DiskNumber      : 0
PartitionNumber : 1
Offset          : 1048576
Size            : 104857600
GptType         : {c12a7328-f81f-11d2-ba4b-00a0c93ec93b}
DriveLetter     :

DiskNumber      : 0
PartitionNumber : 2
Offset          : 105906176
Size            : 16777216
GptType         : {e3c9e316-0b5c-4db8-817d-f92df00215ae}

DiskNumber      : 0
PartitionNumber : 3
Offset          : 122683392
Size            : 499985000000
GptType         : {ebd0a0a2-b9e5-4433-87c0-68b6b72699c7}
DriveLetter     : C

PS C:\>
`,
		"values": `PS C:\> Get-Disk | ConvertTo-Csv -NoTypeInformation
"Number","FriendlyName","SerialNumber","Size","PartitionStyle","LogicalSectorSize"
"0","Corvane S210 500GB","C1-0001","500107862016","GPT","512"
PS C:\> Get-Partition | ConvertTo-Csv -UseCulture
"DiskNumber";"PartitionNumber";"Offset";"Size";"GptType";"DriveLetter"
"0";"1";"1048576";"104857600";"{c12a7328-f81f-11d2-ba4b-00a0c93ec93b}";""
"0";"2";"105906176";"16777216";"{e3c9e316-0b5c-4db8-817d-f92df00215ae}";""
"0";"3";"122683392";"499985000000";"{ebd0a0a2-b9e5-4433-87c0-68b6b72699c7}";"C"
PS C:\> Get-Volume | ConvertTo-Csv
"DriveLetter","FileSystemLabel","FileSystem","SizeRemaining","Size"
"C","Windows","NTFS","400000000000","499985000000"
PS C:\>
`,
	} {
		t.Run(name, func(t *testing.T) {
			l := read(t, text)
			assert.Contains(t, string(l.Format), map[string]string{"tables": "table", "lists": "list",
				"values": "CSV"}[name])
			assert.Empty(t, l.Problem)
			require.Len(t, l.Disks, 1, "%+v", l.Disks)
			d := l.Disks[0]
			assert.Equal(t, "Disk 0", d.Name)
			assert.Equal(t, "Corvane S210 500GB", d.Model)
			assert.Equal(t, "C1-0001", d.Serial)
			assert.InDelta(t, 500107862016, d.Size, 1<<23)
			assert.Equal(t, disk.StyleGPT, d.Style)
			require.Len(t, d.Partitions, 3)
			assert.True(t, d.Whole)
			assert.Equal(t, disk.TypeESP, d.Partitions[0].Type)
			assert.EqualValues(t, 105906176, d.Partitions[1].Start)
			p := d.Partitions[2]
			assert.Equal(t, "C", p.Letter)
			assert.EqualValues(t, 499985000000, p.Length)
			assert.Equal(t, volume.KindNTFS, p.Kind)
			assert.Equal(t, "Windows", p.Label)
			assert.Positive(t, p.Used)
		})
	}
}

// The disk-management screen, typed as it reads, in three languages; from memory.
func TestDiskManagementScreens(t *testing.T) {
	for name, text := range map[string]string{
		"English": "Disk 0\nBasic\n465.76 GB\nOnline\n\n100 MB\nHealthy (EFI System Partition)\n\nWindows (C:)\n465.14 GB NTFS\nHealthy (Boot, Page File, Crash Dump, Basic Data Partition)\n\n532 MB\nHealthy (Recovery Partition)\n\nDisk 1\nBasic\n931.51 GB\nOnline\n\n931.51 GB\nUnallocated\n",
		"German":  "Datenträger 0\nBasis\n465,76 GB\nOnline\n100 MB\nFehlerfrei (EFI-Systempartition)\nWindows (C:)\n465,14 GB NTFS\nFehlerfrei (Startpartition, Auslagerungsdatei, Absturzabbild, Basisdatenpartition)\n532 MB\nFehlerfrei (Wiederherstellungspartition)\nDatenträger 1\nBasis\n931,51 GB\nOnline\n931,51 GB\nNicht zugeordnet\n",
		"French":  "Disque 0\nDe base\n465,76 Go\nEn ligne\n100 Mo\nSain (Partition du système EFI)\nWindows (C:)\n465,14 Go NTFS\nSain (Démarrer, Fichier d'échange, Vidage sur incident, Partition de données de base)\n532 Mo\nSain (Partition de récupération)\nDisque 1\nDe base\n931,51 Go\nEn ligne\n931,51 Go\nNon alloué\n",
	} {
		t.Run(name, func(t *testing.T) {
			l := read(t, text)
			assert.Equal(t, listing.DiskManagement, l.Format)
			require.Len(t, l.Disks, 2)
			d := l.Disks[0]
			assert.InDelta(t, 500107862016, d.Size, 1<<23)
			assert.Equal(t, disk.StyleGPT, d.Style)
			require.Len(t, d.Partitions, 3, "%+v", d.Partitions)
			assert.Equal(t, disk.TypeESP, d.Partitions[0].Type)
			assert.EqualValues(t, 100<<20, d.Partitions[0].Length)
			assert.Equal(t, "C", d.Partitions[1].Letter)
			assert.Equal(t, "Windows", d.Partitions[1].Label)
			assert.Equal(t, volume.KindNTFS, d.Partitions[1].Kind)
			assert.Equal(t, disk.RoleRecovery, d.Partitions[2].Role)
			assert.True(t, d.Whole)
			assert.Empty(t, l.Disks[1].Style, "nothing on it, or nothing told")
			assert.Empty(t, l.Disks[1].Partitions)
		})
	}
	l := read(t,
		"Disk 0\n298.09 GB\nSystem Reserved\n100 MB NTFS\nHealthy (System, Active, Primary Partition)\n(C:)\n297.99 GB NTFS\nHealthy (Boot, Page File, Crash Dump, Primary Partition)\n")
	require.Len(t, l.Disks[0].Partitions, 2)
	active, told := l.Disks[0].Partitions[0].Active.Get()
	assert.True(t, active && told)
	_, told = l.Disks[0].Partitions[1].Active.Get()
	assert.False(t, told, "not said of it")
	assert.Equal(t, disk.StyleMBR, l.Disks[0].Style)
}

// What a person types of two screens: a line for each disk, and one for each partition.
func TestScreensInShort(t *testing.T) {
	l := read(t,
		"original 465.76 GB\n100 MB EFI\nC: 465.14 GB NTFS\n532 MB recovery\nclone 931.5 GB GPT\n465.14 GB NTFS\n")
	assert.Equal(t, listing.DiskManagement, l.Format)
	require.Len(t, l.Disks, 2, "%+v", l.Disks)
	assert.Equal(t, []string{"original", "clone"}, []string{l.Disks[0].Name, l.Disks[1].Name})
	require.Len(t, l.Disks[0].Partitions, 3)
	assert.Equal(t, disk.TypeESP, l.Disks[0].Partitions[0].Type)
	assert.Equal(t, disk.StyleGPT, l.Disks[0].Style)
	assert.Equal(t, disk.RoleRecovery, l.Disks[0].Partitions[2].Role)
	assert.True(t, l.Disks[0].Whole)
	assert.Equal(t, disk.StyleGPT, l.Disks[1].Style)
	require.Len(t, l.Disks[1].Partitions, 1)
	assert.Equal(t, volume.KindNTFS, l.Disks[1].Partitions[0].Kind)
	assert.False(t, l.Disks[1].Whole)
	l = read(t, "original 298 GB MBR\n100 MB NTFS system reserved active\n297 GB NTFS\n")
	active, told := l.Disks[0].Partitions[0].Active.Get()
	assert.True(t, active && told)
	l = read(t, "original 465.76 GB\n100 MB EFI\n465.14 GB NTFS\nclone 931.5 GB, the same\nwithout EFI\n")
	require.Len(t, l.Disks, 2)
	assert.InDelta(t, 1000204886016, l.Disks[1].Size, 1<<28)
	assert.Equal(t, disk.StyleGPT, l.Disks[1].Style)
	require.Len(t, l.Disks[1].Partitions, 1)
	assert.Equal(t, volume.KindNTFS, l.Disks[1].Partitions[0].Kind)
	assert.Len(t, l.Disks[0].Partitions, 2, "the original keeps its own")
	assert.True(t, l.Disks[1].Whole, "they are the original's, but for the one")
	l = read(t, "original 465.76 GB\n100 MB EFI\nC: 465.14 GB NTFS\n532 MB recovery\nclone 931.51 GB, the same\nwithout EFI")
	assert.True(t, l.Disks[1].Whole, "typed, with nothing behind it")
	require.Len(t, l.Disks[1].Partitions, 2)
}

// "bcdedit /enum firmware" tells of the firmware, and of no store on a disk; from memory.
func TestTheFirmwaresListIsNoStore(t *testing.T) {
	l := read(t, `Firmware Boot Manager
---------------------
identifier              {fwbootmgr}
displayorder            {bootmgr}
                        {1ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
timeout                 1

Windows Boot Manager
--------------------
identifier              {bootmgr}
device                  partition=\Device\HarddiskVolume1
path                    \EFI\Microsoft\Boot\bootmgfw.efi

Firmware Application (101fffff)
-------------------------------
identifier              {1ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}
device                  partition=\Device\HarddiskVolume2
path                    \EFI\debian\shimx64.efi
description             debian
`)
	mode, known := l.Mode.Get()
	assert.True(t, known)
	assert.Equal(t, firmware.UEFI, mode)
	assert.Nil(t, l.Store)
	require.NotNil(t, l.Entries)
	require.Len(t, l.Entries.Order, 2)
	first, second := l.Entries.All[l.Entries.Order[0]], l.Entries.All[l.Entries.Order[1]]
	assert.Equal(t, `\EFI\Microsoft\Boot\bootmgfw.efi`, first.Path.Program())
	assert.Equal(t, "“debian”", second.Name())
	assert.Equal(t, `\EFI\debian\shimx64.efi`, second.Path.Program())
	assert.True(t, second.Path.Open && second.Path.FileTold, "the file is told, the partition is not")
	assert.False(t, l.Entries.OrderOpen || l.Entries.Open || l.Entries.NextOpen)
}

// What is cut off leaves open what it may have told.
func TestTheFirmwaresListCutOff(t *testing.T) {
	head := "Firmware Boot Manager\n---------------------\nidentifier              {fwbootmgr}\n" +
		"displayorder            {bootmgr}\n                        {1ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}\n"
	l := read(t, head)
	require.NotNil(t, l.Entries)
	assert.True(t, l.Entries.OrderOpen && l.Entries.NextOpen && l.Entries.Open)
	l = read(t,
		head+"bootsequence            {1ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}\n\nFirmware Application (101fffff)\n"+
			"-------------------------------\nidentifier              {1ce4991b-e6b3-4b16-b23c-5e0d9250e5d9}\npath                    \\EFI\\deb\n")
	require.NotNil(t, l.Entries.Next)
	one := l.Entries.All[*l.Entries.Next]
	assert.False(t, one.Path.FileTold, "a name without its end")
	assert.True(t, l.Entries.Open, "the boot manager is not told")
}

// The command tells of which disk the partitions are that it lists. Layout from memory.
func TestPartitionsOfTheDiskThatTheCommandNames(t *testing.T) {
	table := "\n\n   DiskPath: \\\\?\\scsi#disk&ven_nvme&prod_ostra#5&1a2b3c4d&0&000000#{53f56307-b6bf-11d0-94f2-00a0c91efb8b}\n\n" +
		"PartitionNumber  DriveLetter Offset                                        Size Type\n" +
		"---------------  ----------- ------                                        ---- ----\n" +
		"1                           1048576                                     260 MB System\n" +
		"2                E           290455552                                930.5 GB Basic\n"
	for command, want := range map[string]string{
		"Get-Partition -DiskNumber 1": "Disk 1", "get-partition 2": "Disk 2", "Get-Disk 3 | Get-Partition": "Disk 3",
		"Get-Disk -Number 0 | Get-Partition": "Disk 0", "Get-Partition": "Disk",
		"Get-Partition -DriveLetter E": "Disk",
	} {
		l := read(t, "PS C:\\> "+command+"\n"+table)
		require.Len(t, l.Disks, 1, command)
		assert.Equal(t, want, l.Disks[0].Name, command)
		assert.Len(t, l.Disks[0].Partitions, 2, command)
	}
}
