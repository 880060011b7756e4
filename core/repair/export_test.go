package repair

import "latchkey/core/command"

// FindClone is for the tests: the command that finds the clone.
var FindClone = findClone

// Twins is for the tests: whether the commands for a drive may take another one for it.
var Twins = twins

// InFolder is what tests whether a path leads to a place in a folder, as a shell has it.
func InFolder(folder, path string) string {
	text, err := command.POSIX(inFolder(folder, path))
	if err != nil {
		panic(err)
	}
	return text
}
