package machine

import (
	"strings"

	"latchkey/core/disk"
	"latchkey/core/loader"
)

// InsideBrackets returns the device that a GRUB path names in front, "hd0,gpt2" of
// "(hd0,gpt2)/boot"; nothing where it is a variable or missing.
func InsideBrackets(s string) string {
	if inner, ok := strings.CutPrefix(s, "("); ok {
		inner, _, _ = strings.Cut(inner, ")")
		if !strings.HasPrefix(inner, "$") {
			return inner
		}
	}
	return ""
}

// AfterBrackets returns a GRUB path without the device in front.
func AfterBrackets(s string) string {
	if _, rest, ok := strings.Cut(s, ")"); ok {
		return rest
	}
	return s
}

// ByGRUB is Numbered for a partition in GRUB's words, which name the kind of its table: one of
// another kind it does not see. A table beside a GPT, and a GPT that an MBR is in force beside,
// may be seen. GNU GRUB Manual 2.06, "How to specify devices"; seen in a real GRUB (package
// truth, "a partition of another table").
func (d *Drive) ByGRUB(p loader.GRUBPlace) (found []int, known bool) {
	if d.Contents != nil {
		l := &d.Contents.Layout
		beside := l.MBR == nil || l.MBR.Hybrid() || l.Stale != nil || l.GPT != nil && l.Style != disk.StyleGPT
		other := p.Map == "gpt" && l.Style == disk.StyleMBR || p.Map == "msdos" && l.Style == disk.StyleGPT
		if other {
			return nil, !beside
		}
	}
	return d.Numbered(p.Partition)
}
