package run

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"io"
	"iter"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/jsontext"
	"paletwin/core/record"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// This file writes the lines of journals and rollback files. A run may have a
// million of them, so they are put together by hand; journal.go reads them.

// line is a JSON object that is being written.
type line []byte

func (l *line) name(name string) {
	if (*l)[len(*l)-1] != '{' {
		*l = append(*l, ',')
	}
	*l = append(append(append(*l, '"'), name...), '"', ':')
}

// text writes a member, but for an empty one.
func (l *line) text(name, v string) {
	if v != "" {
		l.name(name)
		*l = jsontext.AppendString(*l, v)
	}
}

func (l *line) texts(name string, all []string) {
	l.name(name)
	*l = append(*l, '[')
	for i, v := range all {
		if i > 0 {
			*l = append(*l, ',')
		}
		*l = jsontext.AppendString(*l, v)
	}
	*l = append(*l, ']')
}

// values writes an object of values, but for an empty one.
func (l *line) values(name string, r record.Record) {
	if len(r) > 0 {
		l.name(name)
		*l = append(*l, '{')
		*l = append(changeset.AppendRecord(*l, r), '}')
	}
}

// value writes a member of which there are few.
func (l *line) value(name string, v any) {
	b, _ := json.Marshal(v) // texts are always encoded
	l.name(name)
	*l = append(*l, b...)
}

// fields writes a list of fields with their values before and after.
func (l *line) fields(name string, all iter.Seq[changeset.Edit]) {
	n := 0
	for f := range all {
		if n++; n == 1 {
			l.name(name)
		}
		*l = append(*l, "[,"[min(n-1, 1)], '{')
		l.name("field")
		*l = jsontext.AppendString(*l, f.Field)
		l.name("from")
		*l = changeset.AppendValue(*l, f.From)
		l.name("to")
		*l = changeset.AppendValue(*l, f.To)
		l.text("linked", f.Linked)
		*l = append(*l, '}')
	}
	if n > 0 {
		*l = append(*l, ']')
	}
}

// head writes what every line of a step begins with.
func (s *Step) head(l *line) {
	*l = append(*l, `{"id":"`...)
	*l = append(hex.AppendEncode(*l, s.ID[:]), `","act":"`...)
	*l = append(append(*l, s.Act.String()...), '"')
	l.texts("key", s.Key.Parts())
}

// whole writes what the step changes, from what the target had.
func (s *Step) whole(l *line) {
	l.text("linked", s.Linked())
	if was := s.Was().Parts(); len(was) > 0 {
		l.texts("was", was)
	}
	l.fields("fields", s.Fields.All())
	l.fields("record", func(yield func(changeset.Edit) bool) {
		for f := range s.Record.All() {
			if !yield(changeset.Edit{Field: f.Name, From: f.Value, To: f.Value}) {
				return
			}
		}
	})
}

// rollback is the step as a rollback file has it: everything.
func (s *Step) rollback(l *line) {
	s.head(l)
	s.whole(l)
	if s.former != nil && s.former.form.Kept {
		f := &s.former.form
		l.name("row")
		*l = jsontext.AppendString(*l, f.Row)
		if parts := f.After.Parts(); len(parts) > 0 {
			l.texts("after", parts)
		}
		l.text("gap", f.Gap)
		l.text("end", f.End)
		l.text("lead", f.Lead)
	}
	*l = append(*l, '}')
}

// intent is the step as a journal's intent line has it.
func (s *Step) intent(l *line) {
	s.head(l)
	if s.Act == changeset.Add {
		l.values("write", s.Record.Record())
	}
	n := 0
	for f := range s.Fields.All() {
		if n++; n == 1 {
			*l = append(*l, `,"write":{`...)
		} else {
			*l = append(*l, ',')
		}
		*l = append(jsontext.AppendString(*l, f.Field), ':')
		*l = changeset.AppendValue(*l, f.To)
	}
	if n > 0 {
		*l = append(*l, '}')
	}
	*l = append(*l, '}')
}

