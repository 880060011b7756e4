package repair

import (
	"fmt"
	"strings"
)

// Script is the steps of a plan that are done with one toolbox, as a file to run
// there: a shell script, or a batch file for Windows. It stops at the first
// command that fails; its guards find the clone by capacity and identifier. What
// is to be done by hand it says. It is empty when the toolbox has no line to type.
func Script(p Plan, t Toolbox) (text string, shell Shell) {
	for _, s := range p.Steps {
		if s.Toolbox == t && s.Shell != "" {
			shell = s.Shell
		}
	}
	var b strings.Builder
	form := scriptForms[shell]
	b.WriteString(form.begin)
	for i, s := range p.Steps {
		if s.Toolbox != t {
			continue
		}
		fmt.Fprintf(&b, "%s%sStep %d: %s%s%sRisk: %s. Save first: %s Undo: %s%s", form.end, form.comment, i+1, s.Title, form.end, form.comment, s.Risk, s.Save, s.Undo, form.end)
		for _, c := range s.Commands {
			if c.ByHand {
				b.WriteString(form.say(c.Text) + form.end)
			} else {
				b.WriteString(c.Text + form.end + form.stop)
			}
		}
	}
	if shell == "" {
		return "", ""
	}
	b.WriteString(form.routines)
	return b.String(), shell
}

// scriptForm is how a shell's scripts are written.
type scriptForm struct {
	begin, end, comment string
	stop                string // after each command
	routines            string // at the end
	say                 func(string) string
}

var scriptForms = map[Shell]scriptForm{
	POSIX: {begin: "#!/bin/sh\n# Run as root, in a live Linux, from a stick: what is saved lies beside this file.\nset -eux\ncd \"$(dirname \"$0\")\"\n",
		end: "\n", comment: "# ", say: func(s string) string { return "echo 'BY HAND: " + strings.ReplaceAll(s, "'", `'\''`) + "'" }},
	Batch: {begin: "@echo on\r\nrem Lay the capture command beside this file, on a stick: what is saved lies there too.\r\ncd /d \"%~dp0\"\r\n",
		end: "\r\n", comment: "rem ", routines: recoveryRoutines, stop: "if errorlevel 1 exit /b 1\r\n",
		say: func(s string) string { return "echo BY HAND: " + batchQuote.Replace(s) + "\r\npause" }},
}

// batchQuote keeps a batch file from reading signs of a sentence as its own.
var batchQuote = strings.NewReplacer("^", "^^", "&", "^&", "<", "^<", ">", "^>", "|", "^|", "(", "^(", ")", "^)", "%", "%%")
