package listing

import (
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Win32_DiskDrive, Win32_DiskPartition and Win32_LogicalDisk, as wmic and Get-CimInstance
// print them: the maker's reference of the CIM_ and Win32_ classes; the forms of the
// tables from memory.

// wmiNames are the properties that are read, and those that commonly stand beside them.
var wmiNames = newVocabulary(named("AdditionalAvailability", "Availability", "BlockSize", "Bootable", "BootPartition",
	"BytesPerSector", "Caption", "Description", "DeviceID", "DiskIndex", "DriveType", "FileSystem", "FirmwareRevision",
	"FreeSpace", "Index", "InterfaceType", "Manufacturer", "MediaType", "Model", "Name", "Node", "NumberOfBlocks", "Partitions",
	"PrimaryPartition", "PSComputerName", "SerialNumber", "Signature", "Size", "StartingOffset", "Status", "Type", "VolumeName",
	"VolumeSerialNumber"))

// named is a vocabulary of names that are printed as they are called.
func named(names ...string) map[string]string {
	all := map[string]string{}
	for _, name := range names {
		all[name] = name
	}
	return all
}

// wmiKind tells what an object is by the properties it has.
func wmiKind(has func(name string) bool) string {
	switch {
	case has("StartingOffset") || has("DiskIndex") || has("BootPartition") || has("PrimaryPartition"):
		return "partition"
	case has("VolumeName") || has("FreeSpace") || has("FileSystem") && (has("DeviceID") || has("Caption") || has("Name")):
		return "volume"
	case has("InterfaceType") || (has("Model") || has("Caption")) && (has("Size") || has("SerialNumber") && has("Index")):
		return "drive"
	}
	return ""
}

// wmiTable recognises the heads of a table.
func wmiTable(s string) bool { return wmiNames.headsOf(s, 2, wmiKind) }

func wmiJSON(t *text) bool {
	return hasKeys(t, "InterfaceType") || hasKeys(t, "StartingOffset") || hasKeys(t, "VolumeName", "FreeSpace")
}

func isWMI(t *text) bool {
	return anyLine(t, wmiTable) || wmiJSON(t) || separatedOf(t, wmiKind) || wmiNames.listOf(t, wmiKind)
}

func readWMI(t *text, l *Listing) {
	var objects []*value
	switch {
	case wmiJSON(t):
		objects = jsonObjects(l.json(t))
	case anyLine(t, wmiTable):
		objects = t.tables(l, wmiNames, 2)
	case separatedOf(t, wmiKind):
		objects = t.separated(l)
	default:
		objects = t.keyedList(l, wmiNames)
	}
	for _, v := range objects {
		switch wmiKind(func(name string) bool { return v.get(name) != nil }) {
		case "drive":
			wmiDrive(l, v)
		case "partition":
			wmiPartition(l, v)
		case "volume":
			wmiVolume(l, v)
		default:
			l.unread(v.line, "expected a drive, a partition or a volume")
		}
	}
}

var wmiNumber = regexp.MustCompile(`(?i)(?:PHYSICALDRIVE|Disk #)(\d+)`)

// wmiDisk names the disk that an object speaks of, as Get-Disk would; drives that no
// number tells apart have their models' names.
func wmiDisk(v *value, index string) string {
	if n := v.str(index); n != "" {
		return "Disk " + n
	}
	for _, name := range []string{"DeviceID", "Name", "Caption"} {
		if m := wmiNumber.FindStringSubmatch(v.str(name)); m != nil {
			return "Disk " + m[1]
		}
	}
	if model := v.str("Model") + v.str("Caption"); model != "" {
		return model
	}
	return "Disk"
}

// wmiDrive takes a drive. Its size counts whole cylinders of a made-up geometry: the last
// few MB of the drive are not in it. InterfaceType says SCSI or IDE of NVMe and SATA, too:
// only USB tells.
func wmiDrive(l *Listing, v *value) {
	d := l.disk(wmiDisk(v, "Index"), v.line)
	if d == nil {
		return
	}
	if d.Model = v.str("Model"); d.Model == "" {
		d.Model = v.str("Caption")
	}
	d.Serial = strings.TrimSpace(v.str("SerialNumber"))
	if d.Size, _ = size(v.str("Size")); d.Size > 0 {
		d.Rounded = true
	}
	d.SectorSize = int(v.num("BytesPerSector"))
	if strings.EqualFold(v.str("InterfaceType"), "USB") {
		d.Bus = "usb"
	}
	l.mark(v.line, Understood, "%s: %s", d.Name, d.Model)
}

// wmiTypes are the words of Win32_DiskPartition's Type.
var wmiTypes = map[string]struct {
	gpt disk.GUID
	mbr byte
}{
	"gpt: system": {gpt: disk.TypeESP}, "gpt: basic data": {gpt: disk.TypeBasicData},
	"installable file system": {mbr: 7}, "16-bit fat": {mbr: 6}, "12-bit fat": {mbr: 1}, "32-bit fat": {mbr: 0x0B},
	"extended w/extended int 13": {mbr: 0x0F}, "extended partition": {mbr: 5},
}

// wmiPartition takes a partition. Reserved partitions are not among them, and the numbers
// of the others close up: the place tells which one it is.
func wmiPartition(l *Listing, v *value) {
	d := l.disk(wmiDisk(v, "DiskIndex"), v.line)
	if d == nil {
		return
	}
	start, _, err := disk.ParseSize(v.str("StartingOffset"), disk.BinaryUnits)
	if err != nil {
		start = -1
	}
	p := wmiPlace(d, v, start)
	if p == nil {
		l.unread(v.line, "expected where the partition begins, or its number")
		return
	}
	if start >= 0 {
		p.Start = start
	}
	p.Length, p.Rounded = size(v.str("Size"))
	word := strings.ToLower(v.str("Type"))
	if strings.HasPrefix(word, "gpt:") {
		d.Style, d.StyleLine = disk.StyleGPT, v.lineOf("Type")
	}
	if known := wmiTypes[word]; known.mbr != 0 {
		d.Style, d.StyleLine, p.MBRType = disk.StyleMBR, v.lineOf("Type"), known.mbr
		p.Active = v.truth("BootPartition")
	} else if !known.gpt.IsZero() {
		p.Type = known.gpt
	}
	l.mark(v.line, Understood, "a partition of %s", d.Name)
}

// wmiPlace finds the partition that begins there, or makes one.
func wmiPlace(d *machine.Described, v *value, start int64) *machine.DescribedPartition {
	for i := range d.Partitions {
		if p := &d.Partitions[i]; start >= 0 && p.Start == start {
			return p
		}
	}
	index, err := strconv.Atoi(v.str("Index"))
	if err != nil && start < 0 && !strings.Contains(v.str("Name"), "Partition #") {
		return nil
	}
	highest := 0
	for _, p := range d.Partitions {
		highest = max(highest, p.Number)
	}
	if err == nil && index >= highest && index < maxPartitions {
		highest = index
	}
	return partition(d, highest+1, v.line)
}

// wmiVolume takes a volume for the partition with its letter.
func wmiVolume(l *Listing, v *value) {
	called := &value{line: v.line, object: true}
	for _, f := range v.fields {
		name := f.name
		switch name {
		case "DeviceID", "Caption", "Name":
			name = "DriveLetter"
		case "VolumeName":
			name = "FileSystemLabel"
		case "FreeSpace":
			name = "SizeRemaining"
		}
		if name != "DriveLetter" || called.get(name) == nil {
			called.fields = append(called.fields, field{name, f.line, f.value})
		}
	}
	l.volumes = append(l.volumes, called)
}
