package listing

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"howett.net/plist"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// diskutil(8), "list -plist" and "info -plist".

func isDiskutil(t *text) bool {
	head := strings.Join(t.head(40), "\n")
	return strings.Contains(head, "<plist") || strings.HasPrefix(strings.TrimSpace(head), "<?xml")
}

// macDisk and macPartition hold the keys that are read.
type macDisk struct {
	DeviceIdentifier string
	Size             int64
	Content          string
	Partitions       []macPartition
	APFSVolumes      []macPartition
}

type macPartition struct {
	DeviceIdentifier string
	Size             int64
	Content          string
	DiskUUID         string
	VolumeName       string
	VolumeUUID       string
}

type macInfo struct {
	DeviceIdentifier            string
	ParentWholeDisk             string
	WholeDisk                   bool
	TotalSize                   int64
	Size                        int64
	DeviceBlockSize             int64
	BusProtocol                 string
	MediaName                   string
	Content                     string
	DiskUUID                    string
	VolumeName                  string
	VolumeUUID                  string
	PartitionMapPartitionOffset int64
	FilesystemType              string
}

func readDiskutil(t *text, l *Listing) {
	body := strings.Join(t.lines, "\n")
	if i := strings.Index(body, "<?xml"); i > 0 {
		body = body[i:]
	}
	var list struct{ AllDisksAndPartitions []macDisk }
	if err := decodePlist(body, &list); err != nil {
		l.Problem = "The property list cannot be read: " + err.Error() + "."
		l.unread(len(l.Lines), "%s", err)
		return
	}
	for i := range l.Lines {
		l.mark(i+1, Passed, "")
	}
	for _, d := range list.AllDisksAndPartitions {
		macList(l, t, d)
	}
	if len(list.AllDisksAndPartitions) == 0 {
		var info macInfo
		if decodePlist(body, &info) == nil && info.DeviceIdentifier != "" {
			macInfoOf(l, t, info)
		}
	}
}

// Bounds of a property list: how deep its elements lie within each other, and how many
// there are.
const (
	maxPlistDepth    = 32
	maxPlistElements = 200_000
)

// checkPlist reads a property list once without keeping it: the library that decodes it
// goes down by recursion, as deep as the text leads it, and takes other forms than XML.
func checkPlist(body string) error {
	dec := xml.NewDecoder(strings.NewReader(body))
	depth, elements, root := 0, 0, ""
	for {
		token, err := dec.RawToken()
		if errors.Is(err, io.EOF) && depth == 0 && root == "plist" {
			return nil
		}
		if err != nil {
			return &Error{"its structure is damaged, or it breaks off"}
		}
		switch t := token.(type) {
		case xml.StartElement:
			if root == "" {
				root = t.Name.Local
			}
			depth++
			elements++
		case xml.EndElement:
			depth--
		}
		switch {
		case depth > maxPlistDepth:
			return &Error{fmt.Sprintf("its elements lie more than %d deep within each other", maxPlistDepth)}
		case elements > maxPlistElements:
			return &Error{fmt.Sprintf("it has more than %d elements", maxPlistElements)}
		case depth < 0:
			return &Error{"its structure is damaged"}
		}
	}
}

// decodePlist decodes a property list; a panic of the decoder is damage.
func decodePlist(body string, into any) (err error) {
	if err := checkPlist(body); err != nil {
		return err
	}
	defer func() {
		if p := recover(); p != nil {
			err = &Error{"its structure is damaged"}
		}
	}()
	_, err = plist.Unmarshal([]byte(body), into)
	return err
}

// lineWith finds the line that names a device.
func (t *text) lineWith(id string) int {
	for i, s := range t.lines {
		if strings.Contains(s, "<string>"+id+"</string>") {
			return i + 1
		}
	}
	return 1
}

func macStyle(content string) disk.Style {
	switch content {
	case "GUID_partition_scheme":
		return disk.StyleGPT
	case "FDisk_partition_scheme":
		return disk.StyleMBR
	case "":
		return disk.StyleNone
	}
	return ""
}

