// Package sheet writes a dossier's changes as a workbook, or as CSV, for
// colleagues who decide on them without the tool, and reads their decisions
// back.
//
// A unit of a change is named by a word that no spreadsheet program takes for
// a number or a date, with the start of the content's digest in it
// (desk.Contents.Ref). Nothing else of the file is read but that, the decision
// and the note, so that it does not matter what became of the other cells.
package sheet

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
	"paletwin/internal/term"
)

// The columns that are read back.
const (
	changeColumn   = "change"
	decisionColumn = "decision"
	noteColumn     = "note"
	setColumn      = "set"
)

// Sheets of the workbook.
const (
	firstSheet = "read me"
	fieldSheet = "field changes"
	addSheet   = "additions"
	delSheet   = "deletions"
)

// Sheets are those that are read back.
var Sheets = []string{fieldSheet, addSheet, delSheet}

// maxCell is how many characters a cell holds.
const maxCell = 32_000

// about is how many values of a record help to know it.
const about = 2

// part is one table of the sheet.
type part struct {
	name    string
	heading []string
	widths  []float64
	rows    [][]string
}

// parts lays the matter out: field changes, additions, deletions.
func parts(m *desk.Contents) ([]part, error) {
	key := m.Header.Key
	heading := append([]string{changeColumn}, key...)
	for i := range about {
		heading = append(heading, fmt.Sprintf("record %d", i+1))
	}
	several := slices.ContainsFunc(m.Changes, func(s *desk.DecidedChange) bool { return len(s.Sources()) > 0 })
	found := []string{"finding"}
	if several {
		found = []string{"copies", "finding"}
	}
	ends := append(clip(found), decisionColumn, noteColumn, setColumn)
	fields := part{name: fieldSheet, heading: append(append(clip(heading), "field", "from", "to"), ends...)}
	adds := part{name: addSheet, heading: append(append(clip(heading), "record"), ends...)}
	dels := part{name: delSheet, heading: adds.heading}
	say := changeset.NewSentences(m.Findings)
	for _, s := range m.Changes {
		before, err := m.Before(s)
		if err != nil {
			return nil, err
		}
		if s.Act == changeset.Add {
			before = s.Record
		}
		head := append([]string{""}, s.Key.Parts()...)
		words := m.About(before, about)
		for i := range about {
			word := ""
			if i < len(words) {
				word = words[i]
			}
			head = append(head, word)
		}
		for u := range s.States {
			st := &s.States[u]
			row := clip(head)
			row[0] = m.Ref(s, u)
			end := []string{say.Of(st), string(m.Prefill(st)), st.Note, m.Set()}
			if several {
				end = append([]string{s.In(st.Field)}, end...)
			}
			switch s.Act {
			case changeset.Amend:
				f := &s.Fields[u]
				fields.rows = append(fields.rows, append(append(row, f.Field, text(f.From), text(st.Wanted(f))), end...))
			case changeset.Add:
				adds.rows = append(adds.rows, append(append(row, m.Whole(s.Chosen(st.Of))), end...))
			default:
				dels.rows = append(dels.rows, append(append(row, m.Whole(s.Chosen(st.Of))), end...))
			}
		}
	}
	all := []part{fields, adds, dels}
	for i := range all {
		all[i].wide()
	}
	return all, nil
}

// Widths of columns, in characters: what is read back, and the least and the most of others.
var fixedWidths = map[string]float64{changeColumn: 16, decisionColumn: 12, noteColumn: 30, setColumn: 14}

// widestOf are columns of several lines rather than of one long one.
var widestOf = map[string]int{"from": 34, "to": 34, "finding": 48, "copies": 40, "record": 70}

const (
	narrowest = 8
	widest    = 40
	measured  = 2000 // rows that show how wide a column has to be
)

// wide makes each column as wide as what stands in it, within bounds.
func (p *part) wide() {
	p.widths = make([]float64, len(p.heading))
	for i, h := range p.heading {
		if w, fixed := fixedWidths[h]; fixed {
			p.widths[i] = w
			continue
		}
		n := len([]rune(h))
		for _, row := range p.rows[:min(len(p.rows), measured)] {
			n = max(n, len([]rune(row[i])))
		}
		most := widest
		if w := widestOf[h]; w > 0 {
			most = w
		}
		p.widths[i] = float64(min(max(n+2, narrowest), most))
	}
}

// height is how high a row has to be, so that all of its text is seen, in points.
func (p *part) height(cells []string) float64 {
	const (
		line = 15.5
		most = 12
	)
	lines := 1
	for i, c := range cells {
		if h := p.heading[i]; h == changeColumn || h == setColumn {
			continue
		}
		n := 0
		for l := range strings.SplitSeq(c, "\n") {
			n += 1 + len([]rune(l))/int(p.widths[i])
		}
		lines = max(lines, n)
	}
	return line * float64(min(lines, most))
}

func clip[T any](s []T) []T { return append([]T(nil), s...) }

func text(v record.Value) string {
	if v.IsNull() {
		return "(null)"
	}
	return v.String()
}

