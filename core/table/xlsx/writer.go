package xlsx

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"

	"paletwin/core/record"
	"paletwin/core/table"
)

// Writer writes a workbook with one table, so that no spreadsheet program can
// wear it: every cell is text and formatted as text, unless its column says
// otherwise. The heading is frozen,
// columns are as wide as what they hold, and there is a filter. It is a
// table.Writer.
type Writer struct {
	Name  string // for messages
	Sheet string // the sheet's name; "" is "records"
	// Columns say how the table's columns are written; those beyond are texts.
	// Where one is locked the sheet is protected.
	Columns []Column
	Lent    *table.Lent
	// Pages are sheets of text behind the table: how to use the file.
	Pages []Page

	w      io.Writer
	x      *excelize.File
	s      *excelize.StreamWriter
	sheet  string
	held   [][]record.Value // the first rows, from which the widths are taken
	row    int              // rows written
	cols   int
	styles struct{ heading, open, locked int }
	typed  map[int]int // the styles of columns with a format
}

// Column is how a column is written.
type Column struct {
	Locked bool
	Kind   CellKind
	Format string   // of numbers: a number format, such as 0.00
	Values []string // what may be chosen; nil is anything
}

// CellKind is what the cells of a column are where their values allow it.
type CellKind int

const (
	AsText CellKind = iota
	AsNumber
)

// Page is a sheet of text: lines of which the first is a heading.
type Page struct {
	Name  string
	Lines []string
}

// NewWriter returns a Writer to w. Set its fields before the first Write.
func NewWriter(w io.Writer) *Writer { return &Writer{w: w} }

// widthRows is how many rows decide the widths of columns.
const widthRows = 500

// Write writes a row: first the headings, then records. Errors are
// *table.Error where a sheet cannot hold the table.
func (w *Writer) Write(row []record.Value) error {
	if err := w.fits(row); err != nil {
		return err
	}
	w.row++
	if w.s == nil {
		w.cols = max(w.cols, len(row))
		w.held = append(w.held, append([]record.Value(nil), row...))
		if len(w.held) < widthRows {
			return nil
		}
		return w.begin()
	}
	return w.put(w.row, row)
}

func (w *Writer) fits(row []record.Value) error {
	fail := func(column int, format string, args ...any) error {
		return &table.Error{Code: table.TooLarge, File: w.Name, Row: w.row + 1, Column: column, Text: fmt.Sprintf(format, args...)}
	}
	if w.row == maxRows {
		return fail(0, "a sheet has %d rows, and there are more records", maxRows)
	}
	if len(row) > maxColumns {
		return fail(0, "a sheet has %d columns, and there are %d fields", maxColumns, len(row))
	}
	for i, v := range row {
		if why := Unwritable(v.String()); why != "" {
			return fail(i+1, "cell %d: %s", i+1, why)
		}
	}
	return nil
}

// Unwritable says why a cell of a workbook cannot hold a text, or "". XML 1.0
// has no place for some characters, and the form in which workbooks write them
// (_xHHHH_) is one that not all programs read.
func Unwritable(text string) string {
	if len(text) > maxText {
		if n := len(utf16.Encode([]rune(text))); n > maxText {
			return fmt.Sprintf("a cell of a workbook holds %d characters, and the value has %d", maxText, n)
		}
	}
	for _, r := range text {
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xfffe || r == 0xffff {
			return fmt.Sprintf("the value has the character U+%04X, which a workbook cannot hold", r)
		}
	}
	if at := overlapping.FindString(text); at != "" {
		return fmt.Sprintf("the value has %s, which a workbook cannot tell from an escaped character", at)
	}
	return ""
}

// overlapping are two texts that look like escapes and share an underscore; the
// library escapes the first of them alone.
var overlapping = regexp.MustCompile(`_x[0-9A-Fa-f]{4}_x[0-9A-Fa-f]{4}_`)

