package handoff

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// Result reads what a system answered to load files: a table with the
// records' keys and what became of each.
type Result struct {
	Key     []string
	Fields  []string       // all fields of the records: a column of theirs is no answer
	Columns []string       // the columns with the key, field by field; none is found
	Layout  *layout.Layout // or nil
	Outward layout.Outward
	Status  string   // the column that says what became of a record; "" is found
	Message string   // the column with the reason; "" is found, NoColumn is that there is none
	OK      []string // what the status says of a record that was done; none: the usual words
	Refused bool     // the table lists the refused records alone
	Values  bool     // what the rows have of the records' fields is read, too
}

// NoColumn says that there is no column for something.
const NoColumn = "none"

// Row is what a result says of a record.
type Row struct {
	Key     record.Key
	Done    bool
	Message string
	Row     int
	Values  record.Record
}

// Rows are what a result says, and in which column.
type Rows struct {
	All    []Row
	Status string // the heading that was used; "" is none
}

// ResultError is a result that cannot be read as one.
type ResultError struct {
	File string
	Text string
	Do   string
}

func (e *ResultError) Error() string { return e.File + ": " + e.Text }

// Headings by which the columns are found, and the words that say of a record
// that it was done, or was not. Others are asked about, never guessed.
var (
	statusHeadings  = []string{"status", "result", "outcome", "success", "state", "import status", "import result"}
	messageHeadings = []string{"message", "error", "errors", "reason", "detail", "details", "description", "error message", "import message"}
	doneWords       = []string{"ok", "done", "success", "successful", "succeeded", "true", "yes", "updated", "created", "inserted", "deleted", "imported", "accepted", "processed", "complete", "completed", "200", "201", "204"}
	refusedWords    = []string{"error", "failed", "failure", "fail", "refused", "rejected", "false", "no", "invalid", "not ok", "400", "403", "404", "409", "422", "500"}
)

