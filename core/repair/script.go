package repair

import (
	"fmt"
	"strings"
)

// Script is the steps of a plan that are done with one toolbox, as a file to run
// there: a shell script for a live Linux, a batch file for Windows' recovery
// environment. It stops at the first command that fails; its guards find the
// clone by capacity and identifier. It is empty when the toolbox has no steps.
func Script(p Plan, t Toolbox) string {
	var b strings.Builder
	end := "\n"
	comment := "# "
	if t == WindowsRecovery {
		end, comment = "\r\n", "rem "
	}
	steps := 0
	for i, s := range p.Steps {
		if s.Toolbox != t {
			continue
		}
		steps++
		fmt.Fprintf(&b, "%s%sStep %d: %s%s%sRisk: %s. Undo: %s%s", end, comment, i+1, s.Title, end, comment, s.Risk, s.Undo, end)
		for _, c := range s.Commands {
			b.WriteString(c.Text + end)
			if t == WindowsRecovery {
				b.WriteString("if errorlevel 1 exit /b 1" + end)
			}
		}
	}
	switch {
	case steps == 0:
		return ""
	case t == WindowsRecovery:
		return "@echo on" + end + b.String()
	}
	return "#!/bin/sh\n# Run as root, in a live Linux.\nset -eux\n" + b.String()
}
