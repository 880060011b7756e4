package listing

import (
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// Get-Disk, Get-PhysicalDisk, Get-Partition and Get-Volume as JSON, as table, as list and
// as comma-separated values: the maker's Storage module reference, MSFT_Disk,
// MSFT_PhysicalDisk, MSFT_Partition and MSFT_Volume; the heads of the tables from memory.

// storageNames are the heads of the tables and the names in lists, with the names of the
// properties.
var storageNames = newVocabulary(map[string]string{
	"Number": "Number", "Friendly Name": "FriendlyName", "FriendlyName": "FriendlyName",
	"Serial Number": "SerialNumber",
	"SerialNumber":  "SerialNumber", "Total Size": "Size", "Size": "Size", "Partition Style": "PartitionStyle",
	"PartitionStyle": "PartitionStyle", "Partition": "PartitionStyle", "HealthStatus": "HealthStatus",
	"OperationalStatus": "OperationalStatus",
	"DiskNumber":        "DiskNumber", "PartitionNumber": "PartitionNumber", "DriveLetter": "DriveLetter", "Offset": "Offset",
	"Type": "Type", "GptType": "GptType", "MbrType": "MbrType", "Guid": "Guid", "IsActive": "IsActive",
	"IsBoot":   "IsBoot",
	"IsSystem": "IsSystem", "IsHidden": "IsHidden", "FileSystemLabel": "FileSystemLabel", "FileSystem": "FileSystem",
	"FileSystemType": "FileSystemType", "DriveType": "DriveType", "SizeRemaining": "SizeRemaining",
	"BusType":           "BusType",
	"LogicalSectorSize": "LogicalSectorSize", "PhysicalSectorSize": "PhysicalSectorSize", "Signature": "Signature",
	"MediaType": "MediaType", "CanPool": "CanPool", "Usage": "Usage", "DeviceId": "DeviceId", "Model": "Model",
	"IsOffline": "IsOffline", "IsReadOnly": "IsReadOnly", "NumberOfPartitions": "NumberOfPartitions",
	"UniqueId": "UniqueId",
	"Path":     "Path", "DiskPath": "DiskPath", "DiskId": "DiskId", "AllocatedSize": "AllocatedSize",
	"Location":     "Location",
	"Manufacturer": "Manufacturer", "FirmwareVersion": "FirmwareVersion",
})

// hasKeys reports whether the beginning of a JSON text has names.
func hasKeys(t *text, keys ...string) bool {
	head := strings.ReplaceAll(strings.Join(t.head(400), "\n"), " ", "")
	for _, k := range keys {
		if !strings.Contains(head, `"`+k+`":`) {
			return false
		}
	}
	return true
}

func isGetDisk(t *text) bool {
	return hasKeys(t, "PartitionStyle", "FriendlyName") || hasKeys(t, "PartitionStyle", "Number")
}

func isGetPartition(t *text) bool { return hasKeys(t, "PartitionNumber", "Offset") }

func isGetVolume(t *text) bool { return hasKeys(t, "FileSystemLabel", "SizeRemaining") }

// isPowerShell recognises a table by its heads.
func isPowerShell(t *text) bool {
	return anyLine(t, func(s string) bool { return storageNames.headsOf(s, 3, storageKind) || diskPath.MatchString(s) })
}

// isKeyedList recognises a list of names and values.
func isKeyedList(t *text) bool { return storageNames.listOf(t, storageKind) }

// storageKind tells what an object of the Storage module is by the properties it has.
func storageKind(has func(name string) bool) string {
	switch {
	case has("PartitionNumber") && (has("Offset") || has("Size")):
		return "partition"
	case has("PartitionStyle") && (has("Number") || has("DiskNumber")):
		return "disk"
	case has("FileSystemLabel") || has("SizeRemaining") || has("DriveType") && has("DriveLetter"):
		return "volume"
	case has("MediaType") && (has("FriendlyName") || has("DeviceId")):
		return "physical"
	}
	return ""
}

// readPowerShell reads objects of any of them, in whatever form: a file may hold several
// listings, one after the other, and volumes before the partitions they lie in.
func readPowerShell(t *text, l *Listing) {
	l.storage(t, jsonObjects(l.json(t)), true)
}

// partitionsOf are the commands that list the partitions of one disk alone, by its number.
// Get-Partition, -DiskNumber, position 0; Get-Disk, -Number, position 0. Microsoft's Storage
// module.
var partitionsOf = regexp.MustCompile(`(?i)^\s*(?:get-partition\s+(?:-disknumber[\s:]+)?|get-disk\s+(?:-number[\s:]+)?)(\d+)\b(?:\s*$|\s*\|)`)

func readPowerShellTable(t *text, l *Listing) {
	objects := t.tables(l, storageNames, 3)
	byLine := map[int]*value{}
	for _, v := range objects {
		byLine[v.line] = v
	}
	path, at := "", len(l.paths)
	numberOf := match(partitionsOf, t.command)
	for i, s := range t.lines {
		// Partitions come in groups, each with its disk's path before it.
		if m := diskPath.FindStringSubmatch(s); m != nil {
			path, at = m[1], at+1
			l.paths[pathNamed+strconv.Itoa(at)] = path
			l.mark(i+1, Understood, "a disk's path")
		}
		if v := byLine[i+1]; v != nil {
			number := numberOf
			if number == "" && path != "" {
				number = strings.TrimPrefix(pathNamed, "Disk ") + strconv.Itoa(at)
			}
			if number != "" && v.get("PartitionNumber") != nil && v.get("DiskNumber") == nil {
				v.fields = append(v.fields, field{"DiskNumber", i + 1, &value{line: i + 1, text: number}})
			}
		}
	}
	l.storage(t, objects, false)
}

func readKeyedList(t *text, l *Listing) { l.storage(t, t.keyedList(l, storageNames), false) }

func readSeparated(t *text, l *Listing) { l.storage(t, t.separated(l), false) }

func isSeparated(t *text) bool { return separatedOf(t, storageKind) }

func jsonObjects(root *value) []*value {
	if len(root.items) > 0 || !root.object {
		return root.items
	}
	if inner := root.list("value"); inner != nil { // as newer versions wrap it
		return inner
	}
	return []*value{root}
}

// storage takes objects; closed is set for a form that shows its end.
func (l *Listing) storage(t *text, objects []*value, closed bool) {
	var volumes []*value
	touched := map[string]bool{}
	for _, v := range objects {
		switch storageKind(func(name string) bool { return v.get(name) != nil }) {
		case "partition":
			touched[windowsPartition(l, v)] = true
		case "disk":
			windowsDisk(l, v)
		case "physical":
			windowsPhysical(l, v)
		case "volume":
			volumes = append(volumes, v)
		default:
			l.unread(v.line, "expected a disk, a partition or a volume")
		}
	}
	last := 0
	for _, v := range objects {
		for _, f := range v.fields {
			last = max(last, f.line)
		}
	}
	for i := range l.Disks {
		if d := &l.Disks[i]; touched[d.Name] {
			goesOn := t.after || t.goesOn(d) && t.follows(last)
			d.Whole = l.Problem == "" && contiguous(d.Partitions) && (closed || goesOn)
		}
	}
	l.volumes = append(l.volumes, volumes...)
}

// contiguous reports whether partitions are numbered from 1 on: a listing that was asked
// for one of them leaves others out.
func contiguous(parts []machine.DescribedPartition) bool {
	for i, p := range parts {
		if p.Number != i+1 {
			return false
		}
	}
	return len(parts) > 0
}

// busTypes are MSFT_Disk's BusType, by name and by number.
var busTypes = map[string]string{
	"ata": "ide", "3": "ide", "atapi": "ide", "2": "ide", "sata": "sata", "11": "sata", "nvme": "nvme",
	"17": "nvme", "usb": "usb", "7": "usb",
	"scsi": "scsi", "1": "scsi", "sas": "scsi", "10": "scsi", "sd": "sd", "12": "sd", "mmc": "sd", "13": "sd",
}

func windowsDisk(l *Listing, v *value) {
	number := v.str("Number")
	if number == "" {
		number = v.str("DiskNumber")
	}
	d := l.disk("Disk "+number, v.line)
	if d == nil {
		return
	}
	d.Model, d.Serial = v.str("FriendlyName"), strings.TrimSpace(v.str("SerialNumber"))
	d.Size, d.Rounded = size(v.str("Size"))
	d.SectorSize, d.Bus = int(v.num("LogicalSectorSize")), busTypes[strings.ToLower(v.str("BusType"))]
	switch strings.ToLower(v.str("PartitionStyle")) {
	case "gpt", "2":
		d.Style, d.ID, d.IDLine = disk.StyleGPT, diskID(v.str("Guid")), v.lineOf("Guid")
	case "mbr", "1":
		d.Style = disk.StyleMBR
		if n := v.num("Signature"); n > 0 {
			d.ID, d.IDLine = diskID(strconv.FormatInt(n, 16)), v.lineOf("Signature")
		}
	case "raw", "0":
		d.Style = disk.StyleNone
	}
	d.StyleLine = v.lineOf("PartitionStyle")
	l.mark(v.line, Understood, "%s: %s", d.Name, d.Model)
}

// windowsPhysical tells of a drive as such. Its DeviceId is the number of the disk where
// no storage pool is in between; a USB drive may lack it.
func windowsPhysical(l *Listing, v *value) {
	number := v.str("DeviceId")
	if number == "" {
		number = v.str("Number")
	}
	if _, err := strconv.Atoi(number); err != nil {
		l.mark(v.line, Passed, "a drive whose number is not told")
		return
	}
	d := l.disk("Disk "+number, v.line)
	if d == nil {
		return
	}
	if d.Model == "" {
		d.Model, d.Serial = v.str("FriendlyName"), strings.TrimSpace(v.str("SerialNumber"))
	}
	if d.Size == 0 {
		d.Size, d.Rounded = size(v.str("Size"))
	}
	if d.SectorSize == 0 {
		d.SectorSize = int(v.num("LogicalSectorSize"))
	}
	if d.Bus == "" {
		d.Bus = busTypes[strings.ToLower(v.str("BusType"))]
	}
	l.mark(v.line, Understood, "%s: %s", d.Name, d.Model)
}

// partitionTypes are the words of MSFT_Partition's Type in a table.
var partitionTypes = map[string]disk.GUID{
	"system": disk.TypeESP, "reserved": disk.TypeMSReserved, "basic": disk.TypeBasicData, "recovery": disk.TypeWinRE,
}

// partitionTypesMBR are those of an MBR.
var partitionTypesMBR = map[string]byte{"ifs": 7, "fat32": 0x0B, "fat16": 6, "fat12": 1, "extended": 5, "xint13": 0x0E,
	"fat32 xint13": 0x0C, "huge": 6}

func windowsPartition(l *Listing, v *value) string {
	name := "Disk"
	if number := v.str("DiskNumber"); number != "" {
		name += " " + number
	}
	d := l.disk(name, v.line)
	if d == nil {
		return ""
	}
	number, told := v.count("PartitionNumber")
	if !told {
		l.unread(v.line, "expected the partition's number")
		return d.Name
	}
	p := partition(d, int(number), v.line)
	if p == nil {
		return d.Name
	}
	p.Length, p.Rounded = size(v.str("Size"))
	p.Letter = letter(v.str("DriveLetter"))
	p.Unlettered = p.Letter == "" && v.get("DriveLetter") != nil
	p.Active = v.truth("IsActive")
	if start, rounded, err := disk.ParseSize(v.str("Offset"), disk.BinaryUnits); err == nil {
		p.Start, p.Rounded = start, p.Rounded || rounded
	}
	word := strings.ToLower(v.str("Type"))
	if s := v.str("GptType"); s != "" {
		setType(p, s)
		d.Style, d.StyleLine = disk.StyleGPT, v.lineOf("GptType")
	} else if n := v.num("MbrType"); n > 0 && n < 256 {
		p.MBRType = byte(n)
		d.Style, d.StyleLine = disk.StyleMBR, v.lineOf("MbrType")
	} else if g, known := partitionTypes[word]; known {
		p.Type = g
		d.Style, d.StyleLine = disk.StyleGPT, v.lineOf("Type")
	} else if b, known := partitionTypesMBR[word]; known {
		p.MBRType = b
		d.Style, d.StyleLine = disk.StyleMBR, v.lineOf("Type")
	}
	p.GUID, _ = disk.ParseGUID(strings.Trim(v.str("Guid"), "{}"))
	l.mark(v.line, Understood, "partition %d of %s", p.Number, d.Name)
	return d.Name
}

func letter(s string) string {
	s = strings.Trim(s, "\x00 :")
	if len(s) == 1 && (s[0] >= 'A' && s[0] <= 'Z' || s[0] >= 'a' && s[0] <= 'z') {
		return strings.ToUpper(s)
	}
	if n, err := strconv.Atoi(s); err == nil && n >= 'A' && n <= 'Z' { // a character as a number
		return string(rune(n))
	}
	return ""
}

// placeVolumes tells of the partitions with the same letters, wherever in the text they
// were listed; a volume without one cannot be placed.
func (l *Listing) placeVolumes() {
	l.placeMounts()
	for _, v := range l.volumes {
		if !l.placeVolume(v) {
			l.mark(v.line, Understood, "volume %s: %s, %s; in which partition it lies is not told",
				letter(v.str("DriveLetter")),
				v.str("FileSystem"), v.str("FileSystemLabel"))
			l.Unplaced = append(l.Unplaced, v.line)
		}
	}
	l.volumes = nil
}

func (l *Listing) placeVolume(v *value) bool {
	mark := letter(v.str("DriveLetter"))
	if mark == "" {
		return false
	}
	for i := range l.Disks {
		for j := range l.Disks[i].Partitions {
			if p := &l.Disks[i].Partitions[j]; p.Letter == mark {
				name := v.str("FileSystem")
				if name == "" {
					name = v.str("FileSystemType")
				}
				if kind, known := volume.Named(name); known {
					p.Kind = kind
				}
				for _, name := range []string{"FileSystemLabel", "FriendlyName"} {
					if p.Label == "" && (name == "FileSystemLabel" || v.get("FileSystemLabel") == nil) {
						p.Label = v.str(name)
					}
				}
				if v.has("Dirty") {
					p.Unclean = fact.Known(v.str("Dirty") == "yes", l.Disks[i].Source)
				}
				if total, _ := size(v.str("Size")); v.has("SizeRemaining") {
					left, _ := size(v.str("SizeRemaining"))
					p.Used = max(total-left, 0)
				}
				l.mark(v.line, Understood, "volume %s of partition %d", mark, p.Number)
				return true
			}
		}
	}
	return false
}
