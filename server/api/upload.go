package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"latchkey/server/form"
)

// upload is a request with files.
type upload struct{ *form.Form }

// Resolve implements huma.Resolver: it takes the request in.
func (u *upload) Resolve(ctx huma.Context) []error {
	c := humagin.Unwrap(ctx)
	reader, err := c.Request.MultipartReader()
	if err != nil {
		return []error{huma.Error422UnprocessableEntity("Expected a form with files (multipart/form-data).")}
	}
	if u.Form, err = form.Read(reader); err != nil {
		return []error{broken(err)}
	}
	c.Set(theForm, u.Form)
	return nil
}

// theForm is the form of a request.
const theForm = "form"

// letGo closes a request's form after the answer, whatever became of it.
func letGo(c *gin.Context) {
	c.Next()
	if f, ok := c.Get(theForm); ok {
		f.(*form.Form).Close()
	}
}

// broken is the answer to a form that is wrong, or does not come in whole.
func broken(err error) error {
	if wrong := new(form.Error); errors.As(err, &wrong) {
		if wrong.Large {
			return huma.Error413RequestEntityTooLarge(clean(wrong.Text))
		}
		return huma.Error422UnprocessableEntity(clean(wrong.Text))
	}
	if large := new(http.MaxBytesError); errors.As(err, &large) {
		return huma.Error413RequestEntityTooLarge(fmt.Sprintf("The request has more than %d bytes.", large.Limit))
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, multipart.ErrMessageTooLarge) {
		return huma.Error422UnprocessableEntity("The form breaks off before its end.")
	}
	return huma.Error422UnprocessableEntity("The form did not come in whole.")
}

// file returns a file that must be there.
func (u *upload) file(name string) (*form.File, error) {
	f, err := u.File(name)
	if err != nil {
		return nil, broken(err)
	}
	return f, nil
}

// number returns a field as a number; 0 when it is absent.
func (u *upload) number(name string) (int64, error) {
	n, err := u.Number(name)
	if err != nil {
		return 0, broken(err)
	}
	return n, nil
}

// registerForm registers an operation that takes a form with files; its fields are
// described by their schemas. The framework would read the whole form into memory: what
// takes it in is upload.
func registerForm[I, O any](api huma.API, op huma.Operation, fields map[string]*huma.Schema,
	handler func(context.Context, *I) (*O, error)) {
	op.MaxBodyBytes = maxBody
	huma.Register(api, op, handler)
	api.OpenAPI().Paths[op.Path].Post.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{
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
