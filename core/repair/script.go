package repair

import (
	"fmt"
	"strings"

	"latchkey/core/command"
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
	if shell == "" {
		return "", ""
	}
	var b strings.Builder
	form := scriptForms[shell]
	end := form.end
	b.WriteString(form.begin)
	for i, s := range p.Steps {
		if s.Toolbox != t {
			continue
		}
		for _, remark := range []string{fmt.Sprintf("Step %d: %s", i+1, s.Title), fmt.Sprintf("Risk: %s. Save first: %s Undo: %s", s.Risk, s.Save, s.Undo)} {
			b.WriteString(end + command.Comment(remark, shell == Batch))
		}
		b.WriteString(end)
		for _, c := range s.Commands {
			b.WriteString(form.command(c))
		}
	}
	b.WriteString(form.routines)
	return b.String(), shell
}

// inScript is the command for a script that stops at the first failure: the shell
// by itself goes on when what stands before the last of several failed.
func (c *Command) inScript() string {
	if c.node != nil && command.GoesOn(c.node) {
		return c.Text + " || exit 1"
	}
	return c.Text
}

// scriptForm is how a shell's scripts are written.
type scriptForm struct {
	begin, end string
	stop       string // after each command
	routines   string // at the end
	say        func(string) string
}

// command is a command in the file; what is to be done by hand is said.
func (f *scriptForm) command(c Command) string {
	if c.ByHand {
		return f.say("BY HAND: "+c.Text) + f.end
	}
	return c.inScript() + f.end + f.stop
}

var scriptForms = map[Shell]scriptForm{
	POSIX: {begin: "#!/bin/sh\n# Run as root, in a live Linux, from a stick: what is saved lies beside this file.\nset -eux\ncd \"$(dirname \"$0\")\"\n",
		end: "\n", say: func(s string) string { return line(command.Run("echo", command.Clean(s)), "", "").Text }},
	Batch: {begin: "@echo on\r\nrem Lay the capture command beside this file, on a stick: what is saved lies there too.\r\ncd /d \"%~dp0\"\r\n",
		end: "\r\n", routines: recoveryRoutines, stop: "if errorlevel 1 exit /b 1\r\n",
		say: func(s string) string { return batch("", "", command.Say(s)).Text + "\r\npause" }},
}
