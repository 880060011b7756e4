package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"path/filepath"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"latchkey/capture"
)

// Bounds of a request with files, besides those of the files themselves.
const (
	maxParts = 16
	maxField = 64 << 10
)

// upload is a request with files: they come in over the disk, so that a large one takes
// no memory.
type upload struct {
	files  map[string]*file
	fields map[string]string
}

// file is a file that came in.
type file struct {
	*capture.Spool
	name string
}

// Resolve implements huma.Resolver: it takes the request in.
func (u *upload) Resolve(ctx huma.Context) []error {
	u.files, u.fields = map[string]*file{}, map[string]string{}
	reader, err := humagin.Unwrap(ctx).Request.MultipartReader()
	if err != nil {
		return []error{huma.Error422UnprocessableEntity("Expected a form with files (multipart/form-data).")}
	}
	if err := u.read(reader); err != nil {
		u.close()
		return []error{err}
	}
	return nil
}

func (u *upload) read(reader *multipart.Reader) error {
	for n := 0; ; n++ {
		part, err := reader.NextPart()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return broken(err)
		}
		if n >= maxParts {
			return huma.Error422UnprocessableEntity(fmt.Sprintf("The form has more than %d parts.", maxParts))
		}
		name := part.FormName()
		if part.FileName() == "" {
			raw, err := io.ReadAll(io.LimitReader(part, maxField+1))
			if err != nil {
				return broken(err)
			}
			if len(raw) > maxField {
				return huma.Error422UnprocessableEntity(fmt.Sprintf("%s has more than %d bytes.", clean(name), maxField))
			}
			u.fields[name] = string(raw)
			continue
		}
		kept, err := capture.NewSpool(part, maxUpload)
		if large := new(capture.TooLarge); errors.As(err, &large) {
			return huma.Error413RequestEntityTooLarge(fmt.Sprintf("%s is larger than 64 MiB. The first MiB of the disk and its last MiB are enough for most checks.", clean(part.FileName())))
		}
		if err != nil {
			return broken(err)
		}
		if old := u.files[name]; old != nil {
			old.Close()
		}
		u.files[name] = &file{kept, clean(filepath.Base(part.FileName()))}
	}
}

// broken is the answer to a form that does not come in whole.
func broken(err error) error {
	if large := new(http.MaxBytesError); errors.As(err, &large) {
		return huma.Error413RequestEntityTooLarge(fmt.Sprintf("The request has more than %d bytes.", large.Limit))
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, multipart.ErrMessageTooLarge) {
		return huma.Error422UnprocessableEntity("The form breaks off before its end.")
	}
	return huma.Error422UnprocessableEntity("The form did not come in whole.")
}

// close lets go of the files.
func (u *upload) close() {
	for _, f := range u.files {
		f.Close()
	}
}

// file returns a file that must be there.
func (u *upload) file(name string) (*file, error) {
	if f := u.files[name]; f != nil {
		return f, nil
	}
	return nil, huma.Error422UnprocessableEntity(name + ": expected a file.")
}

// number returns a field as a number; 0 when it is absent.
func (u *upload) number(name string) (int64, error) {
	if u.fields[name] == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(u.fields[name], 10, 64)
	if err != nil || n < 0 {
		return 0, huma.Error422UnprocessableEntity(fmt.Sprintf("%s is %q: expected a number of bytes.", name, clean(u.fields[name])))
	}
	return n, nil
}

// registerForm registers an operation that takes a form with files; its fields are
// described by their schemas. The framework would read the whole form into memory: what
// takes it in is upload.
func registerForm[I, O any](api huma.API, op huma.Operation, fields map[string]*huma.Schema, handler func(context.Context, *I) (*O, error)) {
	op.MaxBodyBytes = maxBody
	huma.Register(api, op, handler)
	api.OpenAPI().Paths[op.Path].Post.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		"multipart/form-data": {Schema: &huma.Schema{Type: huma.TypeObject, Properties: fields, Required: []string{"file"}}}}}
}

func fileField(doc string) *huma.Schema {
	return &huma.Schema{Type: huma.TypeString, Format: "binary", ContentEncoding: "binary", Description: doc}
}

func textField(doc string) *huma.Schema {
	return &huma.Schema{Type: huma.TypeString, Description: doc}
}

func numberField(doc string) *huma.Schema {
	return &huma.Schema{Type: huma.TypeInteger, Format: "int64", Description: doc}
}

func truthField(doc string) *huma.Schema {
	return &huma.Schema{Type: huma.TypeBoolean, Description: doc}
}
