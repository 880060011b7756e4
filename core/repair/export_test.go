package repair

// FindClone is for the tests: the command that finds the clone.
var FindClone = findClone

// Twins is for the tests: whether the commands for a drive may take another one for it.
var Twins = twins
