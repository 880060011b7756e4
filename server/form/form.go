// Package form takes in forms with files (multipart/form-data, RFC 7578): the files
// come in over the disk, so that a large one takes no memory.
package form

import (
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"path/filepath"
	"strconv"

	"latchkey/capture"
	"latchkey/core/command"
)

// Bounds of a form; files besides have MaxFile.
const (
	maxParts = 16
	maxField = 64 << 10 // bytes
	// MaxFile is how large a file may be, in bytes.
	MaxFile = 64 << 20
)

// Form is what came in.
type Form struct {
	Files  map[string]*File
	Fields map[string]string
}

// File is a file that came in.
type File struct {
	*capture.Spool
	Name string // without its folders, on one line
}

// Error says what is wrong with a form, in whole sentences.
type Error struct {
	Text  string
	Large bool // a file is larger than MaxFile
}

func (e *Error) Error() string { return e.Text }

func wrong(format string, args ...any) error { return &Error{Text: fmt.Sprintf(format, args...)} }

// Read takes a form in. An error is of *Error where the form is wrong, else of the
// stream that it came by; nothing is kept then.
func Read(reader *multipart.Reader) (*Form, error) {
	f := &Form{Files: map[string]*File{}, Fields: map[string]string{}}
	for n := 0; ; n++ {
		part, err := reader.NextPart()
		if errors.Is(err, io.EOF) {
			return f, nil
		}
		switch {
		case err == nil && n >= maxParts:
			err = wrong("The form has more than %d parts.", maxParts)
		case err == nil:
			err = f.take(part)
		}
		if err != nil {
			f.Close()
			return nil, err
		}
	}
}

func (f *Form) take(part *multipart.Part) error {
	name := part.FormName()
	if part.FileName() == "" {
		raw, err := io.ReadAll(io.LimitReader(part, maxField+1))
		if len(raw) > maxField {
			return wrong("%q has more than %d bytes.", name, maxField)
		}
		f.Fields[name] = string(raw)
		return err
	}
	kept, err := capture.NewSpool(part, MaxFile)
	if large := new(capture.TooLarge); errors.As(err, &large) {
		return &Error{Large: true, Text: fmt.Sprintf("%q is larger than 64 MiB. The first MiB of the disk and its last MiB are enough for most checks.", part.FileName())}
	}
	if err != nil {
		return err
	}
	if old := f.Files[name]; old != nil {
		old.Close()
	}
	f.Files[name] = &File{kept, command.Clean(filepath.Base(part.FileName()))}
	return nil
}

// Close lets go of the files.
func (f *Form) Close() {
	for _, file := range f.Files {
		file.Close()
	}
}

// File returns a file that must be there.
func (f *Form) File(name string) (*File, error) {
	if file := f.Files[name]; file != nil {
		return file, nil
	}
	return nil, wrong("%s: expected a file.", name)
}

// Number returns a field as a number of bytes; 0 when it is absent.
func (f *Form) Number(name string) (int64, error) {
	if f.Fields[name] == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(f.Fields[name], 10, 64)
	if err != nil || n < 0 {
		return 0, wrong("%s is %q: expected a number of bytes.", name, f.Fields[name])
	}
	return n, nil
}
