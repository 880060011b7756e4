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
	Reason       string          `json:"reason"`
}

type planStep struct {
	Action   string         `json:"action"`
	Title    string         `json:"title"`
	Toolbox  repair.Toolbox `json:"toolbox"`
	Disk     string         `json:"disk,omitempty"`
	Risk     repair.Risk    `json:"risk"`
	Commands []string       `json:"commands"`
	Undo     string         `json:"undo"`
}

func planCommand() *cobra.Command {
	var asJSON bool
	var boxes []string
	cmd := &cobra.Command{
		Use: "plan MACHINE.json", Short: "Plan the least risky repair of a described machine",
		Long: "Plan the least risky repair of a described machine. Exit 0: there is a plan, or nothing to repair; 1: there is none; 2: bad input.",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			allowed, err := toolboxes(boxes)
			if err != nil {
				return err
			}
			loaded, err := capture.Load(args[0])
			if err != nil {
				return err
			}
			defer loaded.Close()
			plan := repair.Find(loaded.Machine, allowed...)
			if asJSON {
				enc := json.NewEncoder(cmd.OutOrStdout())
				enc.SetIndent("", "  ")
				enc.SetEscapeHTML(false)
				err = enc.Encode(planOf(plan))
			} else {
				err = printPlan(cmd.OutOrStdout(), plan)
			}
			if err == nil && plan.Verdict != startup.Starts {
				return exitWith(exitNot)
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the plan as JSON")
	cmd.Flags().StringSliceVar(&boxes, "toolbox", nil, "only these toolboxes: firmware, windows-recovery, linux, mac-recovery, old-drive")
	return cmd
}

func toolboxes(names []string) ([]repair.Toolbox, error) {
	var allowed []repair.Toolbox
	for _, name := range names {
		if !slices.Contains(repair.Toolboxes, repair.Toolbox(name)) {
			return nil, fmt.Errorf("--toolbox %q: expected one of %q", name, repair.Toolboxes)
		}
		allowed = append(allowed, repair.Toolbox(name))
	}
	return allowed, nil
}

func planOf(p repair.Plan) planReport {
	r := planReport{Verdict: p.Verdict, Steps: []planStep{}, Reason: p.Reason}
	for _, s := range p.Steps {
		step := planStep{s.Action, s.Title, s.Toolbox, s.Disk, s.Risk, []string{}, s.Undo}
		for _, c := range s.Commands {
			step.Commands = append(step.Commands, c.Text)
		}
		r.Steps = append(r.Steps, step)
	}
	for _, a := range p.Alternatives {
		r.Alternatives = append(r.Alternatives, planOf(a))
	}
	return r
}

func printPlan(w io.Writer, p repair.Plan) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n", p.Reason)
	for i, s := range p.Steps {
		fmt.Fprintf(&b, "\n%d. %s\n   with %s, risk %s, about %d minutes\n   %s\n", i+1, s.Title, s.Toolbox, s.Risk, s.Minutes, s.Why)
		for _, c := range s.Commands {
			fmt.Fprintf(&b, "\n      %s\n", strings.ReplaceAll(c.Text, "\n", "\n      "))
			if c.Good != "" {
				fmt.Fprintf(&b, "      -> %s\n", c.Good)
			}
		}
		fmt.Fprintf(&b, "   Undo: %s\n   Then: %s\n", s.Undo, s.After.Headline)
	}
	for _, a := range p.Alternatives {
		fmt.Fprintf(&b, "\nOr otherwise: %s\n", a.Reason)
		for i, s := range a.Steps {
			fmt.Fprintf(&b, "   %d. %s (%s, risk %s)\n", i+1, s.Title, s.Toolbox, s.Risk)
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}
