package learn

import "slices"

// Form is how a column's values are written in the snapshot, by the reading that people
// make of them. Nil is no form.
type Form struct {
	own   *reading
	forms []printer
}

// FormOf learns the form of a column from its values; nil if they are texts.
func FormOf(values []string) *Form {
	cells := make([]Cell, len(values))
	for i, v := range values {
		cells[i] = Cell{v, v}
	}
	l := newLearner(cells, About{Shown: -1})
	if l.own == nil {
		return nil
	}
	return &Form{l.own, l.forms(&way{read: l.own})}
}

// Candidates lists values in the column's form that a text may stand for, however it is
// written.
func (f *Form) Candidates(seen string) []string {
	if f == nil {
		return nil
	}
	var all []string
	for _, r := range natural {
		v, ok := r.take(seen)
		if !ok || r.sort != f.own.sort {
			continue
		}
		all = f.write(all, v)
	}
	return all
}

// write adds how the column may write a value.
func (f *Form) write(all []string, v value) []string {
	for _, p := range f.forms {
		if t, ok := p.print(v); ok && !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	return all
}

// Has reports whether a value is written in the column's form.
func (f *Form) Has(v string) bool { return slices.Contains(f.Write(v), v) }

// Write lists how the column may write a value that its own reading takes a text for.
func (f *Form) Write(seen string) []string {
	v, ok := f.own.take(seen)
	if !ok {
		return nil
	}
	return f.write(nil, v)
}

// Numbers reports whether the column's values are numbers.
func (f *Form) Numbers() bool { return f.own.sort == number }
