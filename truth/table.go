package truth

import (
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"
	"time"

	"latchkey/core/startup"
)

// WriteTable writes what became of the scenarios as a Markdown page.
func WriteTable(w io.Writer, reports []Report, repairs []Repaired, on time.Time, took time.Duration) error {
	agree, explained := 0, 0
	for _, r := range reports {
		switch {
		case r.Differs == "" && r.Err == nil:
			agree++
		case r.Scenario.Explained != "":
			explained++
		}
	}
	p := &printer{w: w}
	p.line("# Held against real firmware")
	p.line("")
	p.line("`scripts/truth` builds the disks below, computes what a machine does with them (`latchkey check`, judged up to the")
	p.line("hand-over), then starts them in QEMU under Debian's OVMF and AAVMF (edk2) and SeaBIOS in software emulation. The loaders and boot")
	p.line("sectors are marker programs, assembled from `truth/marker`, that tell the serial port which of them was started. This page")
	p.line("is written by that command.")
	p.line("")
	p.line("On %s: **%d of %d agree**, %d differ and are explained, %d differ. It took %s.", on.Format("2 January 2006"), agree, len(reports), explained, len(reports)-agree-explained, took.Round(time.Second))
	byFirmware := map[Firmware][]Report{}
	var layouts []Report
	for _, r := range reports {
		if r.Scenario.isLayout() {
			layouts = append(layouts, r)
			continue
		}
		byFirmware[r.Scenario.Firmware] = append(byFirmware[r.Scenario.Firmware], r)
	}
	for _, f := range firmwares {
		p.section(f, byFirmware[f])
	}
	p.layouts(layouts)
	p.repairs(repairs)
	return p.err
}

// layoutsTitle begins the section on real systems, the one before that on repairs.
const layoutsTitle = "## Real Debians, in other layouts"

func (s *Scenario) isLayout() bool { return strings.HasPrefix(s.Name, layoutName) }

// WithLayouts returns a page of WriteTable's with the section on layouts written anew.
func WithLayouts(page string, reports []Report) (string, error) {
	reports = slices.DeleteFunc(slices.Clone(reports), func(r Report) bool { return !r.Scenario.isLayout() })
	if len(reports) == 0 {
		return page, nil
	}
	before, repairs, _ := strings.Cut(page, repairsTitle)
	before, _, _ = strings.Cut(before, layoutsTitle)
	var b strings.Builder
	b.WriteString(strings.TrimRight(before, "\n") + "\n")
	p := &printer{w: &b}
	p.layouts(reports)
	if repairs != "" {
		b.WriteString("\n" + repairsTitle + repairs)
	}
	return b.String(), p.err
}

// layouts writes what became of the real systems.
func (p *printer) layouts(reports []Report) {
	if len(reports) == 0 {
		return
	}
	agree := 0
	for _, r := range reports {
		if r.Differs == "" && r.Err == nil {
			agree++
		}
	}
	p.line("")
	p.line("%s", layoutsTitle)
	p.line("")
	p.line("Debians with their own kernel and initial RAM disk, made by `scripts/debian layouts`, judged to the end of the start; what")
	p.line("stops must show so on the serial port. **%d of %d agree**.", agree, len(reports))
	sort.SliceStable(reports, func(i, j int) bool { return reports[i].order < reports[j].order })
	p.line("")
	p.line("| firmware | machine | computed | in real firmware | |")
	p.line("|---|---|---|---|---|")
	for _, r := range reports {
		verdict := "agrees"
		if r.Differs != "" || r.Err != nil {
			verdict = "**differs**"
		}
		p.line("| %s | %s | %s | %s | %s |", r.Scenario.Firmware, strings.TrimPrefix(r.Scenario.Name, layoutName), cell(computed(r.Trace)),
			cell(happened(r)), verdict)
	}
}

// repairsTitle begins the section on repairs, the last of the page.
const repairsTitle = "## Repaired in a live Linux"

// WithRepairs returns a page of WriteTable's with the section on repairs written
// anew.
func WithRepairs(page string, repairs []Repaired) (string, error) {
	before, _, _ := strings.Cut(page, repairsTitle)
	var b strings.Builder
	b.WriteString(strings.TrimRight(before, "\n") + "\n")
	p := &printer{w: &b}
	p.repairs(repairs)
	return b.String(), p.err
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
	p.line("%s", repairsTitle)
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
		verdict := "agrees"
		switch {
		case r.Err != nil:
			verdict = "**error**: " + r.Err.Error()
		case r.Differs != "" && r.Scenario.Explained != "":
			verdict = "differs: " + r.Scenario.Explained
		case r.Differs != "":
			verdict = "**differs**"
		}
		p.line("| %s | %s | %s | %s |", r.Scenario.Name, cell(computed(r.Trace)), cell(happened(r)), cell(verdict))
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
