package table

import (
	"io"
	"slices"

	"paletwin/core/record"
	"paletwin/core/table/refs"
)

// An Op is one change of a sheet.
type Op struct {
	Kind  OpKind
	Row   int // the row, as the sheet counts it before any Op
	Cells []Cell
	Form  string // of a row that comes back, or cells that do, as an Editor's RowForms gave it; or ""
}

// OpKind says what an Op does.
type OpKind int

const (
	SetCells  OpKind = iota // writes cells of Row
	RemoveRow               // takes Row out; rows below move up
	InsertRow               // puts a new row behind Row; of several behind one, in their order
	EmptyRow                // empties the cells of Row, which stays
	FillRow                 // fills Row, which is empty
)

// Cell is a value for a column, counted from 0.
type Cell struct {
	Col   int
	Value record.Value
	// Other is another form of the value, which is as good; "" is none. It is written where the cell is a number or a date, and
	// the value as it stands could be none.
	Other string
}

// Editor is a document with a sheet that is edited in place: what no Op names goes over as it stands. It does not change.
type Editor interface {
	// RowForms returns for the given rows how they are kept, for an Op. Rows are as the sheet counts them.
	RowForms(rows map[int]bool) (map[int]string, error)
	// RowOf is the row at which a row stood when RowForms was asked for it; 0 is not known.
	RowOf(form string) int
	// Refuse says which ops Edit could not carry out, by their places in ops.
	Refuse(ops []Op) (map[int]string, error)
	// Edit writes the document with the ops carried out on the sheet, whose heading is in the given row. What Refuse refuses must
	// not be among them.
	Edit(heading int, ops []Op, w io.Writer) error
}

// Plan is the ops of an edit, by the rows that they are about.
type Plan struct {
	refs.Moves
	Sets  map[int]*Op
	Puts  map[int][]*Op // behind each row, in their order
	Empty map[int]bool
	Fills map[int]*Op
	Last  int // the last row that an op names

	left     []int // the rows behind which some are still to be put, ascending
	done     int   // so many were, behind the first of these
	unfilled []int // the rows that are still to be filled, ascending
}

// NewPlan sorts the ops of an edit.
func NewPlan(ops []Op) *Plan {
	p := &Plan{Sets: map[int]*Op{}, Puts: map[int][]*Op{}, Empty: map[int]bool{}, Fills: map[int]*Op{}}
	var gone []int
	in := map[int]int{}
	for i := range ops {
		op := &ops[i]
		p.Last = max(p.Last, op.Row)
		switch op.Kind {
		case SetCells:
			p.Sets[op.Row] = op
		case RemoveRow:
			gone = append(gone, op.Row)
		case InsertRow:
			p.Puts[op.Row] = append(p.Puts[op.Row], op)
			if in[op.Row]++; in[op.Row] == 1 {
				p.left = append(p.left, op.Row)
			}
		case EmptyRow:
			p.Empty[op.Row] = true
		case FillRow:
			p.Fills[op.Row] = op
			p.unfilled = append(p.unfilled, op.Row)
		}
	}
	slices.Sort(p.left)
	slices.Sort(p.unfilled)
	p.Moves = *refs.NewMoves(gone, in)
	return p
}

// Next returns the next of the rows that are put in somewhere before row n, or are filled and stand before it, with the row at which it
// will stand; nil is none. Each comes once.
func (p *Plan) Next(n int) (op *Op, to int) {
	if len(p.unfilled) > 0 && p.unfilled[0] < n && (len(p.left) == 0 || p.unfilled[0] <= p.left[0]) {
		op = p.Fills[p.unfilled[0]]
		p.unfilled = p.unfilled[1:]
		to, _ = p.Row(op.Row)
		return op, to
	}
	if len(p.left) == 0 || p.left[0] >= n {
		return nil, 0
	}
	after := p.left[0]
	op, to = p.Puts[after][p.done], p.Put(after)+p.done
	if p.done++; p.done == len(p.Puts[after]) {
		p.left, p.done = p.left[1:], 0
	}
	return op, to
}

// Fill returns what fills row n, if it is filled and Next did not give it; it comes once.
func (p *Plan) Fill(n int) *Op {
	if len(p.unfilled) == 0 || p.unfilled[0] != n {
		return nil
	}
	p.unfilled = p.unfilled[1:]
	return p.Fills[n]
}

// More reports whether Next has more to give.
func (p *Plan) More() bool { return len(p.left)+len(p.unfilled) > 0 }

// TooLong reports whether a row that is put in would stand below the last that a sheet has.
func (p *Plan) TooLong() bool {
	for after, ops := range p.Puts {
		if p.Put(after)+len(ops)-1 > refs.MaxRows {
			return true
		}
	}
	return false
}
