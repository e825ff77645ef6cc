package handoff

import (
	"bufio"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table/xlsx"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// Folders and files of a hand-off.
const (
	Forward    = target.Forward
	Back       = target.Back
	ReadMe     = "README.txt"
	ByHandName = "by-hand.csv"
	ByHandBook = "by-hand.xlsx" // the same for a spreadsheet program, which would take some values of the other for formulas
)

// Write makes the files of a run, all or none: the folder appears when it is
// whole.
func (s *System) Write(ctx context.Context, steps []target.Step) ([]target.Result, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	dir := s.Dir(s.run)
	disk.Leftovers(s.FS, dir)
	stage := disk.TempName(dir)
	for _, d := range []string{stage, dir} { // what an interrupted hand-off left
		if err := s.FS.RemoveAll(d); err != nil {
			return nil, err
		}
	}
	if err := s.FS.MkdirAll(filepath.Dir(dir)); err != nil {
		return nil, err
	}
	if err := s.write(ctx, stage, steps); err != nil {
		_ = s.FS.RemoveAll(stage) // the first error counts
		return nil, err
	}
	return make([]target.Result, len(steps)), disk.Replace(s.FS, stage, dir)
}

func (s *System) write(ctx context.Context, stage string, steps []target.Step) error {
	for _, d := range []string{stage, filepath.Join(stage, Forward), filepath.Join(stage, Back)} {
		if err := s.FS.Mkdir(d); err != nil {
			return err
		}
	}
	forward := make([]*target.Step, len(steps))
	for i := range steps {
		forward[i] = &steps[i]
	}
	undo, byHand := s.doable(inverse(forward))
	var made [2][]target.Load
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() (err error) { made[0], err = s.writeSide(ctx, stage, Forward, forward); return err })
	g.Go(func() (err error) { made[1], err = s.writeSide(ctx, stage, Back, undo); return err })
	if err := g.Wait(); err != nil {
		return err
	}
	s.loads = append(made[0], made[1]...)
	s.ByHand = len(byHand)
	s.beside = nil
	if len(byHand) > 0 {
		w, err := s.writeByHand(filepath.Join(stage, Back, ByHandName), byHand)
		if err != nil {
			return err
		}
		s.beside = append(s.beside, target.Load{Name: Back + "/" + ByHandName, Records: len(byHand), SHA256: w.SHA256})
		if w, err = s.writeByHandBook(filepath.Join(stage, Back, ByHandBook), byHand); err != nil {
			return err
		}
		s.beside = append(s.beside, target.Load{Name: Back + "/" + ByHandBook, Records: len(byHand), SHA256: w.SHA256})
	}
	w, err := s.readMe(filepath.Join(stage, ReadMe), len(byHand))
	if err != nil {
		return err
	}
	s.beside = append(s.beside, target.Load{Name: ReadMe, SHA256: w.SHA256})
	for _, d := range []string{Forward, Back, ""} {
		if err := s.FS.SyncDir(filepath.Join(stage, d)); err != nil {
			return err
		}
	}
	return nil
}

// writeSide writes the load files of one direction, in parts where one would
// be too large.
func (s *System) writeSide(ctx context.Context, stage, folder string, steps []*target.Step) (loads []target.Load, err error) {
	enc := s.enc.own()
	n := 0
	for _, l := range s.lay(steps) {
		f := s.file(&l, enc)
		for part := 1; len(l.steps) > 0; part++ {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			n++
			name := fmt.Sprintf("%02d-%s", n, l.name())
			if part > 1 {
				name += fmt.Sprintf("-%d", part)
			}
			made := target.Load{Name: folder + "/" + name + f.ext(), Acts: words(l.acts), Fields: l.fields}
			w, err := disk.WriteFile(s.FS, filepath.Join(stage, folder, name+f.ext()), 0o600, func(w io.Writer) (err error) {
				b := bufio.NewWriterSize(w, 1<<16)
				if made.Records, err = f.write(b, l.steps); err == nil {
					err = b.Flush()
				}
				return err
			})
			if err != nil {
				return nil, err
			}
			made.SHA256 = w.SHA256
			loads = append(loads, made)
			l.steps = l.steps[made.Records:]
		}
	}
	return loads, nil
}

// file is a form of load files at work on one load. write takes as many of
// the steps as go into one file and returns how many.
type file interface {
	write(w io.Writer, steps []*target.Step) (int, error)
	ext() string
}

