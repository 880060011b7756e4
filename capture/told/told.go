// Package told turns what a person reads off a screen or a label into a description of
// a disk.
package told

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// Disk is a disk as a person reads it off a screen or a label; absent facts are
// unknown.
type Disk struct {
	Style      string      `json:"style,omitempty" enum:"GPT,MBR,none"`
	Capacity   string      `json:"capacity,omitempty" maxLength:"40" doc:"Such as 232 GB, 465.8 GiB or 500107862016"`
	SectorSize int         `json:"sectorSize,omitempty" enum:"512,4096"`
	ID         string      `json:"id,omitempty" maxLength:"40"`
	Partitions []Partition `json:"partitions,omitempty" maxItems:"128"`
	Whole      bool        `json:"whole,omitempty" doc:"These are all its partitions"`
}

// Partition is a partition as a person reads it off a screen.
type Partition struct {
	Purpose    string `json:"purpose,omitempty" enum:"boot,system,reserved,recovery,data"`
	Size       string `json:"size,omitempty" maxLength:"40"`
	FileSystem string `json:"fileSystem,omitempty" maxLength:"20"`
	Label      string `json:"label,omitempty" maxLength:"60"`
	Active     *bool  `json:"active,omitempty" doc:"Absent where it is not told"`
}

// purposes are what a person can say a partition is for.
var purposes = map[string]disk.Role{
	"boot": disk.RoleBoot, "system": disk.RoleSystem, "reserved": disk.RoleReserved, "recovery": disk.RoleRecovery, "data": disk.RoleData,
}

// Purposes lists what a person can say a partition is for.
var Purposes = []string{"boot", "system", "reserved", "recovery", "data"}

// maxPartitions bounds the partitions of a disk.
const maxPartitions = 128

// Describe returns the description; nil of a disk of which nothing was told. The error
// names the field and what was expected.
func (t *Disk) Describe() (*machine.Described, error) {
	if t == nil {
		return nil, nil
	}
	d := &machine.Described{Name: "told", Source: fact.Source{Origin: fact.Typed, Structure: "told by a person"},
		SectorSize: t.SectorSize, Whole: t.Whole}
	switch strings.ToUpper(t.Style) {
	case "GPT":
		d.Style = disk.StyleGPT
	case "MBR":
		d.Style = disk.StyleMBR
	case "NONE":
		d.Style = disk.StyleNone
	case "":
	default:
		return nil, fmt.Errorf("style is %q: expected GPT, MBR or none", t.Style)
	}
	if t.SectorSize != 0 && t.SectorSize != 512 && t.SectorSize != 4096 {
		return nil, fmt.Errorf("sectorSize is %d: expected 512 or 4096", t.SectorSize)
	}
	units := disk.EitherUnits
	if t.Capacity != "" {
		n, rounded, err := disk.ParseSize(t.Capacity, disk.EitherUnits)
		if err != nil {
			return nil, fmt.Errorf("capacity: %w", err)
		}
		d.Size, d.Rounded = n, rounded
		if label, _, _ := disk.ParseSize(t.Capacity, disk.DecimalUnits); label != n {
			units = disk.BinaryUnits // the screen counts in binary units, its partitions too
		}
	}
	if d.ID = strings.ToUpper(strings.Trim(t.ID, "{} ")); d.ID != "" && !disk.IsID(strings.TrimPrefix(d.ID, "0X")) {
		return nil, fmt.Errorf("id is %q: expected a disk GUID, or a disk signature of eight hexadecimal digits", t.ID)
	}
	if len(t.Partitions) > maxPartitions {
		return nil, fmt.Errorf("%d partitions: expected at most %d", len(t.Partitions), maxPartitions)
	}
	for i, p := range t.Partitions {
		part, err := describePartition(p, i+1, units)
		if err != nil {
			return nil, fmt.Errorf("partitions[%d].%w", i, err)
		}
		d.Partitions = append(d.Partitions, part)
	}
	return d, nil
}

func describePartition(t Partition, number int, units disk.Units) (machine.DescribedPartition, error) {
	p := machine.DescribedPartition{Number: number, Start: -1, Active: fact.Maybe(t.Active), Label: t.Label}
	role, ok := purposes[t.Purpose]
	if t.Purpose != "" && !ok {
		return p, fmt.Errorf("purpose is %q: expected one of %s", t.Purpose, strings.Join(Purposes, ", "))
	}
	p.Role = role
	if t.Size != "" {
		n, rounded, err := disk.ParseSize(t.Size, units)
		if err != nil {
			return p, fmt.Errorf("size: %w", err)
		}
		p.Length, p.Rounded = n, rounded
	}
	if t.FileSystem != "" {
		if p.Kind, ok = volume.Named(t.FileSystem); !ok {
			return p, fmt.Errorf("fileSystem is %q: expected one such as NTFS, FAT32, ext4 or APFS", t.FileSystem)
		}
	}
	return p, nil
}
