package handoff

import (
	"golang.org/x/text/encoding"

	"paletwin/core/table/csv"
)

// encoder turns UTF-8 into what a file is to be in; without an Encoder it
// stays UTF-8.
type encoder struct {
	*encoding.Encoder
	name string
	mark bool // a byte-order mark comes first
}

// use sets the encoding; only CSV files have another than UTF-8.
func (e *encoder) use(name string, form Form) (err error) {
	if form != CSV || name == "" || name == "utf-8" || name == "utf8" {
		e.mark = e.mark && form == CSV
		return nil
	}
	e.name = name
	e.Encoder, err = csv.NewEncoder(name)
	return err
}

// own returns an encoder for another goroutine.
func (e *encoder) own() *encoder {
	o := &encoder{mark: e.mark, name: e.name}
	if e.Encoder != nil {
		o.Encoder, _ = csv.NewEncoder(e.name) // it is known: use has made one
	}
	return o
}

func (e *encoder) bytes(b []byte) ([]byte, error) {
	if e.Encoder == nil {
		return b, nil
	}
	return e.Bytes(b)
}

// lacks returns the first letter of a text that the encoding has not.
func (e *encoder) lacks(text string) (letter string, ok bool) {
	if e.Encoder == nil {
		return "", false
	}
	if _, err := e.String(text); err == nil {
		return "", false
	}
	for _, r := range text {
		if _, err := e.String(string(r)); err != nil {
			return string(r), true
		}
	}
	return text, true
}