func (s *System) file(l *load, enc *encoder) file {
	switch s.Form {
	case XLSX, ODS:
		return &workbook{s.columns(l)}
	case JSONL:
		return &text{s, enc, s.jsonlines(l)}
	case JSON:
		return &text{s, enc, &jsonarray{jsonlines: s.jsonlines(l)}}
	case SQL:
		return &text{s, enc, &sql{s: s, dialect: dialects[s.Dialect]}}
	case JSONPatch:
		return &text{s, enc, &patches{s}}
	}
	return &text{s, enc, &separated{s.columns(l)}}
}

// alone is the size of the largest file with this step alone, or with what
// undoes it.
func (s *System) alone(st *target.Step) int64 {
	var most int64
	one := []*target.Step{st}
	for _, l := range append(s.lay(one), s.lay(inverse(one))...) {
		if t, ok := s.file(&l, &s.enc).(*text); ok {
			var b counter
			_, _ = t.write(&b, l.steps) // a counter takes everything
			most = max(most, int64(b))
		}
	}
	return most
}

type counter int64

func (c *counter) Write(b []byte) (int, error) { *c += counter(len(b)); return len(b), nil }

// lines is a form made of a head, something for each record, and a tail.
type lines interface {
	head() []byte
	record(dst []byte, st *target.Step) []byte
	tail(records int) []byte
	ext() string
}

// text writes lines, in the encoding that was asked for, up to the limits.
type text struct {
	s   *System
	enc *encoder
	lines
}

func (t *text) write(w io.Writer, steps []*target.Step) (int, error) {
	head, err := t.enc.bytes(t.head())
	if err != nil {
		return 0, err
	}
	size := int64(len(head))
	if _, err := w.Write(head); err != nil {
		return 0, err
	}
	n := 0
	var b []byte
	for n < len(steps) && (t.s.MaxRecords == 0 || n < t.s.MaxRecords) {
		if b = t.record(b[:0], steps[n]); t.enc.Encoder != nil {
			if b, err = t.enc.Bytes(b); err != nil {
				return n, err
			}
		}
		if size += int64(len(b)); n > 0 && t.s.MaxBytes > 0 && size+int64(len(t.tail(n+1))) > t.s.MaxBytes {
			break
		}
		if _, err := w.Write(b); err != nil {
			return n, err
		}
		n++
	}
	_, err = w.Write(t.tail(n))
	return n, err
}

// words joins acts with commas.
func words(acts []changeset.Act) string {
	all := make([]string, len(acts))
	for i, a := range acts {
		all[i] = a.String()
	}
	return strings.Join(all, ",")
}

// name is what the file is called: its act, and what changes if that is one
// for all its records.
func (l *load) name() string {
	name := "changes"
	if len(l.acts) == 1 {
		name = l.acts[0].String()
	}
	if len(l.fields) == 0 || l.all || l.acts[0] != changeset.Amend {
		return name
	}
	list := strings.Map(func(r rune) rune {
		if r < 0x80 && !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_+", r) {
			return '-'
		}
		return r
	}, strings.Join(l.fields, "+"))
	const long = 60
	if len(list) > long {
		list = fmt.Sprintf("%d-fields", len(l.fields))
	}
	return name + "-" + list
}

// byHandRows are the rows of the list of what no load file can undo.
func (s *System) byHandRows(all []byHand) [][]string {
	rows := [][]string{append(append([]string(nil), s.Key...), "field", "set to", "why by hand")}
	for _, h := range all {
		rows = append(rows, append(h.key.Parts(), h.field, h.value.String(), h.why))
	}
	return rows
}

// writeByHand lists what no load file can undo, to the letter.
func (s *System) writeByHand(name string, all []byHand) (disk.Written, error) {
	return disk.WriteFile(s.FS, name, 0o600, func(w io.Writer) error {
		cw := csv.NewWriter(w)
		if err := cw.WriteAll(s.byHandRows(all)); err != nil {
			return err
		}
		return cw.Error()
	})
}

// writeByHandBook writes the same as a workbook whose cells are texts.
func (s *System) writeByHandBook(name string, all []byHand) (disk.Written, error) {
	return disk.WriteFile(s.FS, name, 0o600, func(w io.Writer) error {
		x := xlsx.NewWriter(w)
		x.Name, x.Sheet = ByHandBook, "by hand"
		for _, row := range s.byHandRows(all) {
			cells := make([]record.Value, len(row))
			for i, text := range row {
				if xlsx.Unwritable(text) != "" {
					text = "(" + ByHandName + " has it; a workbook cannot hold it)"
				}
				cells[i] = record.Text(text)
			}
			if err := x.Write(cells); err != nil {
				return err
			}
		}
		return x.Close()
	})
}