func macList(l *Listing, t *text, m macDisk) {
	line := t.lineWith(m.DeviceIdentifier)
	if len(m.APFSVolumes) > 0 { // a container's own disk, which stands on a partition
		l.mark(line, Passed, "the volumes of a container")
		return
	}
	d := l.disk(m.DeviceIdentifier, line)
	if d == nil {
		return
	}
	d.Size, d.Style, d.StyleLine, d.Whole = m.Size, macStyle(m.Content), line, len(m.Partitions) > 0
	l.mark(line, Understood, "disk %s", d.Name)
	for _, q := range m.Partitions {
		at := t.lineWith(q.DeviceIdentifier)
		p := partition(d, trailingNumber(q.DeviceIdentifier), at)
		if p == nil {
			return
		}
		p.Length, p.Label, p.Serial = q.Size, q.VolumeName, q.VolumeUUID
		p.GUID, _ = disk.ParseGUID(q.DiskUUID)
		macContent(p, q.Content)
		l.mark(at, Understood, "partition %d of %s", p.Number, d.Name)
	}
}

// macContents are the Mac's names for partition types. Technical Note TN2166 and
// the Apple File System Reference.
var macContents = map[string]string{
	"EFI": "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", "Apple_APFS": "7C3457EF-0000-11AA-AA11-00306543ECAC",
	"Apple_HFS": "48465300-0000-11AA-AA11-00306543ECAC", "Apple_Boot": "426F6F74-0000-11AA-AA11-00306543ECAC",
	"Microsoft Basic Data": "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", "Microsoft Reserved": "E3C9E316-0B5C-4DB8-817D-F92DF00215AE",
	"Linux Filesystem": "0FC63DAF-8483-4772-8E79-3D69D8477DE4", "Linux_Swap": "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F",
}

func macContent(p *machine.DescribedPartition, content string) {
	if g, ok := macContents[content]; ok {
		p.Type = disk.MustGUID(g)
	} else {
		setType(p, content)
	}
	p.Kind, _ = volume.Named(content)
}

func macInfoOf(l *Listing, t *text, m macInfo) { macInfoAt(l, t.lineWith(m.DeviceIdentifier), m) }

func macInfoAt(l *Listing, line int, m macInfo) {
	bus := map[string]string{"SATA": "sata", "PCI-Express": "nvme", "Apple Fabric": "nvme", "USB": "usb", "ATA": "ide"}[m.BusProtocol]
	length := max(m.Size, m.TotalSize)
	if m.WholeDisk || m.ParentWholeDisk == m.DeviceIdentifier {
		if d := l.disk(m.DeviceIdentifier, line); d != nil {
			d.Size, d.SectorSize, d.Bus, d.Model = length, int(m.DeviceBlockSize), bus, m.MediaName
			if m.Content != "" {
				d.Style, d.StyleLine = macStyle(m.Content), line
			}
			l.mark(line, Understood, "disk %s", d.Name)
		}
		return
	}
	if m.ParentWholeDisk == "" {
		l.unread(line, "expected the disk that it is part of")
		return
	}
	d := l.disk(m.ParentWholeDisk, line)
	if d == nil {
		return
	}
	d.SectorSize, d.Bus = int(m.DeviceBlockSize), bus
	if p := partition(d, trailingNumber(m.DeviceIdentifier), line); p != nil {
		p.Length, p.Label, p.Serial = length, m.VolumeName, m.VolumeUUID
		if m.PartitionMapPartitionOffset > 0 {
			p.Start = m.PartitionMapPartitionOffset
		}
		p.GUID, _ = disk.ParseGUID(m.DiskUUID)
		macContent(p, m.Content)
		if k, ok := volume.Named(m.FilesystemType); ok {
			p.Kind = k
		}
		l.mark(line, Understood, "partition %d of %s", p.Number, d.Name)
	}
}
