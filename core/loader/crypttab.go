package loader

import (
	"slices"
	"strings"
)

// Opened is a line of /etc/crypttab: a volume that the start opens from an encrypted one, under a name of its own.
type Opened struct {
	Name   string // below /dev/mapper
	Spec   Spec   // of the encrypted volume
	Waited bool   // the start waits for that
	Line   int
	Offset int64 // bytes from the start of the file
	Length int64
}

// ParseCrypttab reads a table of encrypted volumes. Lines that are none are passed over, as by systemd.
// crypttab(5); systemd's src/cryptsetup/cryptsetup-generator.c, "Failed to parse".
func ParseCrypttab(raw []byte) (list []Opened) {
	for _, l := range lines(raw) {
		fields := strings.Fields(l.text)
		if len(fields) < 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		o := Opened{Name: fields[0], Spec: ParseSpec(unescape(fields[1])), Waited: true}
		o.Line, o.Offset, o.Length = l.number, l.offset, int64(len(l.text))
		if len(fields) > 3 {
			for option := range strings.SplitSeq(fields[3], ",") {
				o.Waited = o.Waited && !slices.Contains([]string{"noauto", "nofail", "_netdev"}, option)
			}
		}
		list = append(list, o)
	}
	return list
}
