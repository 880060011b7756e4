package screen

import (
	"fmt"
	"strings"

	"github.com/gdamore/tcell/v2"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// pinOf is the form and colour of a stage: a pin at the line, a hanging one, a turned one, a
// hollow one; what lies behind is a dot.
func pinOf(s course.State) (string, tcell.Style) {
	switch s {
	case course.Passes:
		return "┴", green
	case course.Blocks:
		return "┬", rust
	case course.Wrong:
		return "┼", rust
	case course.Behind:
		return "·", quiet
	}
	return "o", brass
}

// pinWidth is the room of a stage on the line.
const pinWidth = 9

// pins draws the eight stages of a drive on one line, and what stands at the first that is
// not passed.
func (p *page) pins(who string, pins []startup.Pin) {
	var rail strings.Builder
	style := green
	told := ""
	for i, pin := range pins {
		form, its := pinOf(pin.State)
		rail.WriteString(strings.Repeat("─", pinWidth/2) + form + strings.Repeat("─", pinWidth-1-pinWidth/2))
		if told == "" && pin.State != course.Passes && pin.State != course.Behind {
			told, style = fmt.Sprintf("%d %s: %s", i+1, pin.Stage.Title(), pin.Text), its
		}
	}
	p.say(plain, fmt.Sprintf(" %-5s %s", who, rail.String()))
	if told != "" {
		p.say(style, told)
	}
}

// stageNames stands over the pins.
func (p *page) stageNames() {
	var names strings.Builder
	for i, s := range course.Stages {
		name, _, _ := strings.Cut(s.Title(), " ")
		fmt.Fprintf(&names, "%-*s", pinWidth, fmt.Sprint(i+1)+" "+name[:min(len(name), pinWidth-3)])
	}
	p.say(quiet, "       "+names.String())
}

// barWidth is how long a disk is drawn.
const barWidth = 64

// fills draw a partition by its role in starting.
var fills = map[disk.Role]string{
	disk.RoleBoot:     "/",
	disk.RoleSystem:   "#",
	disk.RoleReserved: ":",
	disk.RoleRecovery: "\\",
	disk.RoleData:     " ",
	disk.RoleOther:    " ",
}

// strata draws a disk's partitions in their order: each at least three characters wide, else by
// its size.
func (p *page) strata(who string, d *machine.Drive) {
	if d == nil || d.Contents == nil {
		return
	}
	l := &d.Contents.Layout
	total := float64(max(1, l.Sectors))
	bar, names := "", ""
	for _, part := range l.Partitions {
		width := max(3, int(float64(part.Length)/total*barWidth))
		width = min(width, max(3, barWidth-len([]rune(bar))))
		fill := fills[part.Type.Role]
		if fill == "" {
			fill = "?"
		}
		bar += "│" + strings.Repeat(fill, width-1)
		names += fmt.Sprintf("%-*s", width, fmt.Sprint(part.Number))
	}
	p.say(plain, fmt.Sprintf(" %-5s %s│ %s", who, bar, l.Style))
	if names != "" {
		p.say(quiet, "        "+names)
	}
}
