// Package exact stores values as JSON (RFC 8259) without loss: names of files and texts need not be UTF-8, which JSON's
// strings have to be. Everything else is as encoding/json has it, and so are strings that are UTF-8.
package exact

import (
	"bytes"
	"encoding"
	"encoding/base64"
	"encoding/json"
	"reflect"
	"strings"
	"unicode/utf8"
)

// mark begins a string that is not UTF-8, or that begins with the mark itself; the bytes follow in base64 (RFC 4648).
const mark = "\x00"

// Marshal is json.Marshal.
func Marshal(v any) ([]byte, error) {
	value := reflect.ValueOf(v)
	if !value.IsValid() || !has(value, odd) {
		return json.Marshal(v)
	}
	return json.Marshal(mapped(value, func(s string) string {
		if !odd(s) {
			return s
		}
		return mark + base64.StdEncoding.EncodeToString([]byte(s))
	}).Interface())
}

// Unmarshal is json.Unmarshal. into is a pointer.
func Unmarshal(data []byte, into any) error {
	if err := json.Unmarshal(data, into); err != nil || !bytes.Contains(data, []byte(`\u0000`)) {
		return err
	}
	var failed error
	value := reflect.ValueOf(into).Elem()
	value.Set(mapped(value, func(s string) string {
		rest, ok := strings.CutPrefix(s, mark)
		if !ok {
			return s
		}
		raw, err := base64.StdEncoding.DecodeString(rest)
		if err != nil {
			failed = err
		}
		return string(raw)
	}))
	return failed
}

// odd reports whether a string cannot be stored as it is.
func odd(s string) bool { return !utf8.ValidString(s) || strings.HasPrefix(s, mark) }

var (
	marshals     = reflect.TypeFor[json.Marshaler]()
	marshalsText = reflect.TypeFor[encoding.TextMarshaler]()
)

// itself reports whether a type says itself how it is stored.
func itself(t reflect.Type) bool {
	return t.Implements(marshals) || t.Implements(marshalsText) || reflect.PointerTo(t).Implements(marshals)
}

// has reports whether a value has a string for which something is true.
func has(v reflect.Value, is func(string) bool) bool {
	found := false
	each(v, func(s string) { found = found || is(s) })
	return found
}

// each calls a function for every string of a value that is stored.
func each(v reflect.Value, do func(string)) {
	if !v.IsValid() || v.Kind() != reflect.Pointer && v.Kind() != reflect.Interface && itself(v.Type()) {
		return
	}
	switch v.Kind() {
	case reflect.String:
		do(v.String())
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			each(v.Elem(), do)
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			each(v.Index(i), do)
		}
	case reflect.Map:
		for k, e := range v.Seq2() {
			each(k, do)
			each(e, do)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				each(v.Field(i), do)
			}
		}
	}
}

// mapped returns a copy of a value with other strings. What is not stored is shared with it.
func mapped(v reflect.Value, to func(string) string) reflect.Value {
	if !v.IsValid() || v.Kind() != reflect.Pointer && v.Kind() != reflect.Interface && itself(v.Type()) {
		return v
	}
	out := reflect.New(v.Type()).Elem()
	switch v.Kind() {
	case reflect.String:
		out.SetString(to(v.String()))
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out.Set(reflect.New(v.Type().Elem()))
		out.Elem().Set(mapped(v.Elem(), to))
	case reflect.Interface:
		if v.IsNil() {
			return v
		}
		out.Set(mapped(v.Elem(), to))
	case reflect.Slice:
		if v.IsNil() {
			return v
		}
		out.Set(reflect.MakeSlice(v.Type(), v.Len(), v.Len()))
		for i := range v.Len() {
			out.Index(i).Set(mapped(v.Index(i), to))
		}
	case reflect.Array:
		for i := range v.Len() {
			out.Index(i).Set(mapped(v.Index(i), to))
		}
	case reflect.Map:
		if v.IsNil() {
			return v
		}
		out.Set(reflect.MakeMapWithSize(v.Type(), v.Len()))
		for k, e := range v.Seq2() {
			out.SetMapIndex(mapped(k, to), mapped(e, to))
		}
	case reflect.Struct:
		out.Set(v)
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				out.Field(i).Set(mapped(v.Field(i), to))
			}
		}
	default:
		return v
	}
	return out
}