// known is a step whose outcome was known before the run's first, as a journal
// has it: it stands in no rollback file, and says itself what it is.
func (s *Step) known(l *line) { s.outcomeOf(l, true) }

// outcome is the step as a journal's outcome line has it. What a written step
// changed stands in the rollback file.
func (s *Step) outcome(l *line) { s.outcomeOf(l, s.Outcome == Settled || s.Outcome == Conflict) }

func (s *Step) outcomeOf(l *line, whole bool) {
	s.head(l)
	l.text("outcome", string(s.Outcome))
	l.text("reason", s.Reason)
	s.rare.append(l)
	if whole {
		s.whole(l)
	}
	l.name("when")
	*l = append(s.When.Time().AppendFormat(append(*l, '"'), time.RFC3339Nano), '"', '}')
}

// append writes what became of a step beyond its outcome.
func (r *Rare) append(l *line) {
	if r == nil {
		return
	}
	l.values("read", r.Read)
	l.values("before", r.Before)
	if len(r.Along) > 0 {
		l.value("along", r.Along)
	}
	l.values("seen", r.Seen)
	if len(r.Left) > 0 {
		l.texts("left", r.Left)
	}
	if len(r.answered) > 0 {
		l.value("answered", r.answered)
	}
	l.text("went_by", r.WentBy)
	if len(r.Named) > 0 {
		l.value("named", r.Named)
	}
}

// batch writes a line of a batch: its steps' intents or outcomes, and what
// more belongs to them.
func batch(n int, what string, steps []*Step, write func(*Step, *line), more map[string]any) ([]byte, error) {
	return batchIn(nil, n, what, steps, write, more)
}

// batchIn is batch in the room of a line that is needed no more.
func batchIn(room []byte, n int, what string, steps []*Step, write func(*Step, *line), more map[string]any) ([]byte, error) {
	l := append(line(room[:0]), '{')
	if n > 0 {
		l.name("batch")
		l = strconv.AppendInt(l, int64(n), 10)
	}
	l.name(what)
	for i, s := range steps {
		l = append(l, "[,"[min(i, 1)])
		write(s, &l)
	}
	if len(steps) == 0 {
		l = append(l, '[')
	}
	l = append(l, ']')
	for _, name := range slices.Sorted(maps.Keys(more)) {
		b, err := json.Marshal(more[name])
		if err != nil {
			return nil, err
		}
		l.name(name)
		l = append(l, b...)
	}
	return append(l, '}', '\n'), nil
}

// undoing is the line before steps are undone.
func undoing(steps []*Step) ([]byte, error) {
	return batch(0, "undo", steps, func(s *Step, l *line) {
		s.head(l)
		*l = append(*l, '}')
	}, nil)
}

// promised is the line before a batch is committed: what becomes of its steps then,
// and the ticket of the transaction.
func promised(n int, steps []*Step, ticket json.RawMessage) ([]byte, error) {
	return batch(n, "promise", steps, (*Step).outcome, map[string]any{"ticket": ticket})
}

// committed is the line after it was.
func committed(n int) ([]byte, error) {
	return fmt.Appendf(nil, "{\"batch\":%d,\"committed\":true}\n", n), nil
}

// outcomes is the line after a batch; of a hand-off it names the files that were
// made.
func outcomes(n int, steps []*Step, h target.Loader) ([]byte, error) {
	var more map[string]any
	if h != nil {
		more = map[string]any{"loads": h.Loads(), "beside": h.Beside()}
	}
	return batch(n, "outcomes", steps, (*Step).outcome, more)
}

// answered is a line with outcomes that were learnt after a hand-off.
func answered(n int, steps []*Step, a *Answer) ([]byte, error) {
	return batch(n, "outcomes", steps, (*Step).outcome, map[string]any{"answer": a})
}

// ended is a journal's last line.
func ended(how string, when time.Time) ([]byte, error) {
	return fmt.Appendf(nil, "{\"end\":%q,\"when\":%q}\n", how, when.UTC().Format(time.RFC3339Nano)), nil
}

