package jsontext

import (
	"bytes"
	"fmt"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"
)

// Reader reads one JSON value (RFC 8259) after the other, as their reader asks for them: no more is made of a text than is
// kept of it. An object that names a member twice is an error. The zero Reader is ready; it is for one goroutine.
type Reader struct {
	d     jsontext.Decoder
	text  []byte
	buf   bytes.Buffer
	known map[string]string
}

// most is how many texts a Reader keeps that come again and again.
const most = 1 << 12

// Reset begins a text, which is not written to and not kept.
func (r *Reader) Reset(text []byte) {
	r.text, r.buf = text, *bytes.NewBuffer(text)
	r.d.Reset(&r.buf, jsontext.AllowInvalidUTF8(true))
}

// End makes sure that the text is at its end.
func (r *Reader) End() error {
	if rest := bytes.Trim(r.d.UnreadBuffer(), " \t\r\n"); len(rest) > 0 {
		return fmt.Errorf("there is more behind the value: %.20q", rest)
	}
	return nil
}

// Object reads an object, or null as an empty one: member is called with each name, which holds until the next is read, and reads its value.
func (r *Reader) Object(member func(name []byte) error) error {
	if begun, err := r.begin('{', "an object"); !begun {
		return err
	}
	for r.d.PeekKind() != '}' {
		name, err := r.d.ReadValue()
		if err != nil {
			return err
		}
		text, ok := plain(name)
		if !ok {
			text, _ = jsontext.AppendUnquote(nil, name) // what is no text in it is replaced
		}
		if err := member(text); err != nil {
			return err
		}
	}
	_, err := r.d.ReadToken()
	return err
}

// Array reads an array, or null as an empty one: element is called before each element, and reads it.
func (r *Reader) Array(element func() error) error {
	if begun, err := r.begin('[', "an array"); !begun {
		return err
	}
	for r.d.PeekKind() != ']' {
		if err := element(); err != nil {
			return err
		}
	}
	_, err := r.d.ReadToken()
	return err
}

func (r *Reader) begin(with jsontext.Kind, what string) (bool, error) {
	t, err := r.d.ReadToken()
	if err != nil || t.Kind() == 'n' {
		return false, err
	}
	if t.Kind() != with {
		return false, fmt.Errorf("%s stands where %s should", t.Kind(), what)
	}
	return true, nil
}

// Text reads a text. Null is "", and there is false.
func (r *Reader) Text() (text string, there bool, err error) {
	b, there, err := r.next()
	return string(b), there, err
}

// Bytes reads a text, which holds until the next is read; null is an empty one.
func (r *Reader) Bytes() ([]byte, error) {
	b, _, err := r.next()
	return b, err
}

// Word reads a text that comes again and again, as names of fields do: it is kept once.
func (r *Reader) Word() (string, error) {
	b, _, err := r.next()
	return r.Known(b), err
}

// Known is a text that comes again and again: it is kept once.
func (r *Reader) Known(b []byte) string {
	if s, ok := r.known[string(b)]; ok {
		return s
	}
	s := string(b)
	if r.known == nil {
		r.known = map[string]string{}
	}
	if len(r.known) < most {
		r.known[s] = s
	}
	return s
}

// next reads a text; it holds until the next is read.
func (r *Reader) next() (b []byte, there bool, err error) {
	v, err := r.d.ReadValue()
	if err != nil {
		return nil, false, err
	}
	switch v.Kind() {
	case 'n':
		return nil, false, nil
	case '"':
		if b, ok := plain(v); ok {
			return b, true, nil
		}
		b, _ = jsontext.AppendUnquote(nil, v) // what is no text in it is replaced
		return b, true, nil
	}
	return nil, false, fmt.Errorf("%s stands where a text should", v.Kind())
}

// plain returns what stands between the quotes of a text that has nothing but ASCII and no escapes.
func plain(quoted []byte) (text []byte, ok bool) {
	text = quoted[1 : len(quoted)-1]
	for _, c := range text {
		if c == '\\' || c >= 0x80 {
			return nil, false
		}
	}
	return text, true
}

// Words reads an array of texts that come again and again.
func (r *Reader) Words() (all []string, err error) {
	err = r.Array(func() error {
		s, err := r.Word()
		all = append(all, s)
		return err
	})
	return all, err
}

// Raw reads a value, whatever it is, and returns it as the part of the text that it is.
func (r *Reader) Raw() ([]byte, error) {
	v, err := r.d.ReadValue()
	end := int(r.d.InputOffset())
	return r.text[end-len(v) : end : end], err
}

// Offset is where in the text what was read last ends.
func (r *Reader) Offset() int { return int(r.d.InputOffset()) }

// Number reads a whole number.
func (r *Reader) Number() (int, error) {
	v, err := r.d.ReadValue()
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(string(v))
}

// True reads true or false.
func (r *Reader) True() (bool, error) {
	t, err := r.d.ReadToken()
	if err != nil {
		return false, err
	}
	if t.Kind() != 't' && t.Kind() != 'f' {
		return false, fmt.Errorf("%s stands where true or false should", t.Kind())
	}
	return t.Kind() == 't', nil
}

// Skip passes a value over.
func (r *Reader) Skip() error { return r.d.SkipValue() }
