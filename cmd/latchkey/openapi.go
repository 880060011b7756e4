package main

import (
	"encoding/json"
	"fmt"
	"io"

	"github.com/gin-gonic/gin"
	"github.com/spf13/cobra"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/repair"
	"latchkey/server/api"
)

// openAPICommand prints the description that the web client's types are made of, or
// the words that the rules and the screens share.
func openAPICommand() *cobra.Command {
	var words bool
	cmd := &cobra.Command{Use: "openapi", Short: "Print the description of the HTTP interface", Args: cobra.NoArgs, Hidden: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if words {
				return printWords(cmd.OutOrStdout())
			}
			gin.SetMode(gin.ReleaseMode)
			enc := json.NewEncoder(cmd.OutOrStdout())
			enc.SetIndent("", " ")
			return enc.Encode(api.Description())
		}}
	cmd.Flags().BoolVar(&words, "words", false, "print the words of the rules as a TypeScript module")
	return cmd
}

// printWords writes what the rules call their stages, risks and choices.
func printWords(w io.Writer) error {
	stages := [][2]string{}
	for _, s := range course.Stages {
		stages = append(stages, [2]string{string(s), s.Title()})
	}
	risks := map[repair.Risk]string{}
	for _, r := range repair.Risks {
		risks[r] = r.Words()
	}
	choices := []map[string]string{}
	for _, c := range firmware.Choices {
		choices = append(choices, map[string]string{"key": c.Key, "label": c.Label, "how": c.How})
	}
	if _, err := fmt.Fprintln(w, "// Made by make openapi of the tables of the rules: do not edit."); err != nil {
		return err
	}
	for _, table := range []struct {
		name, doc string
		value     any
	}{
		{"stages", "The stages of a start, in order, with their names.", stages},
		{"riskWord", "What a risk means.", risks},
		{"choices", "What the standards leave to a firmware, in the order of a form.", choices},
	} {
		raw, err := json.MarshalIndent(table.value, "", "  ")
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "\n/** %s */\nexport const %s = %s as const;\n", table.doc, table.name, raw); err != nil {
			return err
		}
	}
	return nil
}
