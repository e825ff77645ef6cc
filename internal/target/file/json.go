package file

import (
	"bytes"
	"context"
	"io"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/jsonl"
	"paletwin/internal/target"
)

// jsonRows are the rows of a JSON Lines file: one object a line.
type jsonRows struct {
	*File
	types jsonl.Types
}

// field is the field of a member, and member the member of a field: where a
// layout knows the member by an alias, they have two names.
func (j *jsonRows) field(member string) string {
	for _, r := range j.img.Renamed {
		if r.Heading == member {
			return j.img.Heading[r.Column]
		}
	}
	return member
}

func (j *jsonRows) member(field string) string {
	for _, r := range j.img.Renamed {
		if j.img.Heading[r.Column] == field {
			return r.Heading
		}
	}
	return field
}

// read reads a line as a record of the fields.
func (j *jsonRows) read(raw []byte) (record.Record, error) {
	r, err := jsonl.Record(raw)
	if len(j.img.Renamed) > 0 {
		for i := range r {
			r[i].Name = j.field(r[i].Name)
		}
	}
	return r, err
}

// sampled is how many rows show the types of the fields' values.
const sampled = 1000

// learn takes in the types of the fields from the file's first rows.
func (j *jsonRows) learn() error {
	n := 0
	return j.walk(context.Background(), func(raw []byte, _ span) error {
		if n++; n > sampled {
			return io.EOF
		}
		j.types.Learn(raw)
		return nil
	})
}

func (j *jsonRows) text() ([]byte, int) {
	all := j.m.Data
	if bytes.HasPrefix(all, []byte("\ufeff")) {
		return all, len("\ufeff")
	}
	return all, 0
}

func (j *jsonRows) newline() string {
	if i := bytes.IndexByte(j.m.Data, '\n'); i > 0 && j.m.Data[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}

// walk walks the lines that are not blank; io.EOF ends the walk.
func (j *jsonRows) walk(ctx context.Context, row func(raw []byte, at span) error) error {
	all, at := j.text()
	for n := 0; at < len(all); n++ {
		if n&0xffff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		r := span{at, len(all), len(all)}
		if i := bytes.IndexByte(all[at:], '\n'); i >= 0 {
			r.end, r.next = at+i, at+i+1
		}
		if r.end > at && all[r.end-1] == '\r' {
			r.end--
		}
		at = r.next
		if len(bytes.TrimSpace(all[r.start:r.end])) == 0 {
			continue
		}
		switch err := row(all[r.start:r.end], r); err {
		case nil:
		case io.EOF:
			return nil
		default:
			return err
		}
	}
	return nil
}

func (j *jsonRows) each(ctx context.Context, row func(key []byte, r span) error) error {
	return table.Guard(func() error {
		return j.walk(ctx, func(raw []byte, at span) error {
			key, err := j.keyOf(raw)
			if err != nil {
				return err
			}
			return row(key, at)
		})
	})
}

// keyOf is the normalised key of an object, encoded.
func (j *jsonRows) keyOf(raw []byte) ([]byte, error) {
	r, err := j.read(raw)
	if err != nil {
		return nil, err
	}
	var key []byte
	for _, k := range j.key {
		v, _ := r.Get(k)
		key = record.AppendPart(key, v.String())
	}
	if !j.of.OneForm() {
		key = []byte(j.of.Key(record.KeyOf(key)).Encoding())
	}
	return key, nil
}

func (j *jsonRows) record(_ record.Record, raw []byte, _ string) record.Record {
	r, err := j.read(raw)
	if err != nil {
		return nil // a row kept from another file, which fits no record
	}
	return r
}

// amended returns the line with the step's fields set in it. Where a line was
// kept that says the same, it is taken to the letter.
func (j *jsonRows) amended(s *target.Step, kept *target.Form, raw []byte) []byte {
	set := make(record.Record, len(s.Fields))
	for i, fc := range s.Fields {
		set[i] = record.Field{Name: j.member(fc.Field), Value: fc.To}
	}
	line, err := jsonl.Set(raw, set, j.types)
	if err != nil {
		return raw // not reached: each has read the line
	}
	if kept.Kept && j.says(s, kept, line) {
		return []byte(kept.Row)
	}
	return line
}

// says reports whether the line that was kept says what a new one says: the
// same of all fields, where of those that the step writes an absent one is as
// good as an empty one.
func (j *jsonRows) says(s *target.Step, form *target.Form, line []byte) bool {
	kept, now := j.record(nil, []byte(form.Row), ""), j.record(nil, line, "")
	written := func(f record.Field) bool {
		return f.Value.Blank() && slices.ContainsFunc(s.Fields, func(c changeset.Edit) bool { return c.Field == f.Name })
	}
	kept, now = slices.DeleteFunc(kept, written), slices.DeleteFunc(now, written)
	return len(kept) > 0 && slices.Equal(kept, now)
}

func (j *jsonRows) added(r record.Record) []byte {
	named := r.Clone()
	for i := range named {
		named[i].Name = j.member(named[i].Name)
	}
	return jsonl.AppendRecord(nil, named, j.types)
}

func (j *jsonRows) least() int { return 1 }

// refuse is never needed: JSON can hold every text.
func (j *jsonRows) refuse(record.Value) string { return "" }

func (j *jsonRows) encode(w io.Writer) io.WriteCloser { return nopCloser{w} }