// Read reads a result. Errors are *ResultError, or of the table.
func (r *Result) Read(m *table.Image) (*Rows, error) {
	keys, words, err := r.keyColumns(m)
	if err != nil {
		return nil, err
	}
	// A column of the records that is called status is no answer: the result
	// may be the load file itself with a column more.
	status, err := r.column(m, "status", r.Status, statusHeadings, keys)
	if err != nil {
		return nil, err
	}
	message, err := r.column(m, "message", r.Message, messageHeadings, append(keys, status))
	if err != nil {
		return nil, err
	}
	if status < 0 && message < 0 && !r.Refused {
		return nil, &ResultError{m.Name, "no column says what became of a record", "name it: --with status=COLUMN; or say --with refused, where the file lists the refused records alone\nits columns are " + strings.Join(m.Heading, ", ")}
	}
	if r.Refused {
		status = -1
	}
	all := &Rows{Status: heading(m, status)}
	values := r.valueColumns(m, append(keys, status, message))
	unknown := map[string]int{}
	err = csv.Each(context.Background(), m, func(x *csv.Line) error {
		row := Row{Message: strings.TrimSpace(x.Text(message)), Row: x.Number()}
		parts := make([]string, len(keys))
		for i, k := range keys {
			parts[i] = words[i].Read(strings.TrimSpace(x.Text(k))).String()
		}
		row.Key = record.NewKey(parts...)
		for _, c := range values {
			row.Values = append(row.Values, record.Field{Name: c.field, Value: c.word.Read(strings.TrimSpace(x.Text(c.col)))})
		}
		if status < 0 {
			row.Done = !r.Refused && row.Message == ""
		} else if said := strings.TrimSpace(x.Text(status)); !r.judge(&row, said) {
			unknown[said]++
		}
		all.All = append(all.All, row)
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(all.All) == 0 && !r.Refused {
		return nil, &ResultError{m.Name, "the file has no rows, and nothing is known from it", "name the system's answer; --with refused, where it lists the refused records and there are none"}
	}
	if len(unknown) > 0 {
		return nil, r.undecided(m, all.Status, unknown)
	}
	return all, r.noReason(m, all, append(keys, status, message))
}

// valueColumn is a column with a field of the records.
type valueColumn struct {
	field string
	word  *layout.Wording
	col   int
}

// valueColumns are the columns that have what was sent of the records, if that is asked for.
func (r *Result) valueColumns(m *table.Image, taken []int) (all []valueColumn) {
	if !r.Values {
		return nil
	}
	for _, f := range r.Fields {
		w, err := r.Layout.Wording(f, r.Outward)
		if err != nil || slices.Contains(r.Key, f) {
			continue
		}
		col := m.ColumnLike(w.Heading)
		if col < 0 {
			col = m.ColumnLike(f)
		}
		if col >= 0 && !slices.Contains(taken, col) {
			all = append(all, valueColumn{f, w, col})
		}
	}
	return all
}

// noReason asks for the column with the reasons, where records were refused and a
// column that is none of the records' could hold why.
func (r *Result) noReason(m *table.Image, all *Rows, taken []int) error {
	if r.Message != "" || taken[len(taken)-1] >= 0 || !slices.ContainsFunc(all.All, func(x Row) bool { return !x.Done }) {
		return nil
	}
	var could []string
	for i, h := range m.Heading {
		if h != "" && !slices.Contains(taken, i) && !r.ours(h) {
			could = append(could, h)
		}
	}
	if len(could) == 0 {
		return nil
	}
	return &ResultError{m.Name, "which column has the reason of a refusal? " + strings.Join(could, ", ") + " could",
		"name it: --with message=COLUMN; --with message=none, where there is none"}
}

// ours reports whether a heading is a field of the records, in our words or the
// system's.
func (r *Result) ours(heading string) bool {
	if r.Layout.Field(heading) != nil || slices.Contains(r.Fields, heading) {
		return true
	}
	return slices.ContainsFunc(r.Fields, func(f string) bool {
		w, err := r.Layout.Wording(f, r.Outward)
		return err == nil && strings.EqualFold(w.Heading, heading)
	})
}

// judge reads the word of a status, and reports whether it is known. It is the
// reason of a refusal that has no other.
func (r *Result) judge(row *Row, said string) (known bool) {
	word := strings.ToLower(said)
	if len(r.OK) > 0 {
		row.Done, known = slices.ContainsFunc(r.OK, func(w string) bool { return strings.EqualFold(w, said) }), true
	} else {
		row.Done = slices.Contains(doneWords, word)
		known = row.Done || slices.Contains(refusedWords, word)
	}
	if !row.Done {
		row.Message = cmp.Or(row.Message, said)
	}
	return known
}

func (r *Result) undecided(m *table.Image, column string, unknown map[string]int) error {
	var said []string
	for w, n := range unknown {
		said = append(said, fmt.Sprintf("%q (%d)", w, n))
	}
	slices.Sort(said)
	const most = 12
	if len(said) > most {
		said = append(said[:most], fmt.Sprintf("and %d more", len(said)-most))
	}
	return &ResultError{m.Name, "the column " + column + " says what is not known to mean done or refused: " + strings.Join(said, ", "),
		"say which words mean that a record was done: --with ok=WORD (repeatable; all others then mean refused), or name another column: --with status=COLUMN"}
}

// keyColumns finds the key's fields: by what the system calls them, by their
// names or by their titles and aliases.
func (r *Result) keyColumns(m *table.Image) ([]int, []*layout.Wording, error) {
	cols := make([]int, len(r.Key))
	words := make([]*layout.Wording, len(r.Key))
	for i, k := range r.Key {
		w, err := r.Layout.Wording(k, r.Outward)
		if err != nil {
			return nil, nil, err
		}
		names := []string{w.Heading, k}
		if f := r.Layout.Field(k); f != nil {
			names = append(append(names, f.Title), f.Aliases...)
		}
		words[i], cols[i] = w, -1
		if len(r.Columns) > 0 {
			names = r.Columns[i : i+1]
		}
		var found []string
		for _, n := range names {
			c := m.ColumnLike(n)
			if n == "" || c < 0 || slices.Contains(found, m.Heading[c]) {
				continue
			}
			if found = append(found, m.Heading[c]); cols[i] < 0 {
				cols[i] = c
			}
		}
		if len(found) > 1 {
			return nil, nil, &ResultError{m.Name, "which column is the key " + k + "? " + strings.Join(found, ", ") + " could be", "name it: --with key=COLUMN"}
		}
		if cols[i] < 0 && len(r.Columns) > 0 {
			return nil, nil, &ResultError{m.Name, "there is no column " + r.Columns[i], "its columns are " + strings.Join(m.Heading, ", ")}
		}
		if cols[i] < 0 {
			return nil, nil, &ResultError{m.Name, "there is no column " + k + ", which says which record a row is", "name it: --with key=COLUMN\nits columns are " + strings.Join(m.Heading, ", ")}
		}
	}
	return cols, words, nil
}

// column finds a column that was named, or the one with a usual heading that is
// no field of the records. Which of several is meant is asked.
func (r *Result) column(m *table.Image, flag, named string, usual []string, taken []int) (int, error) {
	if named != "" {
		if i := m.ColumnLike(named); i >= 0 {
			return i, nil
		}
		if named == NoColumn {
			return -1, nil
		}
		return -1, &ResultError{m.Name, "there is no column " + named, "its columns are " + strings.Join(m.Heading, ", ")}
	}
	at := -1
	var found []string
	for _, h := range usual {
		i := m.ColumnLike(h)
		if i < 0 || slices.Contains(taken, i) || slices.Contains(found, m.Heading[i]) || r.ours(m.Heading[i]) {
			continue
		}
		if found = append(found, m.Heading[i]); at < 0 {
			at = i
		}
	}
	if len(found) > 1 {
		return -1, &ResultError{m.Name, "which column is the " + flag + "? " + strings.Join(found, ", ") + " could be", "name it: --with " + flag + "=COLUMN"}
	}
	return at, nil
}

func heading(m *table.Image, i int) string {
	if i < 0 {
		return ""
	}
	return m.Heading[i]
}
