package weaker

import (
	"fmt"
	"math/rand/v2"
	"strings"

	"latchkey/core/firmware"
)

// Cut spoils a text as it is spoiled on its way: at the edge of a window, by what was
// selected of it, by a page that takes several blanks for one.
func Cut(r *rand.Rand, text string) (cut, what string) {
	lines := strings.Split(text, "\n")
	widest := 1
	for _, s := range lines {
		widest = max(widest, len(s))
	}
	switch n := r.IntN(len(lines) + 1); r.IntN(6) {
	case 0:
		return strings.Join(lines[:n], "\n"), fmt.Sprintf("the lines from %d on", n)
	case 1:
		return strings.Join(lines[n:], "\n"), fmt.Sprintf("the first %d lines", n)
	case 2:
		at := r.IntN(len(text) + 1)
		return text[:at], fmt.Sprintf("all from character %d on", at)
	case 3:
		column := 1 + r.IntN(widest)
		for i, s := range lines {
			lines[i] = s[:min(column, len(s))]
		}
		return strings.Join(lines, "\n"), fmt.Sprintf("what stands behind column %d", column)
	case 4:
		for i, s := range lines {
			lines[i] = strings.Join(strings.Fields(s), " ")
		}
		return strings.Join(lines, "\n"), "all blanks but one between words"
	default:
		return text, "nothing"
	}
}

// EntriesText prints boot entries as efibootmgr(8) does with -v.
func EntriesText(e *firmware.Entries) string {
	var b strings.Builder
	if e.Next != nil {
		fmt.Fprintf(&b, "BootNext: %04X\n", *e.Next)
	}
	if !e.NextOpen {
		b.WriteString("BootCurrent: 0000\nTimeout: 0 seconds\n")
	}
	order := make([]string, len(e.Order))
	for i, n := range e.Order {
		order[i] = fmt.Sprintf("%04X", n)
	}
	switch {
	case len(order) > 0:
		fmt.Fprintf(&b, "BootOrder: %s\n", strings.Join(order, ","))
	case !e.OrderOpen:
		b.WriteString("No BootOrder is set; firmware will attempt recovery\n")
	}
	for n := range 0x10000 {
		one, ok := e.All[uint16(n)]
		if !ok {
			continue
		}
		star := ' '
		if one.Active {
			star = '*'
		}
		fmt.Fprintf(&b, "Boot%04X%c %s\t%s\n", n, star, one.Description, one.Text)
	}
	return b.String()
}

// FirmwareText prints boot entries as Windows' bcdedit /enum firmware does: without their
// numbers, and without where they lead. The maker's BCDEdit reference; the layout from memory.
func FirmwareText(e *firmware.Entries) string {
	id := func(n uint16) string { return fmt.Sprintf("{00000000-0000-4000-8000-00000000%04x}", n) }
	var b strings.Builder
	field := func(name, value string) { fmt.Fprintf(&b, "%-24s%s\n", name, value) }
	head := func(title, id string) {
		fmt.Fprintf(&b, "%s\n%s\n", title, strings.Repeat("-", len(title)))
		field("identifier", id)
	}
	head("Firmware Boot Manager", "{fwbootmgr}")
	name := "displayorder"
	for _, n := range e.Order {
		if _, there := e.All[n]; there {
			field(name, id(n))
			name = ""
		}
	}
	if e.Next != nil {
		field("bootsequence", id(*e.Next))
	}
	field("timeout", "1")
	for n := range 0x10000 {
		one, ok := e.All[uint16(n)]
		if !ok {
			continue
		}
		b.WriteString("\n")
		head("Firmware Application (101fffff)", id(one.Number))
		if one.Path.File != "" {
			field("device", `partition=\Device\HarddiskVolume1`)
			field("path", one.Path.File)
		}
		field("description", one.Description)
	}
	return b.String()
}
