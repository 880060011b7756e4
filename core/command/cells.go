package command

import "strings"

// Cells are a row of comma-separated values whose cells a spreadsheet does not take for
// formulas: an apostrophe before one says that it is text. OWASP, "CSV Injection".
func Cells(cells ...string) []string {
	for i, c := range cells {
		if c != "" && strings.ContainsRune("=+-@\t\r\n", rune(c[0])) {
			cells[i] = "'" + c
		}
	}
	return cells
}
