// Package demo declares the demo world: Tern Island Ferries, a made-up ferry
// company with a two-person support bench. It holds declarations only; the
// disks are built from them by internal/diskmaker. All names and models are
// invented.
package demo

import (
	"latchkey/core/disk"
	"latchkey/internal/diskmaker"
)

// Case declares a demo case.
type Case struct {
	// Where the person stands, and what is at hand, in the words of the HTTP interface.
	Stands, Reach string
	Name          string // stable, for finding it again
	Title         string
	Machine       string
	Firmware      Firmware
	DeviceOrder   []string
	Original      Drive
	Clone         Drive
	Said          string // what the screen said
	// Done are the first steps of the repair plan that were ticked off.
	Done []Tick
	// After is what was seen from the first start on; nil where nobody saw one.
	After *After
	// Copy is what was planned before the copy; nil where nothing was.
	Copy *CopyPlan
	// Listings are what commands printed, the oldest first.
	Listings []Listing
}

// After is a hand-over: starts from the clone, what the running system answered, how long
// starts took, and what is decided of the old drive.
type After struct {
	Starts   []Start
	Letters  map[int]string     // by the clone's partition number, as Get-Partition shows them
	Answers  []string           // of other commands
	Seen     []string           // keys of what was looked at
	Who      string             // who pasted and looked
	Times    map[string]float64 // by drive role, in seconds
	Place    string             // where the old drive lies
	Serial   string
	KeepDays int // from now on
}

// Start is a start from the clone: how many hours ago, cold or warm, and who saw it.
type Start struct {
	HoursAgo  int
	Kind, Who string
}

// Tick is a step that was ticked off: by whom, and what was seen.
type Tick struct{ Who, Note string }

// Person is one of the people of the bench.
type Person struct{ Name, Role string }

// People are who works at the bench: two technicians, and the lead, who comes first.
var People = []Person{{"Sunniva", "lead"}, {"Marit", "technician"}, {"Jonas", "technician"}}

// Firmware declares what the technician has told of the firmware; nil is
// unknown.
type Firmware struct {
	Mode, Arch string
	SecureBoot *bool
	Choices    map[string]bool
	Entries    map[string]bool   // by drive: whether a boot entry leads to it
	Answers    map[string]string // to questions of the check
}

// Drive declares a drive.
type Drive struct {
	Model    string
	Bus      string
	Attached *bool
	Disk     func() (*diskmaker.Image, error)
	// SectorSize is the logical sector size at the present attachment, in
	// bytes, when it is not the one the disk was written with.
	SectorSize int
	// Told is what was read off a screen; nil is nothing.
	Told *Told
}

var (
	yes = ptr(true)
	no  = ptr(false)
)

func ptr(b bool) *bool { return &b }

// gb returns the sectors of a drive sold as n decimal gigabytes.
func gb(n int64) uint64 { return uint64(disk.AdvertisedSectors(n)) }

// oldFirst is firmware whose boot list shows both drives, the original before the clone.
var oldFirst = Firmware{Mode: "uefi", Arch: "x64", SecureBoot: no, Choices: uefi.Choices,
	Entries: map[string]bool{"original": true, "clone": true}, Answers: map[string]string{"first-entry": "original"}}

var uefi = Firmware{Mode: "uefi", Arch: "x64", SecureBoot: no, Choices: map[string]bool{"fallbackOnFixedDisks": true}}

