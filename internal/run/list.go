package run

import (
	"bytes"
	"encoding/json"
	"iter"
	"maps"
	"runtime"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
)

// Row is what the list of dossiers shows of one, or of a record set of one.
type Row struct {
	Number    string          `json:"dossier"`
	Title     string          `json:"title"`
	By        string          `json:"by"`
	When      time.Time       `json:"when"`
	RecordSet string          `json:"record_set"`
	Changes   changeset.Tally `json:"changes"`
	Undoes    *desk.Undoes    `json:"undoes,omitempty"`
	Status    string          `json:"status"` // in words
	Steps     Steps           `json:"steps"`
	Open      bool            `json:"open"` // something still waits for somebody

	Path   string `json:"-"` // of one that is damaged, as a person at the desk would type it
	Damage error  `json:"-"` // why it cannot be opened
	Err    error  `json:"-"` // why its runs cannot be read
	passes bool   // a process may be at work on it
}

// List is what there is of dossiers on a desk. What was shown of one is kept, and shown again as long as no file of it, nor of what
// undoes it, was written to.
type List struct {
	desk    *desk.Desk
	folders []string
	marks   map[string]string // by folder
	kept    map[string]*keptRow
	read    map[string][]*desk.Dossier // what was opened, by folder
	undoers map[string][]string        // folders, by the number of what they undo
	was     []byte                     // what is kept, as it stands in its file
}

// keptRow is a row as it is kept.
type keptRow struct {
	Mark string `json:"mark"` // of the dossier and of what undoes it
	Own  string `json:"own"`  // of the dossier alone
	Row
}

// keptList is the file of what is kept.
type keptList struct {
	Form    string              `json:"paletwin"`
	Version int                 `json:"version"`
	Rows    map[string]*keptRow `json:"dossiers"` // by folder
}

// listVersion is another one whenever the same dossier would be shown with other words.
const listVersion = 1

// ListOf lists a desk's dossiers.
func ListOf(d *desk.Desk) (*List, error) {
	l := &List{desk: d, marks: map[string]string{}, kept: map[string]*keptRow{}, read: map[string][]*desk.Dossier{}, undoers: map[string][]string{}}
	var err error
	if l.folders, err = d.Folders(); err != nil {
		return nil, err
	}
	l.was = d.KeptList()
	var k keptList
	if json.Unmarshal(l.was, &k) == nil && k.Form == "list" && k.Version == listVersion && k.Rows != nil {
		l.kept = k.Rows
	}
	l.mark()
	d.Copies = nil
	for _, f := range l.folders {
		k := l.kept[f]
		if k == nil || k.Own != l.marks[f] || l.marks[f] == "" {
			for _, t := range l.open(f) {
				if t.Damage == nil {
					l.undoer(t.Meta.Undoes.Of(), f)
				}
			}
			continue
		}
		l.undoer(k.Undoes.Of(), f)
	}
	return l, nil
}

// undoer notes that the dossier in a folder undoes another.
func (l *List) undoer(number, folder string) {
	if number != "" && !slices.Contains(l.undoers[number], folder) {
		l.undoers[number] = append(l.undoers[number], folder)
	}
}

// mark makes the marks of all dossiers, on all cores. One that cannot be read has none.
func (l *List) mark() {
	marks := make([]string, len(l.folders))
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	const at = 64
	for from := 0; from < len(l.folders); from += at {
		g.Go(func() error {
			for i := from; i < min(from+at, len(l.folders)); i++ {
				marks[i], _ = l.desk.Mark(l.folders[i]) // whoever opens it says what is wrong
			}
			return nil
		})
	}
	_ = g.Wait() // none of them fails
	for i, f := range l.folders {
		l.marks[f] = marks[i]
	}
}

// open opens the dossier in a folder, once.
func (l *List) open(folder string) []*desk.Dossier {
	all, known := l.read[folder]
	if !known {
		all = l.desk.In(folder, l.folders)
		l.read[folder] = all
	}
	return all
}

// whole is the mark of a dossier and of what undoes it, and of what undoes that; "" where one has none.
func (l *List) whole(folder, number string, above ...string) string {
	mark := l.marks[folder]
	for _, u := range l.undoers[number] {
		if slices.Contains(above, u) || u == folder {
			return ""
		}
		next := ""
		if k := l.kept[u]; k != nil && k.Own == l.marks[u] {
			next = l.whole(u, k.Number, append(above, folder)...)
		} else if all := l.open(u); len(all) == 1 && all[0].Damage == nil {
			next = l.whole(u, all[0].Meta.Number, append(above, folder)...)
		}
		if next == "" {
			return ""
		}
		mark += "+" + next
	}
	return mark
}

// Empty reports whether there is no dossier.
func (l *List) Empty() bool { return len(l.folders) == 0 }

// Backward gives the rows, the newest dossier first; its record sets are in their order.
func (l *List) Backward() iter.Seq[[]*Row] {
	return func(yield func([]*Row) bool) {
		l.desk.UndoneBy(maps.Clone(l.undoers), l.folders, func() {
			for _, f := range slices.Backward(l.folders) {
				if rows := l.rows(f); len(rows) > 0 && !yield(rows) {
					return
				}
			}
		})
	}
}

// rows are the rows of the dossier in a folder; none of a copy.
func (l *List) rows(folder string) []*Row {
	if k := l.kept[folder]; k != nil && k.Own == l.marks[folder] && k.Own != "" {
		if k.Mark == l.whole(folder, k.Number) {
			return []*Row{&k.Row}
		}
	}
	delete(l.kept, folder)
	all := l.open(folder)
	var rows []*Row
	for _, t := range all {
		rows = append(rows, rowOf(t))
	}
	if len(all) == 1 && !all[0].IsPart() && rows[0].final() {
		if mark := l.whole(folder, rows[0].Number); mark != "" {
			l.kept[folder] = &keptRow{Mark: mark, Own: l.marks[folder], Row: *rows[0]}
		}
	}
	return rows
}

func rowOf(t *desk.Dossier) *Row {
	if t.Damage != nil {
		return &Row{Path: t.Rel(t.Dir), Damage: t.Damage}
	}
	r := new(Row)
	m := t.Meta
	r.Number, r.Title, r.By, r.When, r.RecordSet, r.Changes, r.Undoes = m.Number, m.Title, m.By, m.When, t.Set().Name, t.Set().Changes, m.Undoes
	s, err := ReadStatus(t)
	if r.Err = err; err == nil {
		r.Status, r.Steps, r.Open = s.String(), s.Steps, s.Open(t)
		r.passes = len(s.Runs) > 0 && s.Runs[len(s.Runs)-1].Ended == ""
	}
	return r
}

// final reports whether a row stays as it is until a file is written to.
func (r *Row) final() bool { return r.Damage == nil && r.Err == nil && !r.passes }

// Keep keeps what was looked up, where it is not what is kept already.
func (l *List) Keep() {
	for f := range l.kept {
		if _, there := l.marks[f]; !there {
			delete(l.kept, f)
		}
	}
	b, err := json.Marshal(keptList{"list", listVersion, l.kept})
	if b = append(b, '\n'); err == nil && !bytes.Equal(b, l.was) {
		l.desk.KeepList(b)
	}
}
