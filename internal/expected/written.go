package expected

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// written writes a value out to its end, always alike: what is zero is left out, so that a
// field more changes only what has something in it.
func written(v any) string {
	var b strings.Builder
	write(&b, reflect.ValueOf(v))
	return b.String()
}

func write(b *strings.Builder, v reflect.Value) {
	switch v.Kind() {
	case reflect.Invalid:
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			if v.Kind() == reflect.Interface {
				b.WriteString(v.Elem().Type().String())
			}
			write(b, v.Elem())
		}
	case reflect.Struct:
		b.WriteByte('{')
		for i := range v.NumField() {
			if f := v.Field(i); !f.IsZero() {
				b.WriteString(v.Type().Field(i).Name)
				write(b, f)
			}
		}
		b.WriteByte('}')
	case reflect.Slice, reflect.Array:
		b.WriteByte('[')
		for i := range v.Len() {
			write(b, v.Index(i))
			b.WriteByte(',')
		}
		b.WriteByte(']')
	case reflect.Map:
		parts := make([]string, 0, v.Len())
		for _, k := range v.MapKeys() {
			var one strings.Builder
			write(&one, k)
			one.WriteByte(':')
			write(&one, v.MapIndex(k))
			parts = append(parts, one.String())
		}
		slices.Sort(parts)
		b.WriteString(strings.Join(parts, ","))
	case reflect.String:
		fmt.Fprintf(b, "%q", v.String())
	default:
		fmt.Fprint(b, v) // numbers and truths
	}
}
