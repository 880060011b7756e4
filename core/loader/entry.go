package loader

import (
	"path"
	"slices"
	"strings"
)

// Entry is a Boot Loader Specification entry: loader/entries/*.conf. The Boot
// Loader Specification, "Type #1 Boot Loader Specification Entries".
type Entry struct {
	Title     string
	SortKey   string
	MachineID string
	Version   string
	Linux     string // path of the kernel, or of the program that is started
	Program   bool   // what is started is a program of the firmware's, not a kernel
	Arch      string // for which machine type it is; "" is any
	Initrds   []string
	Options   string
	Root      *Spec // root= of its options, nil when it has none
	Offset    int64 // of the options line
	Length    int64
	Line      int
}

// ParseEntry reads one entry. What GRUB's menu fills in at the start is left out of the
// list of initial RAM disks; it makes options open.
func ParseEntry(raw []byte) Entry {
	e := Entry{}
	for _, l := range lines(raw) {
		key, value := l.split()
		switch key {
		case "title":
			e.Title = value
		case "sort-key":
			e.SortKey = value
		case "machine-id":
			e.MachineID = value
		case "version":
			e.Version = value
		case "linux", "efi":
			e.Linux, e.Program = value, key == "efi"
		case "architecture":
			e.Arch = value
		case "initrd":
			for _, name := range strings.Fields(value) {
				if !strings.Contains(name, "$") {
					e.Initrds = append(e.Initrds, name)
				}
			}
		case "options":
			e.Options = strings.TrimSpace(e.Options + " " + value)
			if root := RootOf(value); root != nil || e.Line == 0 {
				e.Root, e.Offset, e.Length, e.Line = root, l.offset, int64(len(l.text)), l.number
			}
		}
	}
	return e
}

// Path is where the file that is started lies, from the top of the volume.
func (e Entry) Path() string {
	if e.Linux == "" {
		return ""
	}
	return path.Join("/", strings.ReplaceAll(e.Linux, `\`, "/"))
}

// LoaderSettings is loader/loader.conf. systemd's loader.conf(5).
type LoaderSettings struct {
	Default      string // a pattern of entries' names
	NoneByItself bool   // nothing but the entries is in the menu
}

// ParseLoaderSettings reads loader.conf.
func ParseLoaderSettings(raw []byte) *LoaderSettings {
	s := &LoaderSettings{}
	for _, l := range lines(raw) {
		switch key, value := l.split(); key {
		case "default":
			s.Default = value
		case "auto-entries":
			s.NoneByItself = slices.Contains([]string{"0", "no", "n", "false", "f", "off"}, value)
		}
	}
	return s
}
