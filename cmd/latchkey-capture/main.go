// Command latchkey-capture takes captures and nothing else: small enough to be
// carried to the machine that a disk hangs on.
package main

import (
	"fmt"
	"os"

	"latchkey/cmd/capturing"
)

func main() {
	cmd := capturing.Command()
	cmd.Use = "latchkey-capture [DEVICE-OR-IMAGE -o FILE]"
	cmd.SilenceUsage, cmd.SilenceErrors = true, true
	if err := cmd.Execute(); err != nil {
		fmt.Fprintln(os.Stderr, "latchkey-capture:", err)
		os.Exit(2)
	}
}
