// Package table is what a file of cells looks like to the rest of Pale Twin,
// whatever format it came in: an Image, the table as UTF-8 CSV bytes with
// its heading read. Cells stay bytes; what they mean is the layout's to say.
//
// The formats live in packages below this one, a package a format.
package table

import (
	"errors"
	"fmt"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"

	"paletwin/core/record"
)

// Image is one table. Data is not copied; it must stay as it is for as long
// as the Image is used, or ErrChanged comes back from the readers.
type Image struct {
	Name       string   // what a person calls the file, for messages
	Data       []byte   // UTF-8 CSV
	Comma      byte     // the delimiter
	Heading    []string // the headings, decoded, trailing blank ones dropped
	HeadingRow int      // the heading's row as a spreadsheet counts it, from 1
	Body       int      // the offset in Data of the first row after the heading
	BodyLine   int      // the line of the file on which that row starts, from 1
	Found      Found
	Nulls      bool      // an empty cell without quotes is null, one with quotes is empty text
	Notes      []Note    // what was noticed while reading
	Renamed    []Renamed // columns whose heading is another than the file's
	Lent       *Lent     // what a lent copy says of itself, or nil
	// Of a table that was made of one in another shape:
	Built  bool                            // Data is not what stands in the file
	Rows   []int                           // the file's row of each row; nil is that they are counted
	Part   bool                            // what it lacks says nothing
	Narrow bool                            // the fields that it lacks say nothing
	Loose  bool                            // its rows may all be new
	At     func(row int, field string) int // the file's row of a field of a row; nil is that row
	Old    *Image                          // what it says was there before, in the same rows; or nil
	Sheets []string                        // of a table of several sheets their names, which rows count in steps of SheetRows
	Covers func(record.Key) bool           // whether it could have a record; nil is any
	Sparse string                          // the field without which a row is no record; "" is none

	Shown []int // decimals that a workbook's number formats show, by column, -1 where they say none; nil is all -1

	once   sync.Once
	column map[string]int
}

// SheetRows is more rows than a sheet has.
const SheetRows = 1 << 21

// Place is where a row stands: the file, with the sheet where the table is of several, and the
// row there.
func (m *Image) Place(row int) (file string, at int) {
	if m.Sheets == nil || row == 0 {
		return m.Name, row
	}
	return m.Name + "#" + m.Sheets[row/SheetRows], row % SheetRows
}

// Places is Place of several rows: of those that stand where the first does.
func (m *Image) Places(rows []int) (file string, at []int) {
	for _, r := range rows {
		f, row := m.Place(r)
		if at == nil {
			file = f
		}
		if f == file {
			at = append(at, row)
		}
	}
	return file, at
}

// RowWords is a row in words: "row 7", or with its sheet.
func (m *Image) RowWords(row int) string {
	if m.Sheets == nil {
		return "row " + strconv.Itoa(row)
	}
	return m.Where([]int{row})
}

// Where says in words on which rows of which sheets some rows stand; "" where there is one sheet.
func (m *Image) Where(rows []int) string {
	const most = 6
	var all []string
	for len(rows) > 0 && m.Sheets != nil {
		sheet := rows[0] / SheetRows
		n := 1
		for n < len(rows) && rows[n]/SheetRows == sheet {
			n++
		}
		var numbers []string
		for _, r := range rows[:min(n, most)] {
			numbers = append(numbers, strconv.Itoa(r%SheetRows))
		}
		if n > most {
			numbers = append(numbers, "…")
		}
		all = append(all, "sheet "+m.Sheets[sheet]+" row "+strings.Join(numbers, ", "))
		rows = rows[n:]
	}
	return strings.Join(all, "; ")
}

// Found is what was found out about a file by looking at it.
type Found struct {
	Format     string `json:"format"`              // "csv", "xlsx", "ods", "json" or "jsonl"
	Delimiter  string `json:"delimiter,omitempty"` // "," ";" "\t"
	Encoding   string `json:"encoding"`            // "utf-8", "utf-16le", "windows-1252" …
	BOM        bool   `json:"bom,omitempty"`
	Newline    string `json:"newline,omitempty"` // "lf", "crlf" or "cr"
	Quoted     bool   `json:"quoted,omitempty"`
	HeadingRow int    `json:"heading_row,omitempty"` // where it is not row 1
	Sheet      string `json:"sheet,omitempty"`
	Program    string `json:"program,omitempty"` // what says to have written it
	Nulls      bool   `json:"nulls,omitempty"`   // of CSV: an empty cell is null, and the empty text stands in quotes
}

// LineEnd is how a line of the table's bytes ends. Those of a file whose lines end with CR, and of one that is no CSV, end with LF.
func (m *Image) LineEnd() string {
	if m.Found.Newline == "crlf" {
		return "\r\n"
	}
	return "\n"
}

