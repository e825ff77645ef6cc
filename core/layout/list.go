package layout

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync"

	"paletwin/core/expr"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// List is a reference set: the records that a field may name, by their code
// and perhaps by a name.
type List struct {
	Name string // as the layout has it
	By   string // the column with the codes
	As   string // the column with the names, or ""

	heading []string
	rows    [][]string
	codes   map[string]int // by the form in which they are compared
	also    map[string]string
	form    func(string) string // of codes
	names   map[string]int      // -1 where several have the name
	once    sync.Once
	byShown map[string]int // see shown
}

// Set is the record set that the list has the records of, by the list's name.
func (l *List) Set() string {
	name := filepath.Base(l.Name)
	for _, ext := range []string{".csv", ".xlsx"} {
		name = strings.TrimSuffix(name, ext)
	}
	return name
}

// readList reads a list; by and as name its columns, "" the first and none.
func readList(name string, m *table.Image, by, as string, form func(string) string) (*List, error) {
	l := &List{Name: name, By: by, As: as, heading: m.Heading, form: form, codes: map[string]int{}, names: map[string]int{}}
	if l.By == "" {
		l.By = m.Heading[0]
	}
	byCol, asCol := m.Column(l.By), -1
	if byCol < 0 {
		return nil, fmt.Errorf("the list %s has no column %q; it has %s", name, l.By, strings.Join(m.Heading, ", "))
	}
	if as != "" {
		if asCol = m.Column(as); asCol < 0 {
			return nil, fmt.Errorf("the list %s has no column %q; it has %s", name, as, strings.Join(m.Heading, ", "))
		}
	}
	err := csv.Each(context.Background(), m, func(r *csv.Line) error {
		row := make([]string, len(m.Heading))
		for i := range row {
			row[i] = string(r.Cell(i))
		}
		code := form(row[byCol])
		if _, twice := l.codes[code]; twice {
			return fmt.Errorf("the list %s has %q twice in column %s (row %d)", name, row[byCol], l.By, r.Number())
		}
		l.codes[code] = len(l.rows)
		if asCol >= 0 {
			key := nameForm(row[asCol])
			if _, twice := l.names[key]; twice {
				l.names[key] = -1
			} else {
				l.names[key] = len(l.rows)
			}
		}
		l.rows = append(l.rows, row)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return l, nil
}

// nameForm is a name as names are compared: case and spaces do not tell.
func nameForm(s string) string { return strings.ToLower(strings.Join(strings.Fields(s), " ")) }

func (l *List) column(name string) int {
	for i, h := range l.heading {
		if h == name {
			return i
		}
	}
	return -1
}

// code returns a code as the list writes it.
func (l *List) code(form string) (string, bool) {
	i, ok := l.codes[form]
	if !ok {
		code, ok := l.also[form]
		return code, ok
	}
	return l.rows[i][l.column(l.By)], true
}

// Also lets the field name records that its list does not have yet: those that are added along.
func (f *Field) Also(codes []string) {
	if f.List.also == nil {
		f.List.also = map[string]string{}
	}
	for _, c := range codes {
		f.List.also[f.Compare.Normal(c)] = c
	}
}

// Len returns how many records the list has; Codes lists their codes.
func (l *List) Len() int { return len(l.rows) }
func (l *List) Codes() []string {
	all := make([]string, len(l.rows))
	c := l.column(l.By)
	for i, r := range l.rows {
		all[i] = r[c]
	}
	return all
}

// resolve makes the code of a code or a name. ambiguous says that several
// have the name.
func (l *List) resolve(text, form string) (code string, ok, ambiguous bool) {
	if code, ok := l.code(form); ok {
		return code, true, false
	}
	i, ok := l.names[nameForm(text)]
	if !ok {
		i, ok = l.shown()[nameForm(text)]
	}
	switch {
	case !ok:
		return "", false, false
	case i < 0:
		return "", false, true
	}
	return l.rows[i][l.column(l.By)], true, false
}

// named makes the code of a name that an expression has. A code stays, and so does what is neither.
func (l *List) named(text string) (code string, ok bool, err error) {
	if _, is := l.codes[l.form(text)]; is {
		return text, false, nil
	}
	code, ok, ambiguous := l.resolve(text, l.form(text))
	if ambiguous {
		err = fmt.Errorf("%q is the name of several in %s; its code is needed", text, l.Name)
	}
	return code, ok, err
}

// called reports whether a text is the name of the record with a code, be it the
// name of others, too.
func (l *List) called(text, form string) bool {
	i, ok := l.codes[form]
	if !ok || l.As == "" {
		return false
	}
	name, code := l.rows[i][l.column(l.As)], l.rows[i][l.column(l.By)]
	return nameForm(name) == nameForm(text) || nameForm(code+" "+name) == nameForm(text)
}

// Shown lists the codes with their names behind them, "D07 Old Pier", as they are chosen from; resolve reads them. Without names
// they are the codes.
func (l *List) Shown() []string {
	all := l.Codes()
	if c := l.column(l.As); c >= 0 && l.As != "" {
		for i, r := range l.rows {
			if r[c] != "" {
				all[i] += " " + r[c]
			}
		}
	}
	return all
}

// shown are the rows by the forms of what Shown lists; one that is another's name or code is none.
func (l *List) shown() map[string]int {
	l.once.Do(func() {
		l.byShown = map[string]int{}
		if l.As == "" {
			return
		}
		for i, s := range l.Shown() {
			form := nameForm(s)
			if _, twice := l.byShown[form]; twice {
				l.byShown[form] = -1
			} else {
				l.byShown[form] = i
			}
		}
	})
	return l.byShown
}

// near lists codes and names like the text.
func (l *List) near(text string) []string {
	if n := expr.Near(text, l.Codes()); len(n) > 0 || l.As == "" {
		return n
	}
	var names []string
	c, by := l.column(l.As), l.column(l.By)
	for _, r := range l.rows {
		names = append(names, r[c])
	}
	var near []string
	for _, n := range expr.Near(text, names) {
		for _, r := range l.rows {
			if r[c] == n {
				near = append(near, fmt.Sprintf("%s (%s)", n, r[by]))
			}
		}
	}
	return near
}

// Translation makes values of other values: the codes of one place those of
// another.
type Translation struct {
	From   string // the list's file, or ""
	Always bool   // a value that is both a source and valid is translated, too
	to     map[string]string
}

// Len returns how many values it translates.
func (t *Translation) Len() int { return len(t.to) }

// NameOf is the name of a code, or "".
func (l *List) NameOf(code string) string {
	i, ok := l.codes[l.form(code)]
	if !ok || l.As == "" {
		return ""
	}
	return l.rows[i][l.column(l.As)]
}
