package xlsx

import (
	"fmt"
	"strconv"
	"strings"

	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/xmlscan"
)

// grid reads a sheet's cells.
type grid struct {
	*book
	out   csv.Builder
	row   int // the current one, from 1
	cells cells

	formulas   table.Formulas
	decimals   []int // of the numbers of a column, as their formats show them; -1 where these differ, -2 where there are none
	isRow      rowsIn
	prefix     []byte
	hiddenRows int
	hiddenCols int
}

// element reads one element of the sheet's part.
func (g *grid) element(x *xmlscan.Scanner) error {
	switch {
	case g.isRow.see(x):
		return g.readRow(x)
	case x.Is("col"):
		if v, _ := x.Attr("hidden"); v == "1" || v == "true" {
			low, _ := x.Attr("min")
			high, _ := x.Attr("max")
			a, _ := strconv.Atoi(low)
			z, _ := strconv.Atoi(high)
			g.hiddenCols += max(min(z, maxColumns)-a+1, 0)
		}
	case x.Is("mergeCell"):
		ref, _ := x.Attr("ref")
		if m, ok := merged(ref); ok {
			g.out.Merge(m)
		}
	}
	return nil
}

// merged reads a range of cells: "C1:D2".
func merged(ref string) (csv.Merged, bool) {
	from, to, ok := strings.Cut(ref, ":")
	left, fine := column([]byte(from))
	right, good := column([]byte(to))
	top, err := strconv.Atoi(strings.TrimLeft(from, "ABCDEFGHIJKLMNOPQRSTUVWXYZ"))
	bottom, err2 := strconv.Atoi(strings.TrimLeft(to, "ABCDEFGHIJKLMNOPQRSTUVWXYZ"))
	return csv.Merged{Top: top, Left: left, Bottom: bottom, Right: right}, ok && fine && good && err == nil && err2 == nil
}

// rowsIn tells the rows of a sheet from what anchors of controls call so: they have the prefix of the element that holds them.
type rowsIn struct {
	begun  bool
	prefix string
}

// see takes in an element that was opened, and reports whether it is a row.
func (r *rowsIn) see(x *xmlscan.Scanner) bool {
	if x.Is("sheetData") {
		r.begun, r.prefix = true, string(x.Prefix())
	}
	return r.begun && x.Is("row") && string(x.Prefix()) == r.prefix
}

// rowNumber is the number of the row that was opened, which follows another.
func rowNumber(x *xmlscan.Scanner, before int) (int, error) {
	n := before + 1
	if r := x.RawAttr("r"); r != nil {
		v, err := strconv.Atoi(string(r))
		if err != nil || v < n {
			return 0, fmt.Errorf("row %d is followed by row %q", before, r)
		}
		n = v
	}
	if n > maxRows {
		return 0, fmt.Errorf("row %d is followed by row %q", before, strconv.Itoa(n))
	}
	return n, nil
}

// readRow reads a row up to its end. Rows that are empty cost nothing: a row of
// the image begins with its first filled cell.
func (g *grid) readRow(x *xmlscan.Scanner) error {
	n, err := rowNumber(x, g.row)
	if err != nil {
		return err
	}
	g.row = n
	if v := x.RawAttr("hidden"); string(v) == "1" || string(v) == "true" {
		g.hiddenRows++
	}
	g.prefix = append(g.prefix[:0], x.Prefix()...)
	inside, err := x.Rest()
	if err != nil {
		return err
	}
	g.cells.over(n, g.prefix, inside)
	var c cell
	for {
		more, err := g.cells.next(&c)
		if err != nil || !more {
			return err
		}
		if c.computed {
			g.formulas.Add(c.col, n)
		}
		text := g.text(&c)
		if text == "" {
			continue
		}
		if err := g.out.Row(n); err != nil {
			return err
		}
		g.out.Cell(c.col, text, false)
	}
}

// cellParts reads what is inside a cell: its value or inline text, and its
// formula.
func cellParts(x *xmlscan.Scanner) (value, formula string, computed bool, err error) {
	for {
		k, err := x.Next()
		switch {
		case err != nil:
			return "", "", false, err
		case k == xmlscan.End:
			return "", "", false, xmlscan.ErrCut
		case k == xmlscan.Close:
			return value, formula, computed, nil
		case k != xmlscan.Open:
			continue
		}
		switch {
		case x.Is("v"):
			value, err = element(x)
		case x.Is("f"):
			computed = true
			formula, err = element(x)
		case x.Is("is"):
			value, err = richText(x)
		default:
			err = x.Skip()
		}
		if err != nil {
			return "", "", false, err
		}
	}
}

// element returns the text of the element that was opened, up to its end.
func element(x *xmlscan.Scanner) (string, error) {
	var text string
	for {
		k, err := x.Next()
		switch {
		case err != nil:
			return "", err
		case k == xmlscan.Text && text == "":
			text = string(x.Text())
		case k == xmlscan.Text:
			text += string(x.Text())
		case k == xmlscan.Close:
			return text, nil
		case k == xmlscan.Open:
			if err := x.Skip(); err != nil {
				return "", err
			}
		default:
			return "", xmlscan.ErrCut
		}
	}
}

