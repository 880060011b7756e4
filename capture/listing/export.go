package listing

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"latchkey/core/command"
	"latchkey/core/disk"
	"latchkey/core/machine"
)

// table is a layout in the form of sfdisk(8), "--json".
type table struct {
	Label      string      `json:"label"`
	ID         string      `json:"id"`
	Device     string      `json:"device"`
	Unit       string      `json:"unit"`
	FirstLBA   uint64      `json:"firstlba,omitempty"`
	LastLBA    uint64      `json:"lastlba,omitempty"`
	SectorSize int         `json:"sectorsize"`
	Partitions []tablePart `json:"partitions"`
}

type tablePart struct {
	Node     string `json:"node"`
	Start    uint64 `json:"start"`
	Size     uint64 `json:"size"`
	Type     string `json:"type"`
	UUID     string `json:"uuid,omitempty"`
	Name     string `json:"name,omitempty"`
	Bootable bool   `json:"bootable,omitempty"`
}

// tableOf lists a layout as sfdisk does; the error says why it cannot.
func tableOf(l *disk.Layout, name string) (*table, error) {
	t := &table{Device: name, Unit: "sectors", SectorSize: l.SectorSize, Partitions: []tablePart{}}
	id, _ := l.DiskID().Get()
	switch l.Style {
	case disk.StyleGPT:
		t.Label, t.ID = "gpt", id
		if c := l.GPT.Valid(); c != nil {
			t.FirstLBA, t.LastLBA = c.Header.FirstUsableLBA, c.Header.LastUsableLBA
		}
	case disk.StyleMBR:
		t.Label, t.ID = "dos", "0x"+strings.ToLower(id)
	default:
		return nil, fmt.Errorf("the disk has no partition table to list (style %s)", l.Style)
	}
	for _, p := range l.Partitions {
		if p.Unplaced {
			return nil, fmt.Errorf("where partition %d lies is not known", p.Number)
		}
		part := tablePart{Node: name + strconv.Itoa(p.Number), Start: p.Start, Size: p.Length, Name: p.Name,
			Bootable: p.Active}
		if l.Style == disk.StyleGPT {
			part.Type, part.UUID = p.TypeGUID.String(), p.GUID.String()
		} else {
			part.Type = strconv.FormatUint(uint64(p.MBRType), 16)
		}
		t.Partitions = append(t.Partitions, part)
	}
	return t, nil
}

// ExportDump lists a layout as sfdisk(8) dumps it, so that sfdisk can write it to
// another disk.
func ExportDump(l *disk.Layout, name string) ([]byte, error) {
	t, err := tableOf(l, name)
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "label: %s\nlabel-id: %s\ndevice: %s\nunit: sectors\n", t.Label, t.ID, t.Device)
	if t.LastLBA > 0 {
		fmt.Fprintf(&b, "first-lba: %d\nlast-lba: %d\n", t.FirstLBA, t.LastLBA)
	}
	fmt.Fprintf(&b, "sector-size: %d\n\n", t.SectorSize)
	for _, p := range t.Partitions {
		fmt.Fprintf(&b, "%s : start=%12d, size=%12d, type=%s", p.Node, p.Start, p.Size, p.Type)
		if p.UUID != "" {
			fmt.Fprintf(&b, ", uuid=%s", p.UUID)
		}
		if p.Name != "" {
			b.WriteString(`, name="` + escaped(p.Name) + `"`)
		}
		if p.Bootable {
			b.WriteString(", bootable")
		}
		b.WriteByte('\n')
	}
	return []byte(b.String()), nil
}

// escaped writes what would end or change a name by its number, as sfdisk itself does
// and reads it: \xHH.
func escaped(name string) string {
	var b strings.Builder
	for _, c := range []byte(name) {
		if c < ' ' || c == 0x7F || strings.IndexByte("\"\\`$", c) >= 0 {
			fmt.Fprintf(&b, `\x%02x`, c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// ExportJSON lists a layout in the form of sfdisk(8), "--json".
func ExportJSON(l *disk.Layout, name string) ([]byte, error) {
	t, err := tableOf(l, name)
	if err != nil {
		return nil, err
	}
	return json.MarshalIndent(map[string]any{"partitiontable": t}, "", "   ")
}

// ExportReferences lists who refers to which disk, partition or file system, as
// comma-separated values (RFC 4180).
func ExportReferences(refs []machine.Reference) ([]byte, error) {
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	head := []string{"holder", "on", "named by", "value", "means", "original", "clone", "source"}
	if err := w.Write(head); err != nil {
		return nil, err
	}
	for _, r := range refs {
		on := map[string]string{}
		for _, x := range r.On {
			on[x.Drive] = partitions(x)
		}
		holder := r.Drive
		if holder == "" {
			holder = "firmware"
		}
		source := r.Source.Structure
		if r.Source.Line > 0 {
			source += ", line " + strconv.Itoa(r.Source.Line)
		} else if r.Source.Length > 0 {
			source += ", byte " + strconv.FormatInt(r.Source.Offset, 10)
		}
		row := []string{r.Holder, holder, r.Kind, r.Value, r.Means, on["original"], on["clone"], source}
		if err := w.Write(command.Cells(row...)); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return []byte(b.String()), w.Error()
}

func partitions(x machine.Resolved) string {
	if !x.Known {
		return "not known"
	}
	if len(x.Partitions) == 0 {
		return "none"
	}
	var numbers []string
	for _, n := range x.Partitions {
		numbers = append(numbers, strconv.Itoa(n))
	}
	return "partition " + strings.Join(numbers, ", ")
}
