package repair

// FindClone is for the tests: the command that finds the clone.
var FindClone = findClone
