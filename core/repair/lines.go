package repair

import (
	"errors"
	"fmt"
	"slices"

	"latchkey/core/command"
)

// line is a line of the POSIX shell with what to look for.
func line(n command.Node, good, bad string) Command {
	text, err := command.POSIX(n)
	if err != nil {
		return byAnotherWay(err)
	}
	return Command{Text: text, Good: good, Bad: bad, node: n}
}

// batch are lines of a batch file with what to look for.
func batch(good, bad string, lines ...command.Line) Command {
	text, err := command.Batch(lines...)
	if err != nil {
		return byAnotherWay(err)
	}
	return Command{Text: text, Good: good, Bad: bad}
}

// byAnotherWay is told where a value cannot be carried by a line.
func byAnotherWay(err error) Command {
	name := ""
	if unfit := new(command.Unfit); errors.As(err, &unfit) {
		name = command.Clean(unfit.Value)
	}
	return Command{ByHand: true, unfit: true, Text: fmt.Sprintf("Here a line would have to name %q, which has signs that a line to type cannot carry safely. Take the live Linux for this step; its commands carry every name but one with a zero in it. Without it do by hand what the step's title says, and give the folder or file by its short name: dir /x shows it.", name),
		Good: "What the title says is done.", Bad: "Mark the step as failed: another way is then looked for."}
}

// carried reports whether every line of a form can be typed.
func (f *Form) carried() bool {
	return !slices.ContainsFunc(f.Commands, func(c Command) bool { return c.unfit })
}