// begin opens the sheet and writes the rows that were held back.
func (w *Writer) begin() (err error) {
	w.x = excelize.NewFile()
	if w.sheet = w.Sheet; w.sheet == "" {
		w.sheet = "records"
	}
	if err := w.x.SetSheetName("Sheet1", w.sheet); err != nil {
		return err
	}
	if err := w.makeStyles(); err != nil {
		return err
	}
	if slices.ContainsFunc(w.Columns, func(c Column) bool { return c.Locked }) {
		err := w.x.ProtectSheet(w.sheet, &excelize.SheetProtectionOptions{SelectLockedCells: true, SelectUnlockedCells: true,
			AutoFilter: true, Sort: true, FormatColumns: true, FormatRows: true, FormatCells: true, InsertRows: true, DeleteRows: true})
		if err != nil {
			return err
		}
	}
	if w.s, err = w.x.NewStreamWriter(w.sheet); err != nil {
		return err
	}
	for i := range w.cols {
		if err := w.s.SetColWidth(i+1, i+1, w.width(i)); err != nil {
			return err
		}
		if err := w.s.SetColStyle(i+1, i+1, w.style(i, false)); err != nil {
			return err
		}
	}
	if err := w.s.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	for i, row := range w.held {
		if err := w.put(i+1, row); err != nil {
			return err
		}
	}
	w.held = nil
	return nil
}

func (w *Writer) makeStyles() (err error) {
	text := 49 // the number format @
	for _, s := range []struct {
		id     *int
		locked bool
		font   *excelize.Font
		fill   string
	}{
		{&w.styles.heading, true, font(11, true, "000000"), "E8E8E8"},
		{&w.styles.open, false, font(11, false, "000000"), ""},
		{&w.styles.locked, true, font(11, false, "707070"), "F4F4F4"},
	} {
		style := &excelize.Style{NumFmt: text, Font: s.font, Protection: &excelize.Protection{Locked: s.locked}}
		if s.fill != "" {
			style.Fill = excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{s.fill}}
		}
		if *s.id, err = w.x.NewStyle(style); err != nil {
			return err
		}
	}
	w.typed = map[int]int{}
	for i, c := range w.Columns {
		if c.Format == "" {
			continue
		}
		style := &excelize.Style{CustomNumFmt: &c.Format, Font: font(11, false, "000000"), Protection: &excelize.Protection{Locked: c.Locked}}
		if c.Locked {
			style.Font, style.Fill = font(11, false, "707070"), excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"F4F4F4"}}
		}
		if w.typed[i], err = w.x.NewStyle(style); err != nil {
			return err
		}
	}
	return nil
}

// style is that of a column's cells; locked says whether it may be locked.
func (w *Writer) style(col int, locked bool) int {
	if s, ok := w.typed[col]; ok {
		return s
	}
	if locked && w.column(col).Locked {
		return w.styles.locked
	}
	return w.styles.open
}

func (w *Writer) column(i int) Column {
	if i < len(w.Columns) {
		return w.Columns[i]
	}
	return Column{}
}

// font is the font of all cells; a style that names none gets whatever the
// program has.
func font(size float64, bold bool, color string) *excelize.Font {
	return &excelize.Font{Family: "Calibri", Size: size, Bold: bold, Color: color}
}

// width is that of the widest of the rows held back, in characters.
func (w *Writer) width(col int) float64 {
	widest := 6
	for _, row := range w.held {
		if col < len(row) {
			widest = max(widest, len([]rune(row[col].String())))
		}
	}
	return float64(min(widest, 48) + 2)
}

func (w *Writer) put(n int, row []record.Value) error {
	cells := make([]any, len(row))
	for i, v := range row {
		c := excelize.Cell{StyleID: w.style(i, true), Value: w.value(i, v)}
		if n == 1 {
			c.StyleID, c.Value = w.styles.heading, v.String()
		}
		cells[i] = c
	}
	return w.s.SetRow(place(0, n), cells)
}

// value is what a cell gets: a number where the column is of such and the value
// reads back as what it is, else its text.
func (w *Writer) value(col int, v record.Value) any {
	if v.Blank() {
		return nil
	}
	if w.column(col).Kind != AsNumber {
		return v.String()
	}
	if f, err := strconv.ParseFloat(v.String(), 64); err == nil && table.IsNumber(withoutZeros(v.String())) && strconv.FormatFloat(f, 'f', -1, 64) == withoutZeros(v.String()) {
		return f
	}
	return v.String()
}

