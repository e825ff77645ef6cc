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
func (c *comparison) judgeCopy() error {
	if c.o.SameOnly {
		c.stops()
		return nil
	}
	no := c.otherRows()
	if no == nil {
		no = c.keysOnly()
	}
	if no == nil {
		no = c.otherSet()
	}
	if no != nil {
		if !c.o.OtherRegister {
			return no
		}
		c.find(changeset.OtherRegist.Finding("%s; compared because --other-register was given", no.Text), c.copy.img.Name, "")
	}
	c.stops()
	return c.useLend()
}

// otherRows refuses a copy of whose rows fewer than half are in the snapshot.
func (c *comparison) otherRows() *Refusal {
	rows := c.copy.len()
	if 2*c.matched >= rows && (rows > 0 || c.snap.len() == 0) {
		return nil
	}
	return c.noCopy(NotACopy, "%s is not a copy of %s: %d of its %s match", c.copy.img.Name, c.snap.img.Name, c.matched, words.Count(rows, "row"))
}

func (c *comparison) noCopy(code table.Code, format string, args ...any) *Refusal {
	return &Refusal{Code: code, File: c.copy.img.Name, Text: fmt.Sprintf(format, args...)}
}

// shared lists the fields that both have, without the key's.
func (c *comparison) shared() []int {
	var all []int
	for f, col := range c.res.Columns.Column {
		if col >= 0 && !slices.Contains(c.snap.keyCol, f) {
			all = append(all, f)
		}
	}
	return all
}

// keysOnly refuses a copy that has only the key in common with a snapshot of
// more fields: a list of records, a table with a row a field, another table of
// the same records.
func (c *comparison) keysOnly() *Refusal {
	if len(c.shared()) > 0 || len(c.snap.img.Heading) == len(c.snap.keyCol) || c.copy.img.Lent != nil {
		return nil
	}
	name, key := c.copy.img.Name, strings.Join(c.o.Key, ", ")
	others := c.strange()
	if len(others) == 0 {
		return c.noCopy(KeysOnly, "%s has the key %s and no other column of %s: it is a list of records, not an edited copy", name, key, c.snap.img.Name)
	}
	if column := c.longColumn(); column != "" {
		return c.noCopy(LongTable, "%s has a row for each field of a record, which its column %q names, and not a row for each record of %s", name, column, c.snap.img.Name)
	}
	return c.noCopy(OtherTable, "%s has only the key %s in common with %s; its other columns are %s", name, key, c.snap.img.Name, list(others))
}

// strange lists the copy's columns that are none of the snapshot's.
func (c *comparison) strange() []string {
	var all []string
	for _, col := range c.res.Columns.Ignored {
		if h := c.copy.img.Heading[col]; h != "" {
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
func (c *comparison) longColumn() string {
	fields := map[string]bool{}
	for _, f := range c.snap.img.Heading {
		fields[strings.ToLower(f)] = true
	}
	const most = 500
	rows := min(c.copy.len(), most)
	for _, col := range c.res.Columns.Ignored {
		named := 0
		for j := range rows {
			cell, _ := csv.Cell(c.copy.raw(uint32(j)), col, c.copy.img.Comma)
			if fields[strings.ToLower(string(csv.Unquote(cell)))] {
				named++
			}
		}
		if rows > 0 && 2*named > rows {
			return c.copy.img.Heading[col]
		}
	}
	return ""
}

// otherSet refuses a copy that happens to have keys of the snapshot: hardly a
// value is like the record's, and most of the snapshot is missing, or most of
// the copy's columns are strange to it.
func (c *comparison) otherSet() *Refusal {
	fields := c.shared()
	if len(fields) == 0 || c.copy.img.Lent != nil {
		return nil
	}
	missing := c.o.Missing != Ignore && 2*c.matched < c.snap.len()
	if others := len(c.strange()); !missing && others <= len(fields) {
		return nil
	}
	cells, alike := c.likeness(fields)
	if cells < 20 || 10*alike >= cells {
		return nil
	}
	what := ""
	if n := c.snap.len() - c.matched; n > 0 {
		what = fmt.Sprintf(", and %d of %s are not in it", n, words.Count(c.snap.len(), "record"))
	}
	return c.noCopy(NotACopy, "%s does not look like a copy of %s: of %s that both have (%s), %d are alike%s", c.copy.img.Name, c.snap.img.Name,
		words.Count(cells, "value"), list(names(c.res.Fields, fields)), alike, what)
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
func (c *comparison) likeness(fields []int) (cells, alike int) {
	const most = 1000
	step := c.matched/most + 1
	seen := 0
	for i, m := range c.mate {
		if m < mateRow {
			continue
		}
		if seen++; seen%step != 0 {
			continue
		}
		was, is := c.snap.raw(uint32(i)), c.copy.raw(m-mateRow)
		for _, f := range fields {
			a, _ := csv.Cell(was, f, c.snap.img.Comma)
			b, _ := csv.Cell(is, c.res.Columns.Column[f], c.copy.img.Comma)
			a, b = bytes.TrimSpace(csv.Unquote(a)), bytes.TrimSpace(csv.Unquote(b))
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
