package main

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"latchkey/capture"
	"latchkey/core/repair"
	"latchkey/core/startup"
)

// planReport is what `plan --json` prints. The keys and words are a contract; see
// docs/formats.md.
type planReport struct {
	Verdict      startup.Verdict `json:"verdict"`
	Steps        []planStep      `json:"steps"`
	Alternatives []planReport    `json:"alternatives,omitempty"`
	Afterwards   []planStep      `json:"afterwards,omitempty"` // worth doing once the clone starts
	Reason       string          `json:"reason"`
}

type planStep struct {
	Action   string         `json:"action"`
	Title    string         `json:"title"`
	Toolbox  repair.Toolbox `json:"toolbox"`
	Disk     string         `json:"disk,omitempty"`
	Risk     repair.Risk    `json:"risk"`
	Commands []string       `json:"commands"`
	ByHand   []string       `json:"byHand,omitempty"` // what is to be done beside the lines
	Save     string         `json:"save"`
	Undo     string         `json:"undo"`
}

func planCommand() *cobra.Command {
	var asJSON bool
	var boxes []string
	var scriptFor string
	cmd := &cobra.Command{
		Use: "plan MACHINE.json", Short: "Plan the least risky repair of a described machine",
		Long: "Plan the least risky repair of a described machine. Exit 0: there is a plan, or nothing to repair; 1: there is none; 2: bad input.",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			allowed, err := toolboxes(boxes)
			if err != nil {
				return err
			}
			m, err := capture.Load(args[0])
			if err != nil {
				return err
			}
			plan := repair.Find(m, allowed...)
			switch {
			case scriptFor != "":
				err = printScript(cmd.OutOrStdout(), plan, scriptFor)
			case asJSON:
				enc := json.NewEncoder(cmd.OutOrStdout())
				enc.SetIndent("", "  ")
				enc.SetEscapeHTML(false)
				err = enc.Encode(planOf(plan))
			default:
				err = printPlan(cmd.OutOrStdout(), plan)
			}
			if err == nil && plan.Verdict != startup.Starts {
				return exitWith(exitNot)
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the plan as JSON")
	cmd.Flags().StringVar(&scriptFor, "script", "", "print the steps of this toolbox as a script")
	cmd.Flags().StringSliceVar(&boxes, "toolbox", nil, "only these toolboxes: firmware, windows-recovery, linux, mac-recovery, old-drive")
	return cmd
}

func printScript(w io.Writer, p repair.Plan, box string) error {
	if _, err := toolboxes([]string{box}); err != nil {
		return err
	}
	text, shell := repair.Script(p, repair.Toolbox(box))
	if shell == "" {
		return fmt.Errorf("--script %s: the plan has no line to type for this toolbox. %s", box, p.Reason)
	}
	_, err := io.WriteString(w, text)
	return err
}

func toolboxes(names []string) ([]repair.Toolbox, error) {
	var allowed []repair.Toolbox
	for _, name := range names {
		if !slices.Contains(repair.Toolboxes, repair.Toolbox(name)) {
			return nil, fmt.Errorf("toolbox %q: expected one of %q", name, repair.Toolboxes)
		}
		allowed = append(allowed, repair.Toolbox(name))
	}
	return allowed, nil
}

func planOf(p repair.Plan) planReport {
	r := planReport{Verdict: p.Verdict, Steps: []planStep{}, Reason: p.Reason}
	for _, s := range p.Steps {
		r.Steps = append(r.Steps, stepOf(s))
	}
	for _, s := range p.Afterwards {
		r.Afterwards = append(r.Afterwards, stepOf(s))
	}
	for _, a := range p.Alternatives {
		r.Alternatives = append(r.Alternatives, planOf(a))
	}
	return r
}

func stepOf(s repair.PlanStep) planStep {
	step := planStep{Action: s.Action, Title: s.Title, Toolbox: s.Toolbox, Disk: s.Disk, Risk: s.Risk,
		Commands: []string{}, Save: s.Save, Undo: s.Undo}
	for _, c := range s.Commands {
		if c.ByHand && s.Shell != "" {
			step.ByHand = append(step.ByHand, c.Text)
		} else {
			step.Commands = append(step.Commands, c.Text)
		}
	}
	return step
}

// line is what a person types: a batch file's lines have a form of their own for
// that.
func line(shell repair.Shell, c repair.Command) string {
	if shell == repair.Batch && c.Typed != "" {
		return c.Typed
	}
	return c.Text
}

func printPlan(w io.Writer, p repair.Plan) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n", p.Reason)
	for i, s := range p.Steps {
		fmt.Fprintf(&b, "\n%d. %s\n   with %s, risk %s, about %d minutes\n   %s\n", i+1, s.Title, s.Toolbox, s.Risk, s.Minutes, s.Why)
		for _, c := range s.Commands {
			fmt.Fprintf(&b, "\n      %s\n      -> %s Otherwise: %s\n", strings.ReplaceAll(line(s.Shell, c), "\n", "\n      "), c.Good, c.Bad)
		}
		fmt.Fprintf(&b, "   Save first: %s\n   Undo: %s\n   Then: %s\n", s.Save, s.Undo, s.After.Headline)
	}
	for _, a := range p.Alternatives {
		fmt.Fprintf(&b, "\nOr otherwise: %s\n", a.Reason)
		for i, s := range a.Steps {
			fmt.Fprintf(&b, "   %d. %s (%s, risk %s)\n", i+1, s.Title, s.Toolbox, s.Risk)
		}
	}
	if len(p.Afterwards) > 0 {
		b.WriteString("\nWorth doing once it starts:\n")
	}
	for _, s := range p.Afterwards {
		fmt.Fprintf(&b, "   %s (%s)\n   %s\n", s.Title, s.Toolbox, s.Why)
		for _, c := range s.Commands {
			fmt.Fprintf(&b, "      %s\n", strings.ReplaceAll(line(s.Shell, c), "\n", "\n      "))
		}
	}
	_, err := io.WriteString(w, visible(b.String()))
	return err
}
