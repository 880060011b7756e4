package main

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"latchkey/capture"
	"latchkey/core/course"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// report is what `check --json` prints. The keys and words are a contract; see
// docs/formats.md.
type report struct {
	Verdict   startup.Verdict `json:"verdict"`
	Drive     string          `json:"drive,omitempty"`
	Partition int             `json:"partition,omitempty"`
	Loader    string          `json:"loader,omitempty"`
	Entry     string          `json:"entry,omitempty"`
	Stage     course.Stage    `json:"stage,omitempty"`
	Symptom   string          `json:"symptom,omitempty"`
	Findings  []reportFinding `json:"findings"`
	Missing   []string        `json:"missing"`
}

type reportFinding struct {
	Stage    course.Stage `json:"stage"`
	Severity string       `json:"severity"`
	Text     string       `json:"text"`
	Facts    []string     `json:"facts"`
}

func checkCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "check MACHINE.json...", Short: "Judge the start of described machines",
		Long: "Judge the start of a described machine. Exit 0: starts; 1: does not start from the clone; 3: depends; 2: bad input.\n" +
			"Of several machines each has a line, and the exit is the gravest: bad input, then not from the clone, then depends.",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return checkMany(cmd.OutOrStdout(), args, asJSON)
			}
			m, err := capture.Load(args[0])
			if err != nil {
				return err
			}
			trace := startup.Simulate(m)
			if asJSON {
				err = printJSON(cmd.OutOrStdout(), trace)
			} else {
				err = printText(cmd.OutOrStdout(), trace)
			}
			if err != nil {
				return err
			}
			return exitFor(trace.Verdict)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the result as JSON")
	return cmd
}

func exitFor(v startup.Verdict) error {
	switch v {
	case startup.Starts:
		return nil
	case startup.Depends:
		return exitWith(exitDepends)
	}
	return exitWith(exitNot)
}

func printJSON(w io.Writer, t startup.Trace) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(reportOf(t))
}

func reportOf(t startup.Trace) report {
	r := report{
		Verdict: t.Verdict, Drive: t.Drive, Partition: t.Partition, Loader: t.Loader, Entry: t.Entry,
		Stage: t.Stage, Symptom: t.Symptom, Findings: []reportFinding{}, Missing: []string{},
	}
	for _, f := range t.Findings {
		out := reportFinding{Stage: f.Stage, Severity: f.Severity, Text: f.Text, Facts: []string{}}
		for _, fact := range f.Facts {
			out.Facts = append(out.Facts, factText(fact))
		}
		r.Findings = append(r.Findings, out)
	}
	for _, q := range t.Missing {
		r.Missing = append(r.Missing, q.Text)
	}
	return r
}

func factText(f machine.Fact) string {
	text := f.Label + ": " + f.Value
	if f.Source.Length > 0 {
		text += fmt.Sprintf(" (drive %s, byte %d)", f.Source.Drive, f.Source.Offset)
	}
	return text
}

func printText(w io.Writer, t startup.Trace) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n%s\n\n", t.Headline, t.Reason)
	for i, a := range t.Attempts {
		fmt.Fprintf(&b, "%d. drive %s (%s)%s\n", i+1, a.Drive, a.Role, entryText(a))
		for _, s := range a.Steps {
			fmt.Fprintf(&b, "   %-9s %-14s %s\n", s.State, s.Stage, s.Text)
			for _, r := range s.Risks {
				fmt.Fprintf(&b, "   %-9s %-14s %s\n", "risk", "", r.Text)
			}
		}
	}
	for _, q := range t.Missing {
		fmt.Fprintf(&b, "\nWould settle it: %s\n   %s\n", q.Text, q.How)
	}
	_, err := io.WriteString(w, visible(b.String()))
	return err
}

func entryText(a course.Attempt) string {
	if a.Entry == "" {
		return ""
	}
	return " by entry " + a.Entry
}
