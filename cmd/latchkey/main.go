// Command latchkey tells whether a cloned system disk will start in a machine.
package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"latchkey/cmd/capturing"
)

// Exit codes of the command line.
const (
	exitStarts  = 0
	exitNot     = 1 // does not start from the clone
	exitBad     = 2 // bad input, or the command failed
	exitDepends = 3
)

// exitWith carries an exit code that is not a failure.
type exitWith int

func (e exitWith) Error() string { return fmt.Sprintf("exit %d", int(e)) }

func rootCommand() *cobra.Command {
	root := &cobra.Command{
		Use: "latchkey", Short: "Will the clone of a system disk start in that machine?",
		SilenceUsage: true, SilenceErrors: true,
	}
	root.AddCommand(serveCommand(), demoCommand(), checkCommand(), planCommand(), tablesCommand(), capturing.Command(),
		migrateCommand(), openAPICommand())
	return root
}

func main() {
	err := rootCommand().Execute()
	var code exitWith
	switch {
	case err == nil:
	case errors.As(err, &code):
		os.Exit(int(code))
	default:
		fmt.Fprintln(os.Stderr, "latchkey:", visible(err.Error()))
		os.Exit(exitBad)
	}
}
