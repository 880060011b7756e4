// Package fact holds values that may be unknown, together with where they came
// from. An unknown value is never read as false or zero: it is carried through
// to the verdict.
package fact

// Origin ranks evidence: bytes outrank text, text outranks typing.
type Origin string

// The origins a fact can have.
const (
	Bytes    Origin = "bytes"    // read from the disk itself
	Text     Origin = "text"     // read from a command's output
	Typed    Origin = "typed"    // entered by a person
	Assumed  Origin = "assumed"  // set by a named firmware behaviour
	Computed Origin = "computed" // follows from other facts
)

// Source says where a fact was read.
type Source struct {
	Origin    Origin `json:"origin"`              // what kind of evidence the fact came from
	Drive     string `json:"drive,omitempty"`     // name of the drive the bytes were read from
	Structure string `json:"structure,omitempty"` // the structure, in the standard's words
	Field     string `json:"field,omitempty"`     // the field within the structure
	Offset    int64  `json:"offset"`              // byte offset from the start of the disk
	Length    int64  `json:"length"`              // length in bytes; 0 when the fact has no bytes of its own
	Evidence  uint64 `json:"evidence,omitempty"`  // the listing that the fact was read in
	Line      int    `json:"line,omitempty"`      // the line of the listing, from 1
}

// Of is a value of type T that may be unknown.
type Of[T any] struct {
	value  T
	known  bool
	source Source
}

// Known returns a fact with a value and its source.
func Known[T any](v T, s Source) Of[T] { return Of[T]{value: v, known: true, source: s} }

// Unknown returns a fact without a value.
func Unknown[T any]() Of[T] { return Of[T]{} }

// Tell returns a fact typed by a person.
func Tell[T any](v T) Of[T] { return Known(v, Source{Origin: Typed}) }

// Maybe returns a typed fact for a pointer, unknown when it is nil.
func Maybe[T any](p *T) Of[T] {
	if p == nil {
		return Unknown[T]()
	}
	return Tell(*p)
}

// Get returns the value and whether it is known.
func (f Of[T]) Get() (T, bool) { return f.value, f.known }

// Source returns where the value came from; the zero Source when unknown.
func (f Of[T]) Source() Source { return f.source }
