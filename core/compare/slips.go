package compare

import (
	"context"
	"slices"
	"sync"

	"paletwin/core/changeset"
	"paletwin/core/judge"
	"paletwin/core/record"
	"paletwin/core/slip"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// What becomes of slips.
const (
	SlipsHold = "hold" // what they concern is held
	SlipsWarn = "warn" // they are said, and nothing is held
	SlipsOff  = "off"  // they are not looked for
)

func (o *Options) slips() bool { return o.Slips == SlipsHold || o.Slips == SlipsWarn }

// Earlier is what another snapshot had.
type Earlier struct {
	Name string // for a sentence: "dossier 0003"
	// Values are by record, as record.Key encodes it, and then by field of the
	// snapshot; nil is a field that it did not have.
	Values map[string][]*string
}

// Other is another snapshot of these records.
type Other struct {
	Name   string
	Sample slip.Sample
}

const (
	// mostDrafted is how many field changes are kept until slips are judged. If
	// there are more, they are made a second time.
	mostDrafted = 200_000
	// mostJudged is how many field changes are looked at for slips; each takes
	// about 80 bytes.
	mostJudged = 2_000_000
	// mostEarlier is how many records are looked up in earlier snapshots.
	mostEarlier = 100_000
)

// gathered is what slips are judged by.
type gathered struct {
	of      *drafter
	batches []*batch
	kept    int
	field   map[string]uint32
	in      slip.Input
	more    bool // not all could be taken in
}

// most is how many field changes of a copy are kept.
func (g *gathered) most() int {
	if g.of.tight() {
		return 0
	}
	return mostDrafted / max(g.of.several, 1)
}

// take takes in a batch of changes.
func (g *gathered) take(b *batch) error {
	for k, ch := range b.changes {
		at := b.places[k]
		switch ch.Act {
		case changeset.Amend:
			if g.more = len(g.in.Cells) >= mostJudged; g.more {
				break
			}
			for i := range ch.Fields {
				f := &ch.Fields[i]
				g.in.Cells = append(g.in.Cells, slip.Cell{Record: at.Record, Row: at.Row, Field: g.field[f.Field], From: f.From.String(), To: f.To.String()})
			}
			g.kept += len(ch.Fields)
		case changeset.Add:
			g.kept += len(ch.Record)
			if len(g.in.Adds) < mostDrafted {
				g.in.Adds = append(g.in.Adds, slip.Row{Row: at.Row, Values: g.of.valuesOf(ch.Record)})
			}
		default:
			g.kept += len(ch.Record)
		}
	}
	if g.kept += len(b.worn); g.kept > g.most() {
		g.batches = nil
	} else {
		g.batches = append(g.batches, b)
	}
	return nil
}

// valuesOf are a record's values by field.
func (t *tables) valuesOf(r record.Record) []string {
	v := make([]string, len(t.res.Fields))
	get := r.Finder()
	for f, name := range t.res.Fields {
		x, _ := get(name)
		v[f] = x.String()
	}
	return v
}

// judgeSlips drafts the changes and looks for slips in them.
func (jd *judgement) judgeSlips(ctx context.Context) error {
	if jd.o.Slips == "" {
		return nil
	}
	if err := table.Guard(func() error { jd.sampleSnapshot(); return nil }); err != nil || jd.copy == nil || !jd.o.slips() {
		return err
	}
	g := &gathered{of: jd.drafter, field: map[string]uint32{}}
	for f, name := range jd.res.Fields {
		g.field[name] = uint32(f)
	}
	g.batches = []*batch{}
	if err := jd.each(ctx, nil, g.take); err != nil {
		return err
	}
	return table.Guard(func() error { return jd.findSlips(ctx, g) })
}

func (jd *judgement) findSlips(ctx context.Context, g *gathered) error {
	in := &g.in
	in.Table, in.Fields, in.Key = &slipTable{of: jd.pairs}, jd.res.Fields, jd.snap.keyCol
	for i, m := range jd.mate {
		if m == mateNone {
			in.Missing = append(in.Missing, uint32(i))
		}
	}
	for _, j := range jd.copy.noKey[:min(len(jd.copy.noKey), changeset.MaxRows)] {
		in.Keyless = append(in.Keyless, slip.Row{Row: j, Values: jd.seenValues(j)})
	}
	if err := jd.earlier(ctx, in); err != nil {
		return err
	}
	jd.formulaCells(in)
	if jd.o.Known != nil {
		in.Known = func(field int, value string) bool { return jd.o.Known[in.Fields[field]][value] }
	}
	found, err := slip.Judge(in)
	if err != nil {
		return err
	}
	found = slices.DeleteFunc(found, func(f slip.Found) bool {
		return jd.whole(f.Field) && (f.Code == changeset.Factor || f.Code == changeset.Outlier)
	})
	jd.slips = judge.NewMarks(jd.res.Fields, jd.o.Slips == SlipsHold, jd.snap.key)
	if jd.several > 1 {
		jd.slips.Of = jd.copy.img.Name
	}
	jd.slips.Take(in, found)
	jd.reportSlips(found)
	if g.more {
		jd.find(changeset.SlipsPart.Finding("slips were looked for in the first %d field changes only", len(in.Cells)), jd.copy.img.Name, "")
	}
	if err := jd.fitOthers(in); err != nil {
		return err
	}
	if g.kept <= g.most() {
		jd.kept = g.batches
	}
	return ctx.Err()
}

// seenValues are the cells of a row of the copy, by field.
func (t *tables) seenValues(j uint32) []string {
	cells := csv.Split(nil, t.copy.raw(j), t.copy.img.Comma)
	v := make([]string, len(t.res.Fields))
	for f, col := range t.pair {
		if col >= 0 && col < len(cells) {
			x, _ := csv.Value(t.copy.img, cells[col])
			v[f] = x.String()
		}
	}
	return v
}

// formulaCells tells which changed cells of a workbook are formulas, in
// columns in which the snapshot has none.
func (jd *judgement) formulaCells(in *slip.Input) {
	had := map[string]bool{}
	for _, n := range jd.snap.img.Notes {
		if n.Code == changeset.FormulaCells.Name {
			had[n.Column] = true
		}
	}
	for _, n := range jd.copy.img.Notes {
		col := jd.copy.img.Column(n.Column)
		f := slices.Index(jd.pair, col)
		if n.Code != changeset.FormulaCells.Name || col < 0 || f < 0 || had[jd.res.Fields[f]] {
			continue
		}
		if in.Formulas == nil {
			in.Formulas = map[int][]int{}
		}
		in.Formulas[f] = n.Rows
	}
}

// earlier asks what earlier snapshots had for the records that are amended.
func (jd *judgement) earlier(ctx context.Context, in *slip.Input) error {
	if jd.o.Earlier == nil || len(in.Cells) == 0 {
		return nil
	}
	keys := map[string]bool{}
	for i := range in.Cells {
		if i > 0 && in.Cells[i].Record == in.Cells[i-1].Record {
			continue
		}
		if len(keys) >= mostEarlier {
			return nil
		}
		keys[jd.snap.key(in.Cells[i].Record).Encoding()] = true
	}
	all, err := jd.o.Earlier(ctx, jd.res.Fields, keys)
	for _, e := range all {
		in.Past = append(in.Past, slip.Past{Name: e.Name, Values: func(i uint32) ([]*string, bool) {
			v, ok := e.Values[jd.snap.key(i).Encoding()]
			return v, ok
		}})
	}
	return err
}

// reportSlips makes findings.
func (jd *judgement) reportSlips(found []slip.Found) {
	for n := range found {
		f := &found[n]
		column := ""
		if f.Field >= 0 {
			column = jd.res.Fields[f.Field]
		}
		g := f.Code.Finding("%s", f.Text)
		g.Count = max(1, len(f.Rows))
		if len(f.Rows) == 0 {
			jd.find(g, jd.copy.img.Name, column)
			continue
		}
		jd.findRows(g, jd.copy.img.Name, column, jd.copy.rowNumbers(firstRows(f.Rows, changeset.MaxRows)))
	}
}

// firstRows are the first of some rows, each once.
func firstRows(rows []uint32, most int) []uint32 {
	var first []uint32
	for _, r := range rows {
		if len(first) == most {
			break
		}
		if !slices.Contains(first, r) {
			first = append(first, r)
		}
	}
	return first
}

// slipTable is what a judgement may look at.
type slipTable struct {
	of     *pairs
	once   sync.Once
	record []uint32 // of each row of the copy + 1, 0 for none

	mu    sync.Mutex
	steps map[uint32][]uint32 // by record, where every so many cells of its row begin
}

// Of tables with many columns it is kept where each step of so many cells begins, of so many records: a cell far behind in a row is
// looked for from there.
const (
	stepCells   = 64
	mostStepped = 100_000
)

// from is a row from the step on that has a field, and the number of the field from there.
func (t *slipTable) from(record uint32, field int) ([]byte, int) {
	raw := t.of.snap.raw(record)
	if field < stepCells {
		return raw, field
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	steps, known := t.steps[record]
	if !known {
		for at := 0; ; {
			n := csv.Skip(raw[at:], stepCells, t.of.snap.img.Comma)
			if n < 0 {
				break
			}
			at += n
			steps = append(steps, uint32(at))
		}
		if t.steps == nil || len(t.steps) >= mostStepped {
			t.steps = map[uint32][]uint32{}
		}
		t.steps[record] = steps
	}
	s := min(field/stepCells, len(steps))
	if s == 0 {
		return raw, field
	}
	return raw[steps[s-1]:], field - s*stepCells
}

func (t *slipTable) Rows() int    { return t.of.copy.len() }
func (t *slipTable) Records() int { return t.of.snap.len() }

// Record turns the records' rows around once it is asked.
func (t *slipTable) Record(row uint32) (uint32, bool) {
	t.once.Do(func() {
		t.record = make([]uint32, t.Rows())
		for i, m := range t.of.mate {
			if m >= mateRow {
				t.record[m-mateRow] = uint32(i) + 1
			}
		}
	})
	return t.record[row] - 1, t.record[row] > 0
}

func (t *slipTable) Old(record uint32, field int) string {
	raw, field := t.from(record, field)
	cell, ok := csv.Cell(raw, field, t.of.snap.img.Comma)
	if !ok {
		return ""
	}
	v, _ := csv.Value(t.of.snap.img, cell)
	return v.String()
}

func (t *slipTable) OldRow(record uint32) []string { return t.of.oldRow(record) }

func (t *slipTable) RowNumber(row uint32) int { return t.of.copy.rowNumber(row) }
func (t *slipTable) Key(record uint32) string { return t.of.snap.key(record).String() }
func (t *slipTable) RowKey(row uint32) string { return t.of.copy.key(row).String() }
