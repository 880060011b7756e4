package truth

import (
	"fmt"
	"io"
	"sort"
	"strings"
	"time"

	"latchkey/core/startup"
)

// WriteTable writes what became of the scenarios as a Markdown page.
func WriteTable(w io.Writer, reports []Report, repairs []Repaired, on time.Time) error {
	verdicts := map[string]int{}
	for _, r := range reports {
		verdicts[r.Verdict()]++
	}
	p := &printer{w: w}
	p.line("# Held against real firmware")
	p.line("")
	p.line("`scripts/truth` builds the disks below, computes what a machine does with them (`latchkey check`, judged up to the")
	p.line("hand-over), then starts them in QEMU under Debian's OVMF and AAVMF (edk2) and SeaBIOS in software emulation. The loaders and boot")
	p.line("sectors are marker programs, assembled from `truth/marker`, that tell the serial port which of them was started. This page")
	p.line("is written by that command. What else was started, at random, from the stick and with the power cut, stands in")
	p.line("[firmware-rounds.md](firmware-rounds.md).")
	p.line("")
	p.line("Computed on %s: **%d of %d agree**, %d are open, %d differ.", on.Format("2 January 2006"), verdicts[Agrees], len(reports),
		verdicts[Open], len(reports)-verdicts[Agrees]-verdicts[Open])
	byFirmware := map[Firmware][]Report{}
	var layouts, comingUp []Report
	for _, r := range reports {
		switch {
		case strings.HasPrefix(r.Scenario.Name, comingUpName):
			comingUp = append(comingUp, r)
		case r.Scenario.isLayout():
			layouts = append(layouts, r)
		default:
			byFirmware[r.Scenario.Firmware] = append(byFirmware[r.Scenario.Firmware], r)
		}
	}
	for _, f := range firmwares {
		p.section(f, byFirmware[f])
	}
	p.systems("Real Debians, in other layouts", layoutName, layouts,
		"Debians with their own kernel and initial RAM disk, made by `scripts/debian layouts` and `scripts/debian dracut`, judged to the end of")
	p.systems("A real Debian comes up by systemd", comingUpName, comingUp,
		"One Debian (`scripts/debian systemd`) of which a line of the mount table, the kernel line or the tree is another, judged to the end of")
	p.repairs(repairs)
	return p.err
}

func (s *Scenario) isLayout() bool { return strings.HasPrefix(s.Name, layoutName) }

// systems writes what became of real systems whose names begin alike.
func (p *printer) systems(title, begin string, reports []Report, made string) {
	if len(reports) == 0 {
		return
	}
	agree, open := 0, 0
	for _, r := range reports {
		switch r.Verdict() {
		case Agrees:
			agree++
		case Open:
			open++
		}
	}
	p.line("")
	p.line("## %s", title)
	p.line("")
	p.line("%s", made)
	p.line("the start; what stops must show so on the serial port. **%d of %d agree**, %d are open.", agree, len(reports), open)
	sort.SliceStable(reports, func(i, j int) bool { return reports[i].order < reports[j].order })
	p.line("")
	p.line("| firmware | machine | computed | in real firmware | |")
	p.line("|---|---|---|---|---|")
	for _, r := range reports {
		p.line("| %s | %s | %s | %s | %s |", r.Scenario.Firmware, cell(strings.TrimPrefix(r.Scenario.Name, begin)), cell(computed(r.Trace)),
			cell(happened(r)), cell(r.Verdict()))
	}
}

// What a row of the table says of a scenario.
const (
	Agrees = "agrees"
	Open   = "open" // of what was computed a part depends on what nobody told
)

// Verdict is Agrees, Open, or what is wrong.
func (r *Report) Verdict() string {
	switch {
	case r.Err != nil:
		return "**error**: " + strings.ReplaceAll(r.Err.Error(), "\n", " ")
	case r.Differs != "" && r.Scenario.isLayout() && r.Trace.Verdict == startup.Depends:
		return Open
	case r.Differs != "":
		return "**differs**"
	}
	return Agrees
}

// repairs writes what became of the machines that were repaired.
func (p *printer) repairs(repairs []Repaired) {
	if len(repairs) == 0 {
		return
	}
	sort.SliceStable(repairs, func(i, j int) bool { return repairs[i].Scenario.Name < repairs[j].Scenario.Name })
	started := 0
	for _, r := range repairs {
		if r.Started {
			started++
		}
	}
	p.line("")
	p.line("## Repaired in a live Linux")
	p.line("")
	p.line("Of the machines above that do not start from the clone, those with a plan for a live Linux alone, and copied Debians whose")
	p.line("own grub-install and update-grub the plan runs: the rendered script was run as it stands in a small Linux (Debian's kernel")
	p.line("and programs) with the drives attached as NVMe, then the machine was started again in the firmware:")
	p.line("**%d of %d start from the clone**.", started, len(repairs))
	p.line("")
	p.line("| firmware | machine | repair | then |")
	p.line("|---|---|---|---|")
	for _, r := range repairs {
		then := happened(Report{Scenario: r.Scenario, Result: r.Result})
		switch {
		case r.Err != nil:
			then = "**error**: " + strings.ReplaceAll(r.Err.Error(), "\n", " ")
		case !r.Started:
			then = "**" + then + "**"
		}
		p.line("| %s | %s | %s | %s |", r.Scenario.Firmware, cell(r.Scenario.Name), Actions(r.Plan), cell(then))
	}
}

type printer struct {
	w   io.Writer
	err error
}

func (p *printer) line(format string, args ...any) {
	if p.err == nil {
		_, p.err = fmt.Fprintf(p.w, format+"\n", args...)
	}
}

func (p *printer) section(f Firmware, reports []Report) {
	if len(reports) == 0 {
		return
	}
	sort.SliceStable(reports, func(i, j int) bool { return reports[i].order < reports[j].order })
	p.line("")
	p.line("## %s", f)
	p.line("")
	p.line("| machine | computed | in real firmware | |")
	p.line("|---|---|---|---|")
	for _, r := range reports {
		p.line("| %s | %s | %s | %s |", r.Scenario.Name, cell(computed(r.Trace)), cell(happened(r)), cell(r.Verdict()))
	}
}

func cell(s string) string { return strings.ReplaceAll(s, "|", `\|`) }

func computed(t startup.Trace) string {
	switch t.Verdict {
	case startup.Stops:
		return "stops at the " + strings.ToLower(t.Stage.Title())
	case startup.Depends:
		return "depends"
	}
	return started(t.Drive, fmt.Sprint(t.Partition), t.Loader, t.Entry)
}

func happened(r Report) string {
	if r.Result.Mark == "" {
		return r.Result.Ended
	}
	if r.Scenario.Whole {
		return strings.ReplaceAll(r.Result.Mark, ":", " ")
	}
	part := strings.SplitN(r.Result.Mark, ":", 3)
	return started(part[0], part[1], part[2], r.Scenario.entryOf(r.Result))
}

func started(drive, partition, loader, entry string) string {
	text := fmt.Sprintf("starts `%s` on drive %s, partition %s", strings.ReplaceAll(loader, "-", " "), drive, partition)
	if entry != "" {
		text += ", entry " + entry
	}
	return text
}
