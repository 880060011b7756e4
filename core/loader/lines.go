package loader

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/volume"
)

// MaxText bounds a configuration file, in bytes.
const MaxText = 1 << 20

// line is a line of a configuration file.
type line struct {
	text   string // without the ends of line and the spaces around it
	number int    // from 1
	offset int64  // bytes from the start of the file to the text
}

// split takes a line apart at its first blank.
func (l line) split() (key, value string) {
	key, value, _ = strings.Cut(strings.Replace(l.text, "\t", " ", 1), " ")
	return key, strings.TrimSpace(value)
}

func lines(raw []byte) []line {
	var out []line
	offset := int64(0)
	for i, text := range strings.SplitAfter(string(raw), "\n") {
		trimmed := strings.TrimLeft(text, " \t")
		out = append(out, line{strings.TrimSpace(text), i + 1, offset + int64(len(text)-len(trimmed))})
		offset += int64(len(text))
	}
	return out
}

// SpecKind is how a configuration names a disk, a partition or a file system.
type SpecKind string

// The ways in which systems name what they look for.
const (
	ByFSUUID    SpecKind = "file system UUID"
	ByFSLabel   SpecKind = "file system label"
	ByPartUUID  SpecKind = "partition UUID"
	ByPartLabel SpecKind = "partition label"
	ByDevice    SpecKind = "device name"
	ByGRUBDisk  SpecKind = "GRUB's disk number"
	ByFile      SpecKind = "file"
	ByPath      SpecKind = "place in the machine" // the port that a disk hangs on
	ByOwnName   SpecKind = "name of a drive"      // its model and serial number, as /dev/disk/by-id has them
	ByMapped    SpecKind = "name of a logical or an opened volume"
	ByLogical   SpecKind = "UUIDs of a logical volume" // of its group and its own, as GROUP/VOLUME
	ByArray     SpecKind = "RAID"
	ByContainer SpecKind = "UUID of an encrypted volume"
	ByOther     SpecKind = "other"
)

// Spec names a disk, a partition or a file system.
type Spec struct {
	Kind  SpecKind
	Value string
}

func (s Spec) String() string { return fmt.Sprintf("%s %s", s.Kind, s.Value) }

// ParseSpec reads a device as Linux' mount table and kernel line name it: a tag
// with its value, or a device node. fstab(5) and the kernel's
// admin-guide/kernel-parameters, root=.
func ParseSpec(s string) Spec {
	s = strings.Trim(s, `"'`)
	if value, ok := strings.CutPrefix(s, "/dev/disk/by-id/dm-name-"); ok {
		return Spec{ByMapped, value}
	}
	if value, ok := strings.CutPrefix(s, "/dev/disk/by-id/"); ok && ofContainer.MatchString(value) {
		return Spec{ByOther, s}
	}
	for prefix, kind := range map[string]SpecKind{
		"UUID=": ByFSUUID, "LABEL=": ByFSLabel, "PARTUUID=": ByPartUUID, "PARTLABEL=": ByPartLabel,
		"/dev/disk/by-uuid/": ByFSUUID, "/dev/disk/by-label/": ByFSLabel, "/dev/disk/by-partuuid/": ByPartUUID,
		"/dev/disk/by-partlabel/": ByPartLabel, "/dev/disk/by-path/": ByPath, "/dev/disk/by-id/": ByOwnName,
		"/dev/mapper/": ByMapped, "/dev/md/": ByArray,
	} {
		if value, ok := strings.CutPrefix(s, prefix); ok {
			return Spec{kind, strings.Trim(value, `"'`)}
		}
	}
	if number, ok := strings.CutPrefix(s, "/dev/md"); ok && number != "" {
		return Spec{ByArray, number}
	}
	if name, ok := strings.CutPrefix(s, "/dev/"); ok {
		group, lv, two := strings.Cut(name, "/")
		if group == "block" { // by the numbers of a device, which a start gives anew
			return Spec{ByOther, s}
		}
		if two && !strings.Contains(lv, "/") && lv != "" {
			return Spec{ByMapped, volume.MappedName(group, lv)}
		}
		return Spec{ByDevice, s}
	}
	return Spec{ByOther, s}
}

// ofContainer are the links of /dev/disk/by-id that are called after no drive.
var ofContainer = regexp.MustCompile(`^(dm|md|lvm|bcache|raid)-`)

// firstDevice are the names of partitions on the first disk of its kind; a card's number
// is that of its reader. The kernel's admin-guide/devices.
var firstDevice = regexp.MustCompile(`^/dev/([shv]da[0-9]+|nvme0n1p[0-9]+|mmcblk[0-9]+p[0-9]+)$`)

// FirstDevice reports whether a device's name is that of a partition on the first disk
// of its kind.
func FirstDevice(name string) bool { return firstDevice.MatchString(name) }

// SameNumber reports whether a text is a number, in decimal or with 0x before it.
func SameNumber(text string, n uint64) bool {
	got, err := strconv.ParseUint(text, 0, 64)
	return err == nil && got == n
}

// RootOf returns the root= of a kernel line.
func RootOf(options string) *Spec {
	var root *Spec
	for _, value := range KernelOptions(options, "root") {
		if strings.Contains(value, open) || strings.Contains(value, "$") {
			continue
		}
		s := ParseSpec(value)
		root = &s // the last one counts
	}
	return root
}

// KernelOptions returns the values that a kernel line gives to an option, in order. The
// kernel's admin-guide/kernel-parameters: quotes hold blanks.
func KernelOptions(options, name string) (values []string) {
	for _, o := range strings.Fields(options) {
		if value, ok := strings.CutPrefix(strings.Trim(o, `"'`), name+"="); ok {
			values = append(values, strings.Trim(value, `"'`))
		}
	}
	return values
}

// KernelSwitch reports whether a kernel line has something on: by its name alone, or with anything but a no; as
// it is otherwise where it does not say. dracut.cmdline(7), boolean parameters, and systemd.syntax(7); the last
// one counts.
func KernelSwitch(options, name string, otherwise bool) bool {
	on := otherwise
	for _, o := range strings.Fields(options) {
		if key, value, given := strings.Cut(strings.Trim(o, `"'`), "="); key == name {
			on = !given || !slices.Contains([]string{"0", "no", "off", "n", "f", "false"}, value)
		}
	}
	return on
}

// Same reports whether two names of one kind mean the same. Identifiers are not
// told apart by case; labels are.
func (s Spec) Same(value string) bool {
	if s.Kind == ByFSLabel || s.Kind == ByPartLabel {
		return s.Value == value
	}
	return value != "" && strings.EqualFold(s.Value, value)
}

// MBRPartUUID is the partition UUID that Linux gives to a partition of an MBR
// disk: the disk signature and the number. The kernel's block/partitions/msdos.c.
func MBRPartUUID(signature uint32, number int) string {
	return fmt.Sprintf("%08x-%02x", signature, number)
}

// PartUUID is the partition UUID that Linux gives to a partition.
func PartUUID(l *disk.Layout, p disk.Partition) string {
	switch {
	case !p.GUID.IsZero():
		return strings.ToLower(p.GUID.String())
	case l.MBR != nil && l.MBR.DiskSignature != 0:
		return MBRPartUUID(l.MBR.DiskSignature, p.Number)
	}
	return ""
}