// shown is a value as a sheet shows it: what would steer text is a visible
// sign, and what a cell does not hold is cut.
func shown(v string) string {
	v = term.Safe(v)
	if len(v) <= maxCell/2 {
		return v
	}
	if u := utf16.Encode([]rune(v)); len(u) > maxCell {
		v = string(utf16.Decode(u[:maxCell])) + "…"
	}
	return v
}

// Write writes the workbook.
func Write(w io.Writer, m *desk.Contents) error {
	all, err := parts(m)
	if err != nil {
		return err
	}
	x := excelize.NewFile()
	defer x.Close()
	b := &book{x: x}
	if err := b.styles(); err != nil {
		return err
	}
	if err := x.SetSheetName("Sheet1", firstSheet); err != nil {
		return err
	}
	for i := range all {
		if err := b.table(&all[i]); err != nil {
			return err
		}
	}
	if err := b.readMe(m, all); err != nil {
		return err
	}
	x.SetActiveSheet(0)
	return x.Write(w)
}

// book is a workbook that is being made.
type book struct {
	x                                           *excelize.File
	title, heading, locked, pale, strong, write int
	code                                        int // of what nobody need read whole
}

// Colours: those of the terminal, of the set of Okabe and Ito.
const (
	paleGrey = "8A8A85"
	amber    = "FFF3D6"
	line     = "C9C7BF"
	family   = "Calibri"
)

func (b *book) styles() (err error) {
	border := []excelize.Border{{Type: "bottom", Color: line, Style: 1}}
	top := &excelize.Alignment{Vertical: "top", WrapText: true}
	for _, s := range []struct {
		id    *int
		style excelize.Style
	}{
		{&b.title, excelize.Style{Font: &excelize.Font{Bold: true, Size: 15, Family: family}}},
		{&b.heading, excelize.Style{Font: &excelize.Font{Bold: true, Size: 11, Family: family}, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"ECEAE2"}}, Border: border}},
		{&b.locked, excelize.Style{NumFmt: 49, Alignment: top, Border: border, Font: &excelize.Font{Size: 11, Family: family}}},
		{&b.pale, excelize.Style{NumFmt: 49, Alignment: top, Border: border, Font: &excelize.Font{Color: paleGrey, Size: 11, Family: family}}},
		{&b.code, excelize.Style{NumFmt: 49, Alignment: &excelize.Alignment{Vertical: "top"}, Border: border, Font: &excelize.Font{Color: paleGrey, Size: 11, Family: family}}},
		{&b.strong, excelize.Style{NumFmt: 49, Alignment: top, Border: border, Font: &excelize.Font{Bold: true, Size: 11, Family: family}}},
		{&b.write, excelize.Style{NumFmt: 49, Alignment: top, Border: border, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{amber}}, Protection: &excelize.Protection{Locked: false}}},
	} {
		if *s.id, err = b.x.NewStyle(&s.style); err != nil {
			return err
		}
	}
	return nil
}

// style is that of a column, by its heading.
func (b *book) style(heading string) int {
	switch heading {
	case changeColumn, setColumn:
		return b.code
	case "from":
		return b.pale
	case "to":
		return b.strong
	case decisionColumn, noteColumn:
		return b.write
	}
	return b.locked
}

// table writes one part as a sheet of its own.
func (b *book) table(p *part) error {
	if _, err := b.x.NewSheet(p.name); err != nil {
		return err
	}
	if err := b.prepare(p); err != nil {
		return err
	}
	s, err := b.x.NewStreamWriter(p.name)
	if err != nil {
		return err
	}
	for i, w := range p.widths {
		if err := s.SetColWidth(i+1, i+1, w); err != nil {
			return err
		}
	}
	if err := s.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	row := make([]any, len(p.heading))
	for i, h := range p.heading {
		row[i] = excelize.Cell{StyleID: b.heading, Value: h}
	}
	if err := s.SetRow("A1", row); err != nil {
		return err
	}
	for n, cells := range p.rows {
		for i, c := range cells {
			row[i] = excelize.Cell{StyleID: b.style(p.heading[i]), Value: shown(c)}
		}
		if err := s.SetRow(fmt.Sprintf("A%d", n+2), row, excelize.RowOpts{Height: p.height(cells)}); err != nil {
			return err
		}
	}
	return s.Flush()
}

// prepare sets what a stream does not: the filter, the choice of decisions,
// the protection, and paper across.
func (b *book) prepare(p *part) error {
	across, scale := "landscape", uint(42)
	if err := b.x.SetPageLayout(p.name, &excelize.PageLayoutOptions{Orientation: &across, AdjustTo: &scale}); err != nil {
		return err
	}
	last, err := excelize.CoordinatesToCellName(len(p.heading), max(2, len(p.rows)+1))
	if err != nil {
		return err
	}
	if err := b.x.AutoFilter(p.name, "A1:"+last, nil); err != nil {
		return err
	}
	for i, h := range p.heading {
		col, err := excelize.ColumnNumberToName(i + 1)
		if err != nil {
			return err
		}
		if h == decisionColumn {
			v := excelize.NewDataValidation(true)
			v.SetSqref(fmt.Sprintf("%s2:%s%d", col, col, max(2, len(p.rows)+1)))
			if err := v.SetDropList([]string{"approve", "hold", "reject"}); err != nil {
				return err
			}
			v.SetError(excelize.DataValidationErrorStyleStop, "decision", "approve, hold or reject; empty leaves it open")
			if err := b.x.AddDataValidation(p.name, v); err != nil {
				return err
			}
		}
	}
	return b.x.ProtectSheet(p.name, &excelize.SheetProtectionOptions{SelectLockedCells: true, SelectUnlockedCells: true, AutoFilter: true, Sort: true, FormatColumns: true, FormatRows: true})
}

