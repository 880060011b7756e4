package running

import (
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/machine"
)

// lsblkLine is what lsblk -bdno NAME,MODEL,SIZE,PTUUID prints: no headings, the size in
// bytes, and the table's identifier.
var lsblkLine = regexp.MustCompile(`(?m)^(?:sd|nvme|vd|hd|mmcblk|xvd)\S*\s.*?(\d{6,15})\s+([0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}|[0-9a-fA-F]{8})\s*$`)

// From reads which disk the system runs from; ok is false where the text does not tell of
// exactly one.
func From(text string) (d machine.Described, ok bool) {
	text = strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text)
	if m := lsblkLine.FindAllStringSubmatch(text, 3); len(m) == 1 {
		size, err := strconv.ParseInt(m[0][1], 10, 64)
		return machine.Described{Size: size, ID: m[0][2]}, err == nil
	}
	if all := disks(text); len(all) == 1 && (all[0].ID != "" || all[0].Size > 0) {
		return all[0], true
	}
	return machine.Described{}, false
}