// Cases lists the demo cases.
func Cases() []Case {
	return []Case{
		{
			Name: "harbour-desktop", Title: "Harbour-master's desktop", Machine: "Fenmark D4, harbour office", Firmware: uefi, DeviceOrder: []string{"clone"},
			After: &After{Who: "Jonas", Starts: []Start{{39, "cold", "Jonas"}, {28, "cold", "Jonas"}, {4, "warm", "Marit"}, {3, "cold", "Marit"}},
				Letters: map[int]string{3: "C", 4: "E"}, Answers: []string{"Windows RE status:         Disabled\n", "Name          : Windows\nLicenseStatus : 1\n"},
				Times: map[string]float64{"original": 31, "clone": 10}, Place: "drawer 3", Serial: "OS-7K31", KeepDays: 5},
			Original: Drive{Model: "Ostra N1", Bus: "nvme", Attached: no, Disk: windows(gb(500), 0x11).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "nvme", Attached: yes, Disk: windows(gb(1000), 0x11).Build},
		},
		{
			Name: "kiosk-north", Title: "Ticket kiosk, North Pier", Machine: "Quayside K2, North Pier", Firmware: uefi, Said: "No bootable device found",
			Done: []Tick{{"Marit", "DiskPart succeeded in creating the specified partition."}}, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: no, Disk: windows(gb(500), 0x21).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "nvme", Attached: yes, Disk: bigPartitionOnly(gb(1000), 0x22).Build},
		},
		{
			Name: "bridge-laptop", Title: "Bridge laptop, ferry Sandpiper", Machine: "Fenmark L7, bridge", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Halden V2", Bus: "sata", Attached: no, Disk: windows(gb(250), 0x31).Build},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: yes, Disk: legacyWindows(gb(500), 0x5A17C0DE, true).Build},
		},
		{
			Stands: "copied", Reach: "disks",
			Name: "engine-log", Title: "Engine-log computer, ferry Guillemot", Machine: "Brisling E1, engine control room", Firmware: uefi, Said: "BOOTMGR is missing", DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Halden V2", Bus: "sata", Attached: no, Disk: windows(gb(250), 0x41).Build},
			Clone:    Drive{Model: "Halden V4", Bus: "sata", Attached: yes, Disk: damagedPrimary(windows(gb(250), 0x41))},
		},
		{
			Name: "camera-recorder", Title: "Camera recorder, South Pier", Machine: "Brisling R3, South Pier", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: no, Disk: windows(gb(500), 0x51).Build},
			Clone:    Drive{Model: "Ostra N1", Bus: "sata", Attached: yes, Disk: cutTo(windows(gb(500), 0x51), gb(250))},
		},
		{
			Name: "kiosk-south", Title: "Ticket kiosk, South Pier", Machine: "Quayside K2, South Pier", Firmware: oldFirst, DeviceOrder: []string{"original", "clone"},
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: yes, Disk: windows(gb(500), 0x61).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "sata", Attached: yes, Disk: windows(gb(1000), 0x62).Build},
		},
		{
			Name: "booking-office", Title: "Booking office desktop", Machine: "Brisling B1, booking office", Firmware: Firmware{Mode: "legacy", Arch: "x64"}, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Halden H5", Bus: "sata", Attached: no, Disk: legacyWindows(gb(320), 0x1F2E3D4C, true).Build},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: yes, Disk: legacyWindows(gb(500), 0x1F2E3D4C, false).Build},
		},
		{
			Name: "timetable", Title: "Timetable display, Long Quay", Machine: "Quayside T1, Long Quay", Firmware: Firmware{Mode: "uefi", Arch: "x64", SecureBoot: no},
			DeviceOrder: []string{"clone"},
			Original:    Drive{Model: "Ostra N1", Bus: "sata", Attached: no, Disk: linux(gb(120), 0x81, 0x81).Build},
			Clone:       Drive{Model: "Ostra N3", Bus: "sata", Attached: yes, Disk: linux(gb(250), 0x81, 0x81).Build},
		},
		{
			Name: "kiosk-east", Title: "Ticket kiosk, East Pier", Machine: "Quayside K2, East Pier", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: no, Disk: windows(gb(500), 0x91).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "nvme", Attached: yes, Disk: emptyBootPartition(windows(gb(1000), 0x91)).Build},
		},
		{
			Name: "crew-mess", Title: "Crew mess computer, ferry Guillemot", Machine: "Brisling B2, crew mess",
			Firmware: Firmware{Mode: "uefi", Arch: "x64", SecureBoot: no, Choices: map[string]bool{"fallbackOnFixedDisks": true, "startsFromNVMe": false}},
			Original: Drive{Model: "Halden H5", Bus: "sata", Attached: no, Disk: windows(gb(320), 0xA1).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "nvme", Attached: yes, Disk: windows(gb(500), 0xA1).Build},
		},
		{
			Name: "stores-laptop", Title: "Stores laptop", Machine: "Fenmark L5, ship's stores", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Halden H5", Bus: "sata", Attached: no, Disk: windows(gb(320), 0xB1).Build},
			Clone: Drive{Model: "Corvane S240", Bus: "sata", Attached: yes, SectorSize: 512,
				Disk: in4096(windows(gb(500), 0xB1)).Build},
		},
		{
			Name: "lounge-display", Title: "Lounge display, ferry Sandpiper", Machine: "Quayside T1, passenger lounge", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Ostra N1", Bus: "sata", Attached: no, Disk: withFallback(linux(gb(120), 0xC1, 0xC1)).Build},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: yes, Disk: withFallback(linux(gb(250), 0xC2, 0xC1)).Build},
		},
		{
			Name: "purser-laptop", Title: "Purser's laptop", Machine: "Fenmark L7, purser's office", Firmware: uefi, Said: "blue screen, error 0xc000000e", DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: no, Disk: windows(gb(500), 0xD1).Build},
			Clone: Drive{Model: "Ostra N3", Bus: "sata", Attached: yes, Disk: withStore(windowsLayout(gb(1000), 0xD2),
				windowsLayout(gb(500), 0xD1)).Build},
			Listings: []Listing{bootEntries(windows(gb(500), 0xD1))},
		},
		{
			Name: "chart-table", Title: "Chart table computer, ferry Guillemot", Machine: "Brisling C2, bridge", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: no, Disk: encrypted(gb(500), 0xE1).Build},
			Clone: Drive{Model: "Corvane S240", Bus: "sata", Attached: yes, Disk: encrypted(gb(1000), 0xE1).Build,
				Told: &Told{Style: "GPT", Capacity: "500 GB"}},
			Listings: []Listing{bootVariable(windows(gb(1000), 0xE1)), bootOrder()},
		},
		{
			Name: "tide-office", Title: "Tide office desktop", Machine: "Brisling B1, tide office", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Halden V2", Bus: "sata", Attached: no, Disk: asleep(windows(gb(320), 0xF1)).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "nvme", Attached: yes, Disk: asleep(windows(gb(500), 0xF1)).Build},
		},
		{
			Name: "weather-station", Title: "Weather station, Long Quay", Machine: "Quayside T1, Long Quay", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Ostra N1", Bus: "sata", Attached: no, Disk: entryLinux(gb(120), 0x71).Build},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: yes, Disk: entryLinux(gb(250), 0x71).Build},
		},
		{
			Name: "wharf-scales", Title: "Wharf scales", Machine: "Brisling R3, cargo wharf", Firmware: Firmware{Mode: "legacy", Arch: "x64"}, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Halden H5", Bus: "sata", Attached: no, Disk: legacyLinux(gb(120), 0x2D44A1C7, 0x73).Build},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: yes, Disk: legacyLinux(gb(250), 0x2D44A1C7, 0x73).Build},
		},
		{
			Name: "tide-archive", Title: "Tide archive", Machine: "Brisling B1, tide office", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Halden V2", Bus: "sata", Attached: no, Disk: onLVM(linux(gb(120), 0x75, 0x75), "archive").Build},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: yes, Disk: onLVM(linux(gb(250), 0x75, 0x75), "archive").Build},
		},
		{
			Name: "ticket-hall", Title: "Ticket hall till", Machine: "Brisling B1, ticket hall", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Halden V2", Bus: "sata", Attached: no, Disk: registered(windows(gb(320), 0xF5)).Build},
			Clone:    Drive{Model: "Ostra N3", Bus: "nvme", Attached: yes, Disk: registered(windows(gb(500), 0xF5)).Build},
		},
		{
			Name: "design-mac", Title: "Design office Mac", Machine: "Mac, design office",
			Firmware:    Firmware{Mode: "uefi", Arch: "x64", Choices: map[string]bool{"fallbackOnFixedDisks": true, "readsMacVolumes": true}},
			DeviceOrder: []string{"clone"},
			Original:    Drive{Model: "Halden V2", Bus: "sata", Attached: no, Disk: mac(gb(500), 0x75).Build},
			Clone:       Drive{Model: "Ostra N3", Bus: "sata", Attached: yes, Disk: mac(gb(1000), 0x76).Build},
			Listings:    []Listing{pasted(macList, map[string]string{"disk2": "clone"})},
		},
		{
			Name: "cargo-server", Title: "Cargo server, Long Quay", Machine: "Brisling S4, cargo office", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Model: "Halden H5", Bus: "sata", Attached: no, Disk: dataServer(gb(1000), 0x77).Build},
			Clone:    Drive{Model: "Corvane S240", Bus: "sata", Attached: yes, Disk: dataServer(gb(2000), 0x77).Build},
		},
		{
			Stands: "fails", Reach: "disks",
			Name: "ticket-server", Title: "Ticket server, on the telephone", Machine: "Brisling S2, ferry terminal",
			Firmware: Firmware{Entries: map[string]bool{"clone": false}},
			Original: Drive{Model: "Corvane S210", Bus: "sata", Attached: no}, Clone: Drive{Model: "Ostra N3", Bus: "sata", Attached: yes},
			Listings: []Listing{pasted(diskpartSession, map[string]string{"Disk 0": "original", "Disk 1": "clone"}),
				pasted(listedStore, map[string]string{"store": "clone"})},
		},
		{
			Name: "galley", Title: "Galley computer, ferry Sandpiper", Machine: "Brisling B2, galley", Firmware: Firmware{Mode: "legacy", Arch: "x64"}, DeviceOrder: []string{"clone"},
			Original: Drive{Attached: no}, Clone: Drive{Attached: yes},
			Listings: []Listing{
				pasted(dumpGalley, map[string]string{"sda": "original"}), pasted(jsonGalley, map[string]string{"sdb": "clone"}),
				pasted(lsblkGalley, map[string]string{"sda": "original", "sdb": "clone"}),
				pasted(blkidGalley, map[string]string{"sda": "original", "sdb": "clone"}),
			},
		},
		{
			Name: "radar-desk", Title: "Radar desk computer", Machine: "Fenmark D4, harbour office", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Attached: no}, Clone: Drive{Model: "Ostra N3", Bus: "sata", Attached: yes},
			Listings: []Listing{storageDisks(), storagePartitions(), storageVolumes(),
				pasted(partedRadar, map[string]string{"sdb": "clone"})},
		},
		{
			Stands: "fails", Reach: "screens",
			Name: "radio-room", Title: "Radio room laptop, read aloud", Machine: "Fenmark L5, radio room", Firmware: uefi, DeviceOrder: []string{"clone"},
			Original: Drive{Bus: "sata", Attached: no, Told: &Told{Style: "GPT", Capacity: "232 GB", Partitions: []ToldPartition{
				{"boot", "100 MB", "FAT32"}, {"system", "231 GB", "NTFS"}, {"recovery", "500 MB", "NTFS"}}}},
			Clone: Drive{Bus: "sata", Attached: yes,
				Told: &Told{Style: "GPT", Capacity: "465 GB", Whole: true, Partitions: []ToldPartition{{"system", "465 GB", "NTFS"}}}},
		},
	}
}