// readMe writes the first sheet: what it is, the counts, and how to use it.
func (b *book) readMe(m *desk.Contents, all []part) error {
	meta := m.Dossier.Meta
	lines := []string{
		"Review: " + meta.Title,
		"",
		fmt.Sprintf("Dossier %s, made by %s on %s from %s.", meta.Number, meta.By, meta.When.Local().Format("2 January 2006"), meta.Snapshot.Name),
		"",
	}
	for _, p := range all {
		lines = append(lines, fmt.Sprintf("%d %s", len(p.rows), p.name))
	}
	lines = append(lines, "",
		"How to review",
		"1. On each sheet, choose approve, hold or reject in the yellow column. Empty leaves it open.",
		"2. Write a note where a reason helps.",
		"3. Save, and send the file back. Other cells are not read, and sorting and filtering do no harm.",
		"",
		"Pale is what the record has now, bold what it would have. Finding says why a change waits for a look.",
		"", "change set "+m.Set())
	if err := b.x.SetColWidth(firstSheet, "A", "A", 110); err != nil {
		return err
	}
	for i, l := range lines {
		cell := fmt.Sprintf("A%d", i+1)
		if err := b.x.SetCellStr(firstSheet, cell, shown(l)); err != nil {
			return err
		}
		if i == 0 || l == "How to review" {
			if err := b.x.SetCellStyle(firstSheet, cell, cell, b.title); err != nil {
				return err
			}
		}
	}
	return nil
}

// WriteCSV writes the same as CSV: one table, the act in a column of its own.
// What a program would take for a formula has an apostrophe before it.
func WriteCSV(w io.Writer, m *desk.Contents) error {
	all, err := parts(m)
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	n := 1 + len(m.Header.Key) + about
	heading := append(clip(all[0].heading[:n]), "act")
	if err := writeRow(out, append(heading, all[0].heading[n:]...)); err != nil {
		return err
	}
	acts := []string{"amend", "add", "delete"}
	for i, p := range all {
		for _, row := range p.rows {
			cells := append(clip(row[:n]), acts[i])
			if i == 0 {
				cells = append(cells, row[n:]...)
			} else {
				from, to := "", row[n]
				if acts[i] == "delete" {
					from, to = to, from
				}
				cells = append(append(cells, "", from, to), row[n+1:]...)
			}
			for k := range cells {
				cells[k] = guard(shown(cells[k]))
			}
			if err := writeRow(out, cells); err != nil {
				return err
			}
		}
	}
	return out.Flush()
}

// writeRow writes a row of CSV. What another program's separator could split, so that a part begins a cell, stands in quotes.
func writeRow(w io.Writer, cells []string) error {
	var line []byte
	for i, c := range cells {
		if i > 0 {
			line = append(line, ',')
		}
		line = csv.AppendCell(line, c, ',', strings.ContainsAny(c, ";\t|") || c != strings.TrimSpace(c))
	}
	_, err := w.Write(append(line, '\n'))
	return err
}

// guard keeps a program from taking a cell, or a part of it that the program splits off at another sign than the comma, for a formula: an
// apostrophe goes before it. Quotes do not keep such a program from splitting there.
func guard(v string) string { return eachThatRuns(v, func(part string) string { return "'" + part }) }

// unguard undoes guard.
func unguard(v string) string {
	return eachThatRuns(v, func(part string) string { return strings.TrimPrefix(part, "'") })
}

// splits are the signs at which programs split a line, and formulas with what a program takes one for by its beginning, in full width, too.
const (
	splits   = ";\t|\r\n"
	formulas = "=+-@＝＋－＠"
)

// eachThatRuns makes something else of each part that a program would take for a formula. Apostrophes and quotes before one are looked through, so that
// what is put before a part does not change which these are.
func eachThatRuns(v string, other func(part string) string) string {
	var b strings.Builder
	for first := true; ; first = false {
		end := strings.IndexAny(v, splits)
		if end < 0 {
			end = len(v)
		}
		part := v[:end]
		begins := strings.TrimLeft(part, `'"`)
		if begins != "" && strings.ContainsRune(formulas, []rune(begins)[0]) || first && begins == "" && end < len(v) && strings.IndexByte("\t\r\n", v[end]) >= 0 {
			part = other(part)
		}
		b.WriteString(part)
		if end == len(v) {
			return b.String()
		}
		b.WriteByte(v[end])
		v = v[end+1:]
	}
}
