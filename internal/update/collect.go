package update

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
)

// Collect gives what a system answered to a hand-off: a result file, or a number.
type Collect struct {
	Dossier *desk.Dossier
	Run     int    // the hand-off's; 0 is the last
	Of      string // the load file that was answered, where it is one of several
	Result  *desk.Source
	Answers Answers
	Done    int // without a result: so many records were done
}

// Answers say how a result file is read. What is empty is found by its heading.
type Answers struct {
	Key     []string // the columns with the key
	Status  string   // the column that says what became of a record
	Message string   // the column with the reason of a refusal
	OK      []string // the words of the status that mean done
	Refused bool     // the file lists refused records alone; the rest are done
}

// Collected is what an answer came to.
type Collected struct {
	*run.Collected
	Run  *run.Record
	File string // a workbook with what was refused, to be corrected; "" if nothing was
	// Vague says that a number told nothing of single records.
	Vague bool
}

// Collect takes an answer in, under the dossier's lock.
func (o *Office) Collect(c *Collect) (*Collected, error) {
	if c.Result == nil && c.Done < 0 {
		return nil, &Misuse{Negative, nil}
	}
	lock, err := c.Dossier.Lock()
	if err != nil {
		return nil, err
	}
	defer lock.Unlock()
	r, err := run.LastHandoff(c.Dossier, c.Run)
	if err != nil {
		return nil, err
	}
	var load *loadFile
	if c.Of != "" {
		if load, err = namedLoad(c.Dossier, r, c.Of); err != nil {
			return nil, err
		}
	}
	reply, vague, err := o.reply(c, r, load)
	if err != nil {
		return nil, err
	}
	reply.Answer.By = o.By
	if load != nil {
		reply.Scope, reply.Answer.Load = load.scope(), load.name
		if r.FieldByField() {
			reply.Fields = load.fields
		}
	}
	made := &Collected{Run: r, Vague: vague}
	if made.Collected, err = run.Collect(c.Dossier, r, reply, o.Now); err != nil {
		return nil, err
	}
	if made.Steps.Refused > 0 || r.Partly() > 0 {
		made.File, err = o.writeRefused(c.Dossier, r)
	}
	return made, err
}

// reply reads what the system said; vague says that it tells nothing of single
// records.
func (o *Office) reply(c *Collect, r *run.Record, load *loadFile) (reply run.Reply, vague bool, err error) {
	if c.Result == nil {
		return counted(c.Done, r, load)
	}
	if load == nil && r.FieldByField() {
		return reply, false, &Misuse{WhichFile, []any{r.Head.Run}}
	}
	reply, err = o.resulted(c, r)
	return reply, false, err
}

// resulted reads a result file, and keeps it.
func (o *Office) resulted(c *Collect, r *run.Record) (reply run.Reply, err error) {
	l, err := c.Dossier.Layout()
	if err != nil {
		return reply, err
	}
	file, err := desk.OpenSource(o.FS, c.Result)
	if err != nil {
		return reply, err
	}
	defer file.Close()
	how := result(c.Dossier, &c.Answers)
	how.Values = l.Schema().Assigned()
	rows, err := how.Read(file.Image)
	if err != nil {
		return reply, err
	}
	handoff.Recognise(rows.All, l.Schema(), slices.Collect(maps.Keys(r.Handed())))
	reply.Learnt = make([]run.Learnt, len(rows.All))
	for i, x := range rows.All {
		reply.Learnt[i] = run.Learnt{Key: x.Key, Outcome: run.Refused, Reason: cmp.Or(x.Message, "the system refused it"), Row: x.Row, Values: x.Values}
		if x.Done {
			reply.Learnt[i].Outcome, reply.Learnt[i].Reason = run.Done, ""
		}
	}
	if c.Answers.Refused {
		reply.Rest = run.Done
	}
	reply.Answer = run.Answer{Kind: "result", Name: file.Name, Rows: len(rows.All)}
	reply.Answer.File, reply.Answer.SHA256, err = o.keepResult(r, file)
	return reply, err
}

// keepResult keeps a result as it came in the run's folder.
func (o *Office) keepResult(r *run.Record, file *desk.Table) (name, sum string, err error) {
	ext := filepath.Ext(file.Name)
	name = fmt.Sprintf("result-%d%s", len(r.Heard)+1, cmp.Or(ext, ".csv"))
	w, err := disk.WriteFile(o.FS, filepath.Join(r.Dir, name), 0o600, func(w io.Writer) error {
		return table.Guard(func() error { _, err := w.Write(file.Bytes()); return err })
	})
	return name, w.SHA256, err
}

// counted takes in a mere number: it says something of the records only
// if it is all of them, or none.
func counted(done int, r *run.Record, load *loadFile) (reply run.Reply, vague bool, err error) {
	var all []run.Learnt
	for k := range r.Handed() {
		if load == nil || slices.Contains(load.keys, k) {
			all = append(all, run.Learnt{Key: k})
		}
	}
	reply.Answer = run.Answer{Kind: "count", Rows: done}
	outcome, reason := run.Done, ""
	switch {
	case done > len(all):
		return reply, false, &Misuse{TooMany, []any{len(all), done}}
	case done == len(all):
	case done == 0:
		outcome, reason = run.Refused, "the system did none"
	default:
		return reply, true, nil
	}
	for i := range all {
		all[i].Outcome, all[i].Reason = outcome, reason
	}
	reply.Learnt = all
	return reply, false, nil
}

// result is how a result file of the dossier is read.
func result(t *desk.Dossier, a *Answers) *handoff.Result {
	l, _ := t.OutwardLayout() // it was read before
	var fields []string
	if c, err := t.Changes(); err == nil {
		fields = c.Header.Fields
		_ = c.Close() // only read
	}
	return &handoff.Result{Key: t.Set().Key, Fields: fields, Columns: a.Key, Layout: l, Status: a.Status, Message: a.Message, OK: a.OK, Refused: a.Refused}
}

// loadFile is a load file of a hand-off that was named, with its records.
type loadFile struct {
	name   string
	fields []string // of amends sent field by field: those the file sends
	keys   []record.Key
}

// namedLoad finds a load file by its name, or the end of it.
func namedLoad(t *desk.Dossier, r *run.Record, name string) (*loadFile, error) {
	var names []string
	for _, l := range r.Loads {
		if !l.Forward() {
			continue
		}
		base := path.Base(l.Name)
		names = append(names, base)
		if base != filepath.Base(name) && !strings.HasPrefix(base, name+"-") {
			continue
		}
		file := t.Path("load", strconv.Itoa(r.Head.Run), filepath.FromSlash(l.Name))
		if strings.HasSuffix(base, ".sql") || l.Acts != "amend" && l.Acts != "add" && l.Acts != "delete" {
			return nil, &Misuse{WholeFile, []any{base}}
		}
		img, err := t.OpenTable(file, base, table.Options{})
		if err != nil {
			return nil, err
		}
		defer img.Close()
		keys, err := result(t, &Answers{Refused: true}).Read(img.Image)
		if err != nil {
			return nil, err
		}
		found := &loadFile{name: l.Name}
		if l.Acts == "amend" {
			found.fields = l.Fields
		}
		for _, row := range keys.All {
			found.keys = append(found.keys, row.Key)
		}
		return found, nil
	}
	return nil, &Misuse{NoSuchFile, []any{r.Head.Run, strings.Join(names, ", ")}}
}

// scope is the keys of the records that a load file has.
func (l *loadFile) scope() map[record.Key]bool {
	m := make(map[record.Key]bool, len(l.keys))
	for _, k := range l.keys {
		m[k] = true
	}
	return m
}
