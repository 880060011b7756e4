package form_test

import (
	"bytes"
	"mime/multipart"
	"testing"

	"latchkey/server/form"
)

// FuzzForm takes in forms with files.
func FuzzForm(f *testing.F) {
	const head = "--x\r\nContent-Disposition: form-data; name=\"file\"; filename=\"a\"\r\n\r\n"
	f.Add([]byte(head + "abc\r\n--x\r\nContent-Disposition: form-data; name=\"capacity\"\r\n\r\n512\r\n--x--\r\n"))
	f.Add([]byte(head + "abc\r\n" + head + "abc"))
	f.Add([]byte("--x\r\nContent-Disposition: form-data; name*=utf-8''%00; filename=\"../../a\"\r\n\r\n\r\n--x--"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		in, err := form.Read(multipart.NewReader(bytes.NewReader(raw), "x"))
		if err != nil {
			return
		}
		defer in.Close()
		if len(in.Files)+len(in.Fields) > 16 {
			t.Fatal("too many parts")
		}
		_, _ = in.Number("capacity")
		_, _ = in.File("file")
	})
}
