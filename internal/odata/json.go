package odata

import (
	"bytes"
	"errors"

	"github.com/go-json-experiment/json/jsontext"
)

// Members reads a JSON object; each is given a member's name and reads its value.
func Members(d *jsontext.Decoder, each func(name string) error) error {
	if t, err := d.ReadToken(); err != nil || t.Kind() != '{' {
		return orElse(err, "an object is expected")
	}
	for d.PeekKind() != '}' {
		v, err := d.ReadValue()
		if err != nil {
			return err
		}
		if err := each(Unquoted(v)); err != nil {
			return err
		}
	}
	_, err := d.ReadToken()
	return err
}

// Unquoted is the text of a JSON string.
func Unquoted(v jsontext.Value) string {
	if len(v) > 2 && bytes.IndexByte(v, '\\') < 0 {
		inner := v[1 : len(v)-1]
		if s, ok := common[string(inner)]; ok {
			return s
		}
		return string(inner)
	}
	b, err := jsontext.AppendUnquote(nil, v)
	if err != nil {
		return ""
	}
	return string(b)
}

// Elements reads a JSON array; each reads an element.
func Elements(d *jsontext.Decoder, each func() error) error {
	if t, err := d.ReadToken(); err != nil || t.Kind() != '[' {
		return orElse(err, "a list is expected")
	}
	for d.PeekKind() != ']' {
		if err := each(); err != nil {
			return err
		}
	}
	_, err := d.ReadToken()
	return err
}

func orElse(err error, text string) error {
	if err == nil {
		err = errors.New(text)
	}
	return err
}

// common are texts of which batches have many.
var common = func() map[string]string {
	all := map[string]string{}
	for _, s := range []string{"id", "atomicityGroup", "method", "url", "dependsOn", "headers", "body", "GET", "POST", "PATCH", "PUT", "DELETE", "Content-Type", "content-type", "application/json",
		"If-Match", "if-match", "*", "Accept", "accept"} {
		all[s] = s
	}
	return all
}()
