package loader

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/disk"
)

// MaxText bounds a configuration file, in bytes.
const MaxText = 1 << 20

// line is a line of a configuration file.
type line struct {
	text   string // without the ends of line and the spaces around it
	number int    // from 1
	offset int64  // bytes from the start of the file to the text
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
	ByFile      SpecKind = "file on it"
	ByPath      SpecKind = "place in the machine" // the port that a disk hangs on
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
	for prefix, kind := range map[string]SpecKind{
		"UUID=": ByFSUUID, "LABEL=": ByFSLabel, "PARTUUID=": ByPartUUID, "PARTLABEL=": ByPartLabel,
		"/dev/disk/by-uuid/": ByFSUUID, "/dev/disk/by-label/": ByFSLabel, "/dev/disk/by-partuuid/": ByPartUUID,
		"/dev/disk/by-partlabel/": ByPartLabel, "/dev/disk/by-path/": ByPath, "/dev/disk/by-id/": ByOther, "/dev/mapper/": ByOther,
	} {
		if value, ok := strings.CutPrefix(s, prefix); ok {
			return Spec{kind, strings.Trim(value, `"'`)}
		}
	}
	if strings.HasPrefix(s, "/dev/") {
		return Spec{ByDevice, s}
	}
	return Spec{ByOther, s}
}

// Mount is a line of /etc/fstab.
type Mount struct {
	Spec    Spec
	Point   string
	Field   string // the mount point as it is written, with what is escaped
	Type    string
	NoFail  bool // the start goes on without it
	Line    int
	Offset  int64 // bytes from the start of the file
	Length  int64
	Comment string // "" for a sound line, else what is wrong with it
}

// Essential reports whether the start waits for the mount and ends in emergency
// mode without it. systemd's systemd.mount(5), "Fstab".
func (m Mount) Essential() bool {
	return !m.NoFail && m.Type != "swap" && strings.HasPrefix(m.Point, "/") && m.Spec.Kind != ByOther
}

// ParseFstab reads a table of mounts. fstab(5).
func ParseFstab(raw []byte) []Mount {
	var mounts []Mount
	for _, l := range lines(raw) {
		if l.text == "" || strings.HasPrefix(l.text, "#") {
			continue
		}
		m := Mount{Line: l.number, Offset: l.offset, Length: int64(len(l.text))}
		fields := strings.Fields(l.text)
		if len(fields) < 3 {
			m.Comment = fmt.Sprintf("%d fields, expected at least device, mount point and type", len(fields))
			mounts = append(mounts, m)
			continue
		}
		m.Spec, m.Point, m.Field, m.Type = ParseSpec(unescape(fields[0])), unescape(fields[1]), fields[1], fields[2]
		if len(fields) > 3 {
			for _, o := range strings.Split(fields[3], ",") {
				m.NoFail = m.NoFail || o == "nofail" || o == "noauto"
			}
		}
		mounts = append(mounts, m)
	}
	return mounts
}

// unescape puts back what fstab(5) writes in octal: spaces, tabs and the like.
func unescape(s string) string {
	return octalEscape.ReplaceAllStringFunc(s, func(e string) string {
		n, err := strconv.ParseUint(e[1:], 8, 8)
		if err != nil {
			return e
		}
		return string([]byte{byte(n)})
	})
}

var octalEscape = regexp.MustCompile(`\\[0-7]{3}`)

// Entry is a Boot Loader Specification entry: loader/entries/*.conf. The Boot
// Loader Specification, "Type #1 Boot Loader Specification Entries".
type Entry struct {
	Title   string
	Linux   string // path of the kernel, or of the program that is started
	Initrds []string
	Root    *Spec // root= of its options, nil when it has none
	Offset  int64 // of the options line
	Length  int64
	Line    int
}

// ParseEntry reads one entry.
func ParseEntry(raw []byte) Entry {
	e := Entry{}
	for _, l := range lines(raw) {
		key, value, _ := strings.Cut(strings.Replace(l.text, "\t", " ", 1), " ")
		value = strings.TrimSpace(value)
		switch strings.ToLower(key) {
		case "title":
			e.Title = value
		case "linux", "efi":
			e.Linux = value
		case "initrd":
			e.Initrds = append(e.Initrds, value)
		case "options":
			if root := rootOf(value); root != nil {
				e.Root, e.Offset, e.Length, e.Line = root, l.offset, int64(len(l.text)), l.number
			}
		}
	}
	return e
}

// rootOf returns the root= of a kernel line.
func rootOf(options string) *Spec {
	var root *Spec
	for _, o := range strings.Fields(options) {
		if value, ok := strings.CutPrefix(o, "root="); ok {
			s := ParseSpec(value)
			root = &s // the last one counts
		}
	}
	return root
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
