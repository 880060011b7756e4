package loader

import "strings"

// RAMDiskSettings are what a file says of which drivers an initial RAM disk gets.
type RAMDiskSettings struct {
	// Modules is "most" for all drivers of disks, "dep" for those of the machine it is made on; "" where the
	// file does not say, "?" where what it says is not followed.
	Modules string
	Offset  int64 // of the line, in bytes from the start of the file
	Length  int64
	Line    int
}

// ParseRAMDiskSettings reads a file of initramfs-tools: initramfs.conf(5), "MODULES". It is a script; what is
// set last counts.
func ParseRAMDiskSettings(raw []byte) *RAMDiskSettings {
	s := &RAMDiskSettings{}
	for _, l := range lines(raw) {
		text := strings.TrimSpace(l.text)
		at := strings.Index(text, "MODULES=")
		if at < 0 || strings.HasPrefix(text, "#") {
			continue
		}
		value, _, _ := strings.Cut(text[at+len("MODULES="):], " ")
		value = strings.Trim(value, `"'`)
		if at > 0 || value != "most" && value != "dep" && value != "netboot" && value != "list" {
			value = "?"
		}
		*s = RAMDiskSettings{value, l.offset, int64(len(l.text)), l.number}
	}
	return s
}
