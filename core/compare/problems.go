package compare

import (
	"fmt"
	"strings"

	"paletwin/core/changeset"
)

// noRow stands for no row of the copy.
const noRow = ^uint32(0)

// problems counts what is wrong with values, by what is said of them.
type problems struct {
	order []problem
	at    map[problem]*seen
}

type problem struct{ code, field, level, text string }

type seen struct {
	count int
	rows  []uint32
	keys  []string // of records that are not in the copy
}

// maxProblems is how many different things are said of one comparison.
const maxProblems = 2000

func (p *problems) note(code, field, level, text string, j uint32) {
	if s := p.count(code, field, level, text); s != nil && j != noRow && len(s.rows) < changeset.MaxRows {
		s.rows = append(s.rows, j)
	}
}

// noteKey notes a problem with a record that is not in the copy.
func (p *problems) noteKey(code, field, level, text, key string) {
	if s := p.count(code, field, level, text); s != nil && len(s.keys) < changeset.MaxRows {
		s.keys = append(s.keys, key)
	}
}

func (p *problems) count(code, field, level, text string) *seen {
	key := problem{code, field, level, text}
	s := p.at[key]
	if s == nil {
		if len(p.order) >= maxProblems {
			key.text = "more of the kind"
			if s = p.at[key]; s == nil && len(p.order) > 2*maxProblems {
				return nil
			}
		}
		if s == nil {
			s = p.insert(key)
		}
	}
	s.count++
	return s
}

func (p *problems) insert(key problem) *seen {
	if p.at == nil {
		p.at = map[problem]*seen{}
	}
	s := new(seen)
	p.at[key] = s
	p.order = append(p.order, key)
	return s
}

// merge takes in what a later part of the work noted.
func (p *problems) merge(o *problems) {
	for _, key := range o.order {
		s := p.at[key]
		if s == nil {
			s = p.insert(key)
		}
		s.count += o.at[key].count
		s.rows = append(s.rows, o.at[key].rows[:min(len(o.at[key].rows), changeset.MaxRows-len(s.rows))]...)
		s.keys = append(s.keys, o.at[key].keys[:min(len(o.at[key].keys), changeset.MaxRows-len(s.keys))]...)
	}
}

// reportProblems makes findings of them: stops first, then by field.
func (wr *writer) reportProblems(p *problems) {
	for _, key := range p.order {
		s := p.at[key]
		f := changeset.Finding{Code: key.code, Level: changeset.Level(key.level), Scope: changeset.OfField, Text: key.text, Column: key.field, Count: s.count}
		if key.field == "" {
			f.Scope = changeset.OfRecord
		}
		if key.text == "" {
			f.Text = wr.columnWords(key.field, s.count)
		}
		if len(s.keys) > 0 {
			f.Key = s.keys[0]
			f.Text += ": " + strings.Join(s.keys, ", ")
			if s.count > len(s.keys) {
				f.Text += fmt.Sprintf(" and %d more", s.count-len(s.keys))
			}
		}
		if len(s.rows) == 0 {
			wr.find(f, "", key.field)
			continue
		}
		rows := wr.copy.rowNumbers(s.rows)
		f.Row = rows[0]
		if len(rows) > 1 {
			f.Rows = rows
		}
		wr.find(f, wr.copy.img.Name, key.field)
	}
}
