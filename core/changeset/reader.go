package changeset

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"iter"

	"paletwin/core/forms"
)

// What can be wrong with a change set as a whole.
var (
	ErrCut  = errors.New("the change set is cut short: its seal is missing")
	ErrSeal = errors.New("the change set was altered: its seal does not fit")
	ErrNot  = errors.New("the file is not a change set")
)

// Reader gives a change set's lines. It is good for many readings at once;
// it holds nothing but the bytes it was given and its header.
type Reader struct {
	Header Header
	Seal   Seal
	lines  []byte
	sealed []byte // what the seal covers
}

// Parse checks the seal of a change set given as its bytes and reads its
// header. Errors are ErrCut, ErrSeal, ErrNot or a *forms.NewerError.
func Parse(data []byte) (*Reader, error) {
	r, err := ParseUnchecked(data)
	if err != nil {
		return nil, err
	}
	return r, r.CheckSeal()
}

// ParseUnchecked is Parse without the check of the seal, which reads all
// bytes. Whoever uses what the Reader gives calls CheckSeal before anything
// comes of it.
func ParseUnchecked(data []byte) (*Reader, error) {
	r, body, err := open(data)
	if err != nil {
		return nil, err
	}
	r.sealed = body
	return r, nil
}

// CheckSeal returns ErrSeal if the seal does not fit.
func (r *Reader) CheckSeal() error {
	if r.Seal.Seal != Checksum(r.sealed) {
		return ErrSeal
	}
	return nil
}

// open reads header and seal line without checking the one against the
// other; body is what the seal covers.
func open(data []byte) (r *Reader, body []byte, err error) {
	first, rest, ok := bytes.Cut(data, []byte{'\n'})
	var h header
	if err := json.Unmarshal(first, &h); err != nil || h.Form != forms.ChangeSet.Name {
		return nil, nil, ErrNot
	}
	if err := forms.ChangeSet.Check(h.Version); err != nil {
		return nil, nil, err
	}
	if !ok || !bytes.HasSuffix(rest, []byte("}\n")) {
		return nil, nil, ErrCut
	}
	r = &Reader{Header: Header{h.RecordSet, h.Key, h.Fields, h.Snapshot, h.Edited, h.Options}}
	last := bytes.LastIndexByte(data[:len(data)-1], '\n') + 1
	if !bytes.HasPrefix(data[last:], []byte(`{"seal":"`)) || json.Unmarshal(data[last:], &r.Seal) != nil {
		return nil, nil, ErrCut
	}
	// The seal's line is no part of what it seals: it stands as it was written.
	if line, err := json.Marshal(r.Seal); err != nil || !bytes.Equal(append(line, '\n'), data[last:]) {
		return nil, nil, ErrSeal
	}
	r.lines = data[len(first)+1 : last]
	return r, data[:last], nil
}

// Lines is a run of a change set's lines, newlines included.
type Lines []byte

// Plain reports whether every line is, by Line.Plain.
func (l Lines) Plain() bool { return Line(l).Plain() }

// OfCopies reports whether a line names copies.
func (l Lines) OfCopies() bool { return Line(l).OfCopies() }

// All gives the lines in order.
func (l Lines) All() iter.Seq[Line] {
	return func(yield func(Line) bool) {
		for rest := l; len(rest) > 0; {
			n := bytes.IndexByte(rest, '\n')
			if !yield(Line(rest[:n:n])) {
				return
			}
			rest = rest[n+1:]
		}
	}
}

// Lines gives the changes' lines in order.
func (r *Reader) Lines() iter.Seq[Line] { return Lines(r.lines).All() }

// At returns the line that starts at an offset which a walk over Lines gave:
// the sum of the lengths of the lines before, with their newlines. ok is false
// where no line starts there.
func (r *Reader) At(offset int) (l Line, ok bool) {
	if offset < 0 || offset >= len(r.lines) || offset > 0 && r.lines[offset-1] != '\n' {
		return nil, false
	}
	rest := r.lines[offset:]
	n := bytes.IndexByte(rest, '\n')
	return Line(rest[:n:n]), true
}

// Parts cuts the changes' lines into at most n runs of about one length.
func (r *Reader) Parts(n int) []Lines {
	var parts []Lines
	for rest, size := r.lines, len(r.lines)/n+1; len(rest) > 0; {
		end := min(size, len(rest)) - 1
		end += bytes.IndexByte(rest[end:], '\n') + 1
		parts = append(parts, Lines(rest[:end:end]))
		rest = rest[end:]
	}
	return parts
}

// Changes gives the decoded changes in order. It stops at the first line
// that cannot be decoded, with its error.
func (r *Reader) Changes() iter.Seq2[*Change, error] {
	return func(yield func(*Change, error) bool) {
		for l := range r.Lines() {
			c, err := l.Change(r.Header.Fields)
			if !yield(c, err) || err != nil {
				return
			}
		}
	}
}

// Find returns the lines whose id starts with the given hex digits, at most
// limit of them. Six digits are the fewest that name anything.
func (r *Reader) Find(prefix string, limit int) ([]Line, error) {
	if len(prefix) < 6 || len(prefix) > 16 {
		return nil, fmt.Errorf("%q is no change id: 6 to 16 hex digits are needed", prefix)
	}
	var found []Line
	want := []byte(`{"id":"` + prefix)
	for rest := r.lines; len(rest) > 0 && len(found) < limit; {
		if bytes.HasPrefix(rest, want) {
			n := bytes.IndexByte(rest, '\n')
			found = append(found, Line(rest[:n:n]))
		}
		rest = rest[bytes.IndexByte(rest, '\n')+1:]
	}
	return found, nil
}