// writeRollback writes rollback.jsonl: a heading, a line for each step that
// is going to be written, and a seal.
func writeRollback(fsys disk.FS, dir string, head any, steps int, each func(take func(s *Step) error) error) (w disk.Written, err error) {
	var sum hash.Hash // of the lines, and then of the seal, too
	w, err = disk.WriteUnsummed(fsys, filepath.Join(dir, rollbackName), 0o600, func(w io.Writer) error {
		beside := disk.HashBeside()
		out := bufio.NewWriterSize(io.MultiWriter(w, beside), 1<<16)
		err := rollbackLines(out, head, each)
		if sum = beside.End(); err != nil {
			return err
		}
		return json.NewEncoder(io.MultiWriter(w, sum)).Encode(map[string]any{"seal": changeset.ChecksumOf(sum), "steps": steps})
	})
	if err == nil {
		w.SHA256 = hex.EncodeToString(sum.Sum(nil))
	}
	return w, err
}

func rollbackLines(out *bufio.Writer, head any, each func(take func(s *Step) error) error) error {
	e := json.NewEncoder(out)
	e.SetEscapeHTML(false)
	if err := e.Encode(head); err != nil {
		return err
	}
	var l line
	err := each(func(s *Step) error {
		l = l[:0]
		s.rollback(&l)
		_, err := out.Write(append(l, '\n'))
		return err
	})
	if err != nil {
		return err
	}
	return out.Flush()
}

// beginJournal writes a journal's heading, and the outcomes that are known,
// whole or not at all: with them the run has begun.
func beginJournal(t *desk.Dossier, r *Record, known []*Step) (*journal, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(&r.Head); err != nil {
		return nil, err
	}
	first := desk.LineDigest(b.Bytes())
	j := &journal{t: t, name: chainOf(r.Head.Run), version: r.Head.Version, last: first}
	if len(known) > 0 {
		line, err := batch(0, "outcomes", known, (*Step).known, nil)
		if err != nil {
			return nil, err
		}
		line = j.link(line)
		b.Write(line)
		j.last = desk.LineDigest(line)
	}
	j.size = int64(b.Len())
	if err := disk.WriteBytes(t.FS(), t.Path(j.name), b.Bytes()); err != nil {
		return nil, err
	}
	return j, t.SetHead(j.name, j.size, first, j.last)
}

// journal appends to a run's journal.
type journal struct {
	t       *desk.Dossier
	name    string // in the dossier
	version int
	size    int64  // of its whole lines
	last    string // the digest of the last of them
}

// journal returns what appends to the run's journal.
func (r *Record) journal(t *desk.Dossier) *journal {
	return &journal{t, chainOf(r.Head.Run), r.Head.Version, r.size, r.last}
}

// link puts the digest of the line before into a line.
func (j *journal) link(line []byte) []byte {
	if j.version < 3 {
		return line
	}
	line = bytes.TrimSuffix(line, []byte("}\n"))
	return fmt.Appendf(line, ",\"previous\":%q}\n", j.last)
}

// append writes a line behind the others; what made it may have failed.
func (j *journal) append(line []byte, err error) error {
	if err != nil {
		return err
	}
	line = j.link(line)
	sum, err := j.t.AppendTo(j.name, j.size, line)
	if err != nil {
		return err
	}
	j.size, j.last = j.size+int64(len(line)), sum
	return nil
}

// manySteps is how many steps a line has at most, where a batch may be a whole run: several lines say then what one would.
var manySteps = 1 << 16

// appendAll writes lines of steps' intents or outcomes.
func (j *journal) appendAll(n int, what string, steps []*Step, write func(*Step, *line)) error {
	var room []byte
	for some := range slices.Chunk(steps, manySteps) {
		line, err := batchIn(room, n, what, some, write, nil)
		if err != nil {
			return err
		}
		room = line
		if err := j.append(line, nil); err != nil {
			return err
		}
	}
	return nil
}

// append writes a line behind the others of a run that was read.
func (r *Record) append(t *desk.Dossier, line []byte, err error) error {
	j := r.journal(t)
	err = j.append(line, err)
	r.size, r.last = j.size, j.last
	return err
}
