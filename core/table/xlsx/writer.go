package xlsx

import (
	"fmt"
	"io"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"

	"paletwin/core/record"
	"paletwin/core/table/document"
)

// NewWriter returns a writer of a workbook to w.
func NewWriter(w io.Writer) *document.Writer { return document.New(&writer{w: w}) }

// writer is the form of workbooks.
type writer struct {
	w      io.Writer
	d      *document.Writer
	x      *excelize.File
	s      *excelize.StreamWriter
	styles struct{ heading, open, locked int }
	typed  map[int]int // the styles of columns of numbers
}

// Unwritable says why a cell of a workbook cannot hold a text, or "". The form in which workbooks write some characters
// (_xHHHH_) is one that not all programs read.
func Unwritable(text string) string {
	if why := document.Unwritable(text); why != "" {
		return why
	}
	if at := overlapping.FindString(text); at != "" {
		return fmt.Sprintf("the value has %s, which a workbook cannot tell from an escaped character", at)
	}
	return ""
}

// overlapping are two texts that look like escapes and share an underscore; the
// library escapes the first of them alone.
var overlapping = regexp.MustCompile(`_x[0-9A-Fa-f]{4}_x[0-9A-Fa-f]{4}_`)

func (w *writer) Unwritable(text string) string { return Unwritable(text) }

func (w *writer) Begin(d *document.Writer) (err error) {
	w.d, w.x = d, excelize.NewFile()
	if err := w.x.SetSheetName("Sheet1", d.Sheet); err != nil {
		return err
	}
	if err := w.makeStyles(); err != nil {
		return err
	}
	if d.Protected() {
		err := w.x.ProtectSheet(d.Sheet, &excelize.SheetProtectionOptions{SelectLockedCells: true, SelectUnlockedCells: true,
			AutoFilter: true, Sort: true, FormatColumns: true, FormatRows: true, FormatCells: true, InsertRows: true, DeleteRows: true})
		if err != nil {
			return err
		}
	}
	if w.s, err = w.x.NewStreamWriter(d.Sheet); err != nil {
		return err
	}
	for i := range d.Wide {
		if err := w.s.SetColWidth(i+1, i+1, float64(d.Width(i))); err != nil {
			return err
		}
		if err := w.s.SetColStyle(i+1, i+1, w.style(i, false)); err != nil {
			return err
		}
	}
	return w.s.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"})
}

func (w *writer) makeStyles() (err error) {
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
	for i, c := range w.d.Columns {
		if c.Kind != document.AsNumber {
			continue
		}
		format := "General"
		if c.Decimals == 0 {
			format = "0"
		} else if c.Decimals > 0 {
			format = "0." + strings.Repeat("0", c.Decimals)
		}
		style := &excelize.Style{CustomNumFmt: &format, Font: font(11, false, "000000"), Protection: &excelize.Protection{Locked: c.Locked}}
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
func (w *writer) style(col int, locked bool) int {
	if s, ok := w.typed[col]; ok {
		return s
	}
	if locked && w.d.Column(col).Locked {
		return w.styles.locked
	}
	return w.styles.open
}

// font is the font of all cells; a style that names none gets whatever the
// program has.
func font(size float64, bold bool, color string) *excelize.Font {
	return &excelize.Font{Family: "Calibri", Size: size, Bold: bold, Color: color}
}

func (w *writer) Row(n int, row []record.Value) error {
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
func (w *writer) value(col int, v record.Value) any {
	if v.Blank() {
		return nil
	}
	if text, is := w.d.Number(col, v); is {
		if f, err := strconv.ParseFloat(text, 64); err == nil {
			return f
		}
	}
	return v.String()
}

// choices puts drop-downs on columns: what may be chosen stands on a hidden
// sheet.
func (w *writer) choices() error {
	made := false
	for i, c := range w.d.Columns {
		if c.Values == nil || i >= w.d.Wide {
			continue
		}
		if !made {
			if _, err := w.x.NewSheet(document.Lists); err != nil {
				return err
			}
			made = true
		}
		for k, v := range c.Values {
			if err := w.x.SetCellStr(document.Lists, place(i, k+1), v); err != nil {
				return err
			}
		}
		d := excelize.NewDataValidation(true)
		d.SetSqref(fmt.Sprintf("%s:%s", place(i, 2), place(i, min(w.d.Rows+document.Below, maxRows))))
		d.SetSqrefDropList(fmt.Sprintf("%s!$%s$1:$%s$%d", document.Lists, letters(i), letters(i), max(len(c.Values), 1)))
		d.SetError(excelize.DataValidationErrorStyleStop, document.NotAmong, document.ChooseOne)
		if err := w.x.AddDataValidation(w.d.Sheet, d); err != nil {
			return err
		}
	}
	if !made {
		return nil
	}
	return w.x.SetSheetVisible(document.Lists, false)
}

func (w *writer) End() (err error) {
	defer func() {
		if cerr := w.x.Close(); err == nil {
			err = cerr
		}
	}()
	if w.d.Wide > 0 && w.d.Rows > 0 {
		if err := w.filter(place(0, 1) + ":" + place(w.d.Wide-1, w.d.Rows)); err != nil {
			return err
		}
	}
	if err := w.choices(); err != nil {
		return err
	}
	if err := w.s.Flush(); err != nil {
		return err
	}
	for _, p := range w.d.Pages {
		if err := w.page(p); err != nil {
			return err
		}
	}
	if w.d.Lent != nil {
		for _, p := range w.d.Lent.Properties() {
			if err := w.x.SetCustomProps(excelize.CustomProperty{Name: p[0], Value: p[1]}); err != nil {
				return err
			}
		}
	}
	if err := w.x.SetAppProps(&excelize.AppProperties{Application: document.Program}); err != nil {
		return err
	}
	return w.x.Write(w.w)
}

// filter puts a filter on a range. The library writes the range with dollar signs (excelize v2.11, AutoFilter), which the schema does not have
// and LibreOffice takes for no filter: they are taken out again.
func (w *writer) filter(area string) error {
	if err := w.x.AutoFilter(w.d.Sheet, area, nil); err != nil {
		return err
	}
	sheet, _ := w.x.Sheet.Load("xl/worksheets/sheet1.xml")
	filter := reflect.Indirect(reflect.ValueOf(sheet)).FieldByName("AutoFilter")
	reflect.Indirect(filter).FieldByName("Ref").SetString(area)
	return nil
}

// page writes a sheet of text.
func (w *writer) page(p document.Page) error {
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