// text makes a cell's value what the table holds.
func (g *grid) text(c *cell) string {
	text, number := g.book.text(c)
	if number {
		g.format(c.col, c.style)
	}
	return text
}

// text makes a cell's value what the table holds, and says whether it is a number that is no date.
func (g *book) text(c *cell) (text string, number bool) {
	value := c.value
	if value == "" {
		return "", false // a cell with a format alone, of dates say, is empty
	}
	switch c.typ {
	case "s":
		if i, err := strconv.Atoi(value); err == nil && i >= 0 && i < len(g.strings) {
			return g.strings[i], false
		}
		return "", false
	case "inlineStr":
		return value, false
	case "str":
		return unescape(value), false
	case "e", "d":
		return value, false
	case "b":
		return boolean(value), false
	}
	if c.formula != "" {
		switch strings.ToUpper(strings.TrimSpace(c.formula)) {
		case "TRUE()", "FALSE()":
			return boolean(value), false
		}
	}
	if k := g.kind(c.style); k > textual {
		if t, ok := g.from.moment(value, k); ok {
			return t, false
		}
	}
	return digits(value), true
}

// format notes how many decimals the format of a number shows.
func (g *grid) format(col, style int) {
	n := -1
	if style < len(g.places) {
		n = g.places[style]
	}
	for col >= len(g.decimals) {
		g.decimals = append(g.decimals, -2)
	}
	if was := g.decimals[col]; was != -2 && was != n {
		n = -1
	}
	g.decimals[col] = n
}

// shown are the decimals that the numbers of each column show.
func (g *grid) shown(columns int) []int {
	all := make([]int, columns)
	for c := range all {
		all[c] = -1
		if c < len(g.decimals) {
			all[c] = max(g.decimals[c], -1)
		}
	}
	return all
}

// kind returns what the number format of a cell format makes of a number.
func (b *book) kind(style int) kind {
	if style < len(b.styles) {
		return b.styles[style]
	}
	return plain
}

// typeOf returns the type of a cell without making a new string of it.
func typeOf(b []byte) string {
	for _, t := range [...]string{"s", "inlineStr", "str", "b", "e", "d"} {
		if string(b) == t {
			return t
		}
	}
	return "n"
}

// small reads a small number; what is none is 0.
func small(b []byte) int {
	n := 0
	for _, c := range b {
		if c < '0' || c > '9' || n > 1<<20 {
			return 0
		}
		n = n*10 + int(c-'0')
	}
	return n
}

func boolean(value string) string {
	if value == "1" || strings.EqualFold(value, "true") {
		return "true"
	}
	return "false"
}

// column reads the letters of a cell's place: "AB12" is 27.
func column(place []byte) (int, bool) {
	n := 0
	for i := 0; i < len(place); i++ {
		c := place[i] &^ 0x20
		if c < 'A' || c > 'Z' {
			return n - 1, i > 0
		}
		if n = n*26 + int(c-'A') + 1; n > maxColumns {
			return n, true
		}
	}
	return n - 1, n > 0
}

// digits writes a stored number without an exponent, digit by digit.
func digits(value string) string {
	value = table.Double(value)
	at := strings.IndexAny(value, "eE")
	if at < 0 {
		return value
	}
	mantissa, exponent := value[:at], value[at+1:]
	e, err := strconv.Atoi(exponent)
	if err != nil || e > 400 || e < -400 {
		return value
	}
	sign := ""
	if strings.HasPrefix(mantissa, "-") {
		sign, mantissa = "-", mantissa[1:]
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	all, point := whole+fraction, len(whole)+e
	if strings.Trim(all, "0123456789") != "" || all == "" {
		return value
	}
	switch {
	case point <= 0:
		all = strings.Repeat("0", 1-point) + all
		point = 1
	case point > len(all):
		all += strings.Repeat("0", point-len(all))
	}
	whole, fraction = strings.TrimLeft(all[:point], "0"), strings.TrimRight(all[point:], "0")
	if whole == "" {
		whole = "0"
	}
	if fraction != "" {
		whole += "." + fraction
	}
	return sign + whole
}

// notes says what was noticed in the sheet.
func (g *grid) notes(img *table.Image, s *sheet, sheets int) []table.Note {
	var notes []table.Note
	note := func(code string, n int, format string, args ...any) {
		if n > 0 {
			notes = append(notes, table.Note{Code: code, Text: fmt.Sprintf(format, args...), Count: n})
		}
	}
	if sheets > 1 {
		note("other-sheets", sheets-1, "the sheet %q is read; the workbook has %d more", s.name, sheets-1)
	}
	if s.hidden {
		note("hidden", 1, "the sheet %q is hidden; it is read", s.name)
	}
	note("hidden", g.hiddenRows, "%d rows are hidden or filtered out; they are read", g.hiddenRows)
	note("hidden", g.hiddenCols, "%d columns are hidden; they are read", g.hiddenCols)
	notes = append(notes, g.formulas.Notes(img.Heading)...)
	sortNotes(notes)
	return notes
}
