package file

import (
	"bytes"
	"context"
	"io"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table/jsonl"
	"paletwin/internal/target"
)

// array is the form of JSON files that hold one list of objects: a record each, with separators between. What stands before
// the first and behind the last stays.
type array struct {
	rows  *jsonRows
	lines *lines // which knows what JSON files refuse
	at    [][2]int
}

// openArray reads where the objects stand.
func (f *File) openArray() (form, error) {
	rows := &jsonRows{File: f, types: jsonl.Types{}}
	at, err := jsonl.Elements(f.m.Data)
	if err != nil {
		return nil, err
	}
	for _, p := range at[:min(len(at), sampled)] {
		rows.types.Learn(f.m.Data[p[0]:p[1]])
	}
	return &array{rows, &lines{f: f, rows: arrayRows{rows, at}}, at}, nil
}

// arrayRows are the rows of a list, for what is asked of rows alone.
type arrayRows struct {
	*jsonRows
	at [][2]int
}

func (a arrayRows) each(ctx context.Context, row func(key []byte, at span) error) error {
	for n, p := range a.at {
		if n&0xfff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		key, err := a.keyOf(a.m.Data[p[0]:p[1]])
		if err != nil {
			return err
		}
		if err := row(key, span{p[0], p[1], p[1]}); err != nil {
			return err
		}
	}
	return nil
}

// between is what stands between object i and the one before it; "" before the first.
func (a *array) between(i int) string {
	if i == 0 || i >= len(a.at) {
		return ""
	}
	return string(a.rows.m.Data[a.at[i-1][1]:a.at[i][0]])
}

func (a *array) current(ctx context.Context, at map[string]int, states []target.State) error {
	var before []byte
	i := 0
	return a.lines.rows.each(ctx, func(key []byte, r span) error {
		if n, wanted := at[string(key)]; wanted {
			s := &states[n]
			if s.Count++; s.Count == 1 {
				raw := a.rows.m.Data[r.start:r.end]
				s.Record = a.rows.record(nil, raw, "")
				s.Form = target.Form{Row: string(raw), After: record.KeyOf(before), Kept: true, Lead: a.between(i), End: a.between(i + 1)}
			}
		}
		before = append(before[:0], key...)
		i++
		return nil
	})
}

func (a *array) check(ctx context.Context, steps target.Steps) ([]string, error) {
	return a.lines.check(ctx, steps)
}

// usual is what stands between two objects where it is not known.
func (a *array) usual() string {
	if len(a.at) > 1 {
		return a.between(1)
	}
	data := a.rows.m.Data[:a.at[0][0]]
	return "," + string(data[bytes.LastIndexByte(data, '[')+1:])
}

func (a *array) atOnce() int { return allAtOnce }

func (a *array) write(ctx context.Context, out io.Writer, steps target.Steps) ([]target.Result, error) {
	reasons, err := a.check(ctx, steps)
	if err != nil {
		return nil, err
	}
	results := refused(steps, reasons)
	w := newWriter(a.lines.rows, steps, results)
	data := a.rows.m.Data
	o := &listWriter{out: out, usual: a.usual()}
	o.put(data[:a.at[0][0]])
	var comeBack func(key string)
	comeBack = func(key string) {
		for _, i := range w.take(key) {
			form, key := steps.Form(i), steps.At(i).Key.Encoding()
			o.object([]byte(form.Row), form.Lead, form.End)
			comeBack(key)
		}
	}
	comeBack("")
	i := 0
	err = w.rows.each(ctx, func(key []byte, r span) error {
		raw := data[r.start:r.end]
		if n, hit := w.byKey[string(key)]; !hit {
			o.object(raw, a.between(i), "")
		} else if s := steps.At(n); s.Act != changeset.Delete {
			form := steps.Form(n)
			o.object(a.rows.amended(s, &form, raw), a.between(i), "")
		}
		i++
		comeBack(string(key))
		return o.err
	})
	if err != nil {
		return nil, err
	}
	for key := range w.stranded() {
		comeBack(key)
	}
	for _, i := range w.appends {
		o.object(jsonl.Like(a.rows.added(steps.At(i).Record), data[a.at[0][0]:a.at[0][1]]), "", "")
	}
	o.put(data[a.at[len(a.at)-1][1]:])
	return results, o.err
}

// listWriter writes objects with what stands between them. The first error stays.
type listWriter struct {
	out   io.Writer
	usual string
	last  string // what stood behind the object that was written last, if that is known
	some  bool   // one was written
	err   error
}

func (l *listWriter) put(b []byte) {
	if l.err == nil {
		_, l.err = l.out.Write(b)
	}
}

// object writes an object, and before it what stood before it, or behind the one before, or what usually does.
func (l *listWriter) object(b []byte, lead, end string) {
	if l.some {
		for _, between := range []string{lead, l.last, l.usual} {
			if between != "" {
				l.put([]byte(between))
				break
			}
		}
	}
	l.some, l.last = true, end
	l.put(b)
}
