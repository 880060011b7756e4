package disk

import (
	"fmt"

	"latchkey/core/fact"
)

// Problem is something wrong, or worth saying, about what was found on a disk.
type Problem struct {
	Code   string      `json:"code"` // stable identifier of the kind of problem
	Text   string      `json:"text"`
	Want   string      `json:"want,omitempty"` // what was expected there
	Got    string      `json:"got,omitempty"`  // what was found there
	Source fact.Source `json:"source"`
}

// at builds a byte source within a disk.
func at(structure, field string, offset, length int64) fact.Source {
	return fact.Source{Origin: fact.Bytes, Structure: structure, Field: field, Offset: offset, Length: length}
}

func problem(code string, src fact.Source, format string, args ...any) Problem {
	return Problem{Code: code, Text: fmt.Sprintf(format, args...), Source: src}
}

func (p Problem) wanted(want, got any) Problem {
	p.Want, p.Got = fmt.Sprint(want), fmt.Sprint(got)
	return p
}