// Options say what is known about a file. What they leave out is found.
type Options struct {
	Delimiter  string `json:"delimiter,omitempty"`
	Encoding   string `json:"encoding,omitempty"`
	HeadingRow int    `json:"heading_row,omitempty"`
	Sheet      string `json:"sheet,omitempty"`
	// Columns are fields by the headings that are said to be theirs.
	Columns  map[string]string `json:"columns,omitempty"`
	Password string            `json:"-"` // of an encrypted workbook
	SheetAs  string            `json:"-"` // of all sheets: the column that has the sheet's name; "" is none

	// Known is what is known of the file from another time, and counts where its
	// bytes do not say: a text of ASCII alone has any encoding, one of 8-bit
	// letters several.
	Known Found `json:"-"`

	// Knows, if not nil, counts the headings that are known of what is to be read. Where what is found has none of them, and the
	// row or sheet is not said, others are looked at.
	Knows func(headings []string) int `json:"-"`

	// Rename, if not nil, is given every table that was opened, to give its
	// columns the names of fields.
	Rename func(*Image) `json:"-"`

	// Reshape, if not nil, is given the table then, and makes of one in another shape one
	// with a row for each record.
	Reshape func(*Image) (*Image, error) `json:"-"`
}

// Taken says how CSV is read that was written of a table of a database: its backups and
// what is taken of it.
var Taken = Options{Delimiter: ",", Encoding: "utf-8", HeadingRow: 1, Known: Found{Nulls: true}}

// Kept returns the options that are kept with what was read.
func (o Options) Kept() Options {
	o.Password, o.Known, o.Rename, o.Reshape, o.Knows = "", Found{}, nil, nil, nil
	return o
}

// Note is something noticed while a file was read: a code of findings, words,
// and how many things it is about.
type Note struct {
	Code   string
	Text   string
	Column string
	Count  int
	Rows   []int // those of formulas, at most MaxNoted; more are not listed
}

// MaxNoted is how many rows a note lists at most.
const MaxNoted = 50_000

// Column returns the number of the named column, from 0, or -1; of two with
// one name the first.
func (m *Image) Column(name string) int {
	m.once.Do(func() {
		m.column = make(map[string]int, len(m.Heading))
		for i, h := range m.Heading {
			if _, twice := m.column[h]; !twice {
				m.column[h] = i
			}
		}
	})
	if i, ok := m.column[name]; ok {
		return i
	}
	return -1
}

// ColumnLike returns the number of the column with a heading, in whatever case
// and with whatever spaces around it, or -1.
func (m *Image) ColumnLike(heading string) int {
	return slices.IndexFunc(m.Heading, func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), heading) })
}

// Renamed is a column that has another name than the file gives it.
type Renamed struct {
	Column  int    // from 0
	Heading string // the file's
	How     string // how it was recognised
}

// FileHeadings are the headings as the file has them.
func (m *Image) FileHeadings() []string {
	all := slices.Clone(m.Heading)
	for _, r := range m.Renamed {
		all[r.Column] = r.Heading
	}
	return all
}

// SetHeading gives the columns other names.
func (m *Image) SetHeading(heading []string, renamed []Renamed) {
	m.Renamed = renamed
	m.Heading, m.column, m.once = heading, nil, sync.Once{}
}

// ErrChanged says that a file's bytes went away while they were read: some
// other program shortened or replaced it.
var ErrChanged = errors.New("the file changed while it was read")

// A Code names one way in which a file cannot be read as a table.
type Code string

const (
	Empty        Code = "empty"
	HeadingOnly  Code = "heading-only"
	Binary       Code = "binary"
	NUL          Code = "nul"
	NotUTF8      Code = "not-utf-8"
	Unclosed     Code = "unclosed-quote"
	StrayQuote   Code = "stray-quote"
	TwiceHeading Code = "heading-twice"
	BlankHeading Code = "heading-blank"
	LongRow      Code = "long-row"
	ShortRow     Code = "short-row"
	Folder       Code = "directory"
	TooLarge     Code = "too-large"
	NoList       Code = "no-list" // JSON that is no list of records, or not all of it
	Broken       Code = "broken"
	NoSheet      Code = "no-sheet"
	NoEncoding   Code = "no-encoding"
	NoTarget     Code = "not-written" // a format that is read only
	Locked       Code = "password"
)

// Error is a file that cannot be read as a table: which, where and why.
// Row counts as a spreadsheet does, from 1; Line counts the file's lines
// and is given where it differs from Row; Column counts cells from 1.
// Zero means unknown.
type Error struct {
	Code   Code
	File   string
	Row    int
	Line   int
	Column int
	Text   string
}

func (e *Error) Error() string {
	return Place(e.File, e.Row, e.Line, "") + ": " + e.Text
}

// Place writes a place in a file the way messages do:
// "edited.csv row 18 (line 21), column depot".
func Place(file string, row, line int, column string) string {
	var b strings.Builder
	b.WriteString(file)
	if row > 0 {
		fmt.Fprintf(&b, " row %d", row)
		if line > 0 && line != row {
			fmt.Fprintf(&b, " (line %d)", line)
		}
	}
	if column != "" {
		b.WriteString(", column " + column)
	}
	return b.String()
}

// Guard runs f and turns a memory fault on a mapped file, which happens when
// another program shortens the file, into ErrChanged. Every goroutine that
// reads an Image's Data runs inside a Guard of its own.
func Guard(f func() error) (err error) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		switch r := recover().(type) {
		case nil:
		case interface {
			runtime.Error
			Addr() uintptr
		}:
			err = ErrChanged
		default:
			panic(r)
		}
	}()
	return f()
}

// Writer writes a table row by row, the headings first, all rows of one
// width. Close ends the table and leaves what it was written to open.
type Writer interface {
	Write(row []record.Value) error
	Close() error
}
