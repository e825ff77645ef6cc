package compare

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"paletwin/core/changeset"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// Is the copy a copy of the snapshot at all? That is judged once keys are
// matched, and before anything is said of missing records.

// judgeCopy refuses what is no copy, unless that was said not to matter.
func (p *pairs) judgeCopy() error {
	if p.o.SameOnly {
		p.stops()
		return nil
	}
	no := p.otherRows()
	if no == nil {
		no = p.keysOnly()
	}
	if no == nil {
		no = p.otherSet()
	}
	if no != nil {
		if !p.o.OtherRegister {
			return no
		}
		p.find(changeset.OtherRegist.Finding("%s; compared because --other-register was given", no.Text), p.copy.img.Name, "")
	}
	p.stops()
	return p.useLend()
}

// otherRows refuses a copy of whose rows fewer than half are in the snapshot.
func (p *pairs) otherRows() *Refusal {
	rows := p.copy.len() + p.alike()
	for _, j := range p.adds {
		if p.copy.isNothing(j) {
			rows--
		}
	}
	if p.copy.img.Loose || 2*p.matched >= rows && (rows > 0 || p.inAll() == 0 || p.copy.img.Part) {
		return nil
	}
	return p.noCopy(NotACopy, "%s is not a copy of %s: %d of its %s match", p.copy.img.Name, p.snap.img.Name, p.matched, words.Count(rows, "row"))
}

func (p *pairs) noCopy(code table.Code, format string, args ...any) *Refusal {
	return &Refusal{Code: code, File: p.copy.img.Name, Text: fmt.Sprintf(format, args...)}
}

// shared lists the fields that both have, without the key's.
func (p *pairs) shared() []int {
	var all []int
	for f, col := range p.res.Columns.Column {
		if col >= 0 && !slices.Contains(p.snap.keyCol, f) {
			all = append(all, f)
		}
	}
	return all
}

// keysOnly refuses a copy that has only the key in common with a snapshot of
// more fields: a list of records, a table with a row a field, another table of
// the same records.
func (p *pairs) keysOnly() *Refusal {
	if len(p.shared()) > 0 || len(p.snap.img.Heading) == len(p.snap.keyCol) || p.copy.img.Lent != nil || p.copy.img.Part {
		return nil
	}
	name, key := p.copy.img.Name, strings.Join(p.o.Key, ", ")
	others := p.strange()
	if len(others) == 0 {
		return p.noCopy(KeysOnly, "%s has the key %s and no other column of %s: it is a list of records, not an edited copy", name, key, p.snap.img.Name)
	}
	if column := p.longColumn(); column != "" {
		return p.noCopy(LongTable, "%s has a row for each field of a record, which its column %q names, and not a row for each record of %s", name, column, p.snap.img.Name)
	}
	return p.noCopy(OtherTable, "%s has only the key %s in common with %s; its other columns are %s", name, key, p.snap.img.Name, list(others))
}

// strange lists the copy's columns that are none of the snapshot's.
func (p *pairs) strange() []string {
	var all []string
	for _, col := range p.res.Columns.Ignored {
		if h := p.copy.img.Heading[col]; h != "" {
			all = append(all, h)
		}
	}
	return all
}

// list names the first of some columns.
func list(names []string) string {
	const most = 6
	text := strings.Join(names[:min(len(names), most)], ", ")
	if n := len(names) - most; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}

// longColumn is a column of the copy whose cells are names of the snapshot's
// fields.
func (p *pairs) longColumn() string {
	fields := map[string]bool{}
	for _, f := range p.snap.img.Heading {
		fields[strings.ToLower(f)] = true
	}
	const most = 500
	rows := min(p.copy.len(), most)
	for _, col := range p.res.Columns.Ignored {
		named := 0
		for j := range rows {
			cell, _ := csv.Cell(p.copy.raw(uint32(j)), col, p.copy.img.Comma)
			if fields[strings.ToLower(string(csv.Unquote(cell)))] {
				named++
			}
		}
		if rows > 0 && 2*named > rows {
			return p.copy.img.Heading[col]
		}
	}
	return ""
}

// otherSet refuses a copy that happens to have keys of the snapshot: hardly a
// value is like the record's, and most of the snapshot is missing, or most of
// the copy's columns are strange to it.
func (p *pairs) otherSet() *Refusal {
	fields := p.shared()
	if len(fields) == 0 || p.copy.img.Lent != nil {
		return nil
	}
	missing := p.o.Missing != Ignore && 2*p.matched < p.inAll()
	if others := len(p.strange()); !missing && others <= len(fields) {
		return nil
	}
	cells, alike := p.likeness(fields)
	if cells < 20 || 10*alike >= cells {
		return nil
	}
	what := ""
	if n := p.inAll() - p.matched; n > 0 {
		what = fmt.Sprintf(", and %d of %s are not in it", n, words.Count(p.inAll(), "record"))
	}
	return p.noCopy(NotACopy, "%s does not look like a copy of %s: of %s that both have (%s), %d are alike%s", p.copy.img.Name, p.snap.img.Name,
		words.Count(cells, "value"), list(names(p.res.Fields, fields)), alike, what)
}

func names(all []string, at []int) []string {
	some := make([]string, len(at))
	for i, k := range at {
		some[i] = all[k]
	}
	return some
}

// likeness compares values of matched records at fixed places, and counts those
// that are filled on both sides, and of these the ones that are alike: equal,
// or of the same letters and digits, as a program may have written them.
func (p *pairs) likeness(fields []int) (cells, alike int) {
	const most = 1000
	step := (p.matched-p.alike())/most + 1
	seen := 0
	var was, is csv.Row
	for i, m := range p.mate {
		if m < mateRow {
			continue
		}
		if seen++; seen%step != 0 {
			continue
		}
		was.Split(p.snap.raw(uint32(i)), p.snap.img.Comma, 0)
		is.Split(p.copy.raw(m-mateRow), p.copy.img.Comma, 0)
		for _, f := range fields {
			col := p.res.Columns.Column[f]
			if f >= was.Len() || col >= is.Len() {
				continue
			}
			a, b := bytes.TrimSpace(csv.Unquote(was.Cell(f))), bytes.TrimSpace(csv.Unquote(is.Cell(col)))
			if len(a) == 0 || len(b) == 0 {
				continue
			}
			cells++
			if bytes.Equal(a, b) || slices.Equal(signs(a), signs(b)) {
				alike++
			}
		}
	}
	return cells, alike
}

// signs are a value's letters and digits in order of size, without zeros: what
// stays of a number or date in whatever form.
func signs(b []byte) []rune {
	var all []rune
	for _, r := range strings.ToLower(string(b)) {
		if r != '0' && (unicode.IsLetter(r) || unicode.IsDigit(r)) {
			all = append(all, r)
		}
	}
	slices.Sort(all)
	return all
}