// withoutZeros is a number without the zeros at the end of its decimals.
func withoutZeros(s string) string {
	if strings.Contains(s, ".") {
		s = strings.TrimSuffix(strings.TrimRight(s, "0"), ".")
	}
	return s
}

// listsSheet is the name of the hidden sheet with what may be chosen.
const listsSheet = "lists"

// choices puts drop-downs on columns: what may be chosen stands on a hidden
// sheet.
func (w *Writer) choices() error {
	made := false
	for i, c := range w.Columns {
		if c.Values == nil || i >= w.cols {
			continue
		}
		if !made {
			if _, err := w.x.NewSheet(listsSheet); err != nil {
				return err
			}
			made = true
		}
		for k, v := range c.Values {
			if err := w.x.SetCellStr(listsSheet, place(i, k+1), v); err != nil {
				return err
			}
		}
		d := excelize.NewDataValidation(true)
		d.SetSqref(fmt.Sprintf("%s:%s", place(i, 2), place(i, min(w.row+1000, maxRows))))
		d.SetSqrefDropList(fmt.Sprintf("%s!$%s$1:$%s$%d", listsSheet, letters(i), letters(i), max(len(c.Values), 1)))
		d.SetError(excelize.DataValidationErrorStyleStop, "not among the values", "Choose a value from the list.")
		if err := w.x.AddDataValidation(w.sheet, d); err != nil {
			return err
		}
	}
	if !made {
		return nil
	}
	return w.x.SetSheetVisible(listsSheet, false)
}

// Close writes the workbook; the io.Writer stays open.
func (w *Writer) Close() (err error) {
	if w.s == nil {
		if err := w.begin(); err != nil {
			return err
		}
	}
	defer func() {
		if cerr := w.x.Close(); err == nil {
			err = cerr
		}
	}()
	if w.cols > 0 && w.row > 0 {
		if err := w.x.AutoFilter(w.sheet, place(0, 1)+":"+place(w.cols-1, w.row), nil); err != nil {
			return err
		}
	}
	if err := w.choices(); err != nil {
		return err
	}
	if err := w.s.Flush(); err != nil {
		return err
	}
	for _, p := range w.Pages {
		if err := w.page(p); err != nil {
			return err
		}
	}
	if w.Lent != nil {
		for _, p := range w.Lent.Properties() {
			if err := w.x.SetCustomProps(excelize.CustomProperty{Name: p[0], Value: p[1]}); err != nil {
				return err
			}
		}
	}
	if err := w.x.SetAppProps(&excelize.AppProperties{Application: "Pale Twin"}); err != nil {
		return err
	}
	return w.x.Write(w.w)
}

// page writes a sheet of text.
func (w *Writer) page(p Page) error {
	if _, err := w.x.NewSheet(p.Name); err != nil {
		return err
	}
	bold, err := w.x.NewStyle(&excelize.Style{Font: font(14, true, "000000")})
	if err != nil {
		return err
	}
	wrap, err := w.x.NewStyle(&excelize.Style{Font: font(11, false, "000000"), Alignment: &excelize.Alignment{WrapText: true, Vertical: "top"}})
	if err != nil {
		return err
	}
	if err := w.x.SetColWidth(p.Name, "A", "A", 84); err != nil {
		return err
	}
	for i, line := range p.Lines {
		style := wrap
		if i == 0 {
			style = bold
		}
		if err := w.x.SetCellStr(p.Name, place(0, i+1), line); err != nil {
			return err
		}
		// Rows grow with their text in some programs only.
		if err := w.x.SetRowHeight(p.Name, i+1, float64(18*(1+len([]rune(line))/92))); err != nil {
			return err
		}
		if err := w.x.SetCellStyle(p.Name, place(0, i+1), place(0, i+1), style); err != nil {
			return err
		}
	}
	off := false
	if err := w.x.SetSheetView(p.Name, 0, &excelize.ViewOptions{ShowGridLines: &off}); err != nil {
		return err
	}
	return w.x.SetPageLayout(p.Name, &excelize.PageLayoutOptions{FitToWidth: new(1), Orientation: new("landscape")})
}
