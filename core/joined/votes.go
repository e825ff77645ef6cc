package joined

import (
	"cmp"
	"context"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// changedReferences finds the rows in which a part names another record than it did in the snapshot:
// what their cells say may be what was left of the record before.
func (x *splitter) changedReferences() error {
	for _, ref := range x.refs {
		from, to := x.parts[ref.From], x.parts[ref.To]
		cols, err := csv.KeyColumns(from.set.Snapshot, ref.Fields)
		if err != nil {
			return err
		}
		c := &referenceOf{x: x, from: from, to: to, cols: cols, fields: ref.Fields}
		for i := range x.lines {
			c.row(int32(i))
		}
	}
	return nil
}

// referenceOf is a reference of one part to another.
type referenceOf struct {
	x        *splitter
	from, to *partOf
	cols     []int    // of from's snapshot
	fields   []string // of from
	cells    csv.Row
	missing  map[string][]record.Key // what records that the sheet lacks named, by the rest of their key
}

func (c *referenceOf) row(i int32) {
	g, mine := c.to.group[i], c.from.group[i]
	if g < 0 || mine < 0 || c.to.set.groups[g].bad {
		return
	}
	own := &c.from.set.groups[mine]
	c.cells.Split(c.x.lines[i].raw, c.x.sheet.Comma, 0)
	if own.known < 0 {
		c.to.unborn[i] = true
		if was := c.before(); len(was) > 0 {
			c.to.strange[i] = append(c.to.strange[i], was...)
		}
		return
	}
	raw, comma := c.from.set.was[own.known], c.from.set.Snapshot.Comma
	equal := true
	for k, col := range c.cols {
		cell, _ := csv.Cell(raw, col, comma)
		if string(csv.Unquote(cell)) != string(csv.Unquote(cellAt(&c.cells, c.to.key[k]))) {
			equal = false
			break
		}
	}
	if equal {
		return
	}
	was := record.KeyOf(csv.AppendKey(nil, raw, c.cols, comma))
	of := c.to.set.Schema
	if now := c.to.keyOf(&c.cells); of.Key(was) != of.Key(now) {
		c.to.strange[i] = append(c.to.strange[i], was)
	}
}

// keyOf is the key of a part in a row.
func (p *partOf) keyOf(cells *csv.Row) record.Key {
	var key []byte
	for _, c := range p.key {
		key = record.AppendPart(key, csv.Unquote(cellAt(cells, c)))
	}
	return record.KeyOf(key)
}

// before lists what the record may have named whose key was changed along with what it names:
// records that the sheet lacks, and whose key is the same but for that.
func (c *referenceOf) before() []record.Key {
	rest := c.restOf()
	if rest == nil {
		return nil
	}
	if c.missing == nil {
		c.missing = map[string][]record.Key{}
		s := c.from.set
		keyCols, err := csv.KeyColumns(s.Snapshot, s.key)
		if err != nil {
			return nil
		}
		for _, raw := range s.was {
			enc := csv.AppendKey(nil, raw, keyCols, s.Snapshot.Comma)
			if _, there := s.byKey.get(enc); there {
				continue
			}
			parts := record.KeyOf(enc).Parts()
			var other []string
			for _, k := range rest {
				other = append(other, parts[k])
			}
			at := record.NewKey(other...).Encoding()
			c.missing[at] = append(c.missing[at], record.KeyOf(csv.AppendKey(nil, raw, c.cols, s.Snapshot.Comma)))
		}
	}
	var other []string
	for _, k := range rest {
		other = append(other, string(csv.Unquote(cellAt(&c.cells, c.from.key[k]))))
	}
	return c.missing[record.NewKey(other...).Encoding()]
}

// restOf are the fields of the key, by their numbers, that do not name the other record; nil where
// all do or none does.
func (c *referenceOf) restOf() (rest []int) {
	for i, k := range c.from.set.key {
		if !slices.Contains(c.fields, k) {
			rest = append(rest, i)
		}
	}
	if len(rest) == len(c.from.set.key) {
		return nil
	}
	return rest
}

// split makes the set's table.
func (s *setOf) split(ctx context.Context) (*Split, error) {
	s.out = &Split{disagreed: map[unit]bool{}, moved: map[record.Key]bool{}, of: s.Schema}
	s.places = map[place]int32{}
	s.move()
	flagged := s.first()
	if len(flagged) > 0 {
		s.judge(s.hear(flagged))
	}
	return s.out, s.image()
}

// move finds the records all of whose rows were given one key that no record has.
func (s *setOf) move() {
	type way struct {
		to    int32
		torn  bool
		count int
	}
	ways := map[record.Key]*way{}
	rows := map[int32]int{} // of new records
	for _, p := range s.parts {
		for i, g := range p.group {
			if g < 0 || s.groups[g].known >= 0 || s.groups[g].bad {
				continue
			}
			rows[g]++
			was := p.strange[int32(i)]
			if len(was) != 1 {
				continue
			}
			k := s.Schema.Key(was[0])
			w := ways[k]
			if w == nil {
				w = &way{to: g}
				ways[k] = w
			}
			w.torn = w.torn || w.to != g
			w.count++
		}
	}
	for k, w := range ways {
		enc := []byte(k.Encoding())
		n, known := s.known.get(enc)
		if _, there := s.byKey.get(enc); there || !known || w.torn || w.count != rows[w.to] || s.listed {
			continue
		}
		g := &s.groups[w.to]
		to := s.keyOf(g)
		g.known, g.moved = int32(n), true
		from := s.wasKey(n)
		s.out.Moved = append(s.out.Moved, Move{from, to})
		s.out.moved[s.Schema.Key(from)], s.out.moved[s.Schema.Key(to)] = true, true
	}
	slices.SortFunc(s.out.Moved, func(a, b Move) int { return cmp.Compare(a.From.Encoding(), b.From.Encoding()) })
}

// keyOf is the key of one of the sheet's records, as it stands there first.
func (s *setOf) keyOf(g *group) record.Key {
	var cells csv.Row
	cells.Split(s.x.lines[g.row].raw, s.x.sheet.Comma, 0)
	n := int32(slices.IndexFunc(s.parts, func(p *partOf) bool { return p.group[g.row] >= 0 && &s.groups[p.group[g.row]] == g }))
	return s.parts[n].keyOf(&cells)
}

// wasKey is the key of one of the snapshot's records.
func (s *setOf) wasKey(n int) record.Key {
	cols, _ := csv.KeyColumns(s.Snapshot, s.key) // they are there: the index was made by them
	return record.KeyOf(csv.AppendKey(nil, s.was[n], cols, s.Snapshot.Comma))
}

// wasValue is what the snapshot has for a field of a record; there is false where it has none.
func (s *setOf) wasValue(n int32, field string) (v record.Value, there bool) {
	col := s.Snapshot.Column(field)
	if n < 0 || col < 0 {
		return v, false
	}
	cell, ok := csv.Cell(s.was[n], col, s.Snapshot.Comma)
	if !ok {
		return v, false
	}
	return csv.Value(s.Snapshot, cell)
}

// voice reports whether a cell says something of its record: in a row that is new a blank cell is
// one that was not filled in, and so it is where the record is new.
func (s *setOf) voice(p *partOf, row int32, g *group, cell []byte) bool {
	return len(csv.Unquote(cell)) > 0 || g.known >= 0 && !p.unborn[row]
}

// first takes what each record's rows say, and lists the records whose rows do not say one thing, or
// were given this record.
func (s *setOf) first() map[int32]bool {
	flagged := map[int32]bool{}
	var cells csv.Row
	for i := range s.x.lines {
		split := false
		for _, p := range s.parts {
			n := p.group[i]
			if n < 0 {
				continue
			}
			g := &s.groups[n]
			if !split {
				cells.Split(s.x.lines[i].raw, s.x.sheet.Comma, 0)
				split = true
			}
			if g.cells == nil {
				g.cells = make([][]byte, len(s.fields))
			}
			strange := len(p.strange[int32(i)]) > 0 && !g.moved
			if strange {
				flagged[n] = true
			}
			for f, c := range p.cols {
				if c < 0 || strange && f >= len(s.key) {
					continue
				}
				cell := cellAt(&cells, c)
				switch {
				case !s.listed && f >= len(s.key) && !s.voice(p, int32(i), g, cell):
				case g.cells[f] == nil:
					if g.cells[f] = cell; int32(i) != g.row {
						s.places[place{n, int32(f)}] = int32(i)
					}
				case f >= len(s.key) && !s.same(s.fields[f], g.cells[f], cell):
					flagged[n] = true
				}
			}
		}
	}
	return flagged
}

// said is what some rows say of a field.
type said struct {
	cell    []byte
	rows    []int32
	count   int
	strange bool // only rows say so that were given the record
}

// heard is what all rows say of a record, by the set's fields, and what may be left of the records before.
type heard struct {
	said [][]said
	left [][]said
}

// hear goes through the rows of some records again.
func (s *setOf) hear(of map[int32]bool) map[int32]*heard {
	all := map[int32]*heard{}
	var cells csv.Row
	for i := range s.x.lines {
		split := false
		for _, p := range s.parts {
			n := p.group[i]
			if n < 0 || !of[n] {
				continue
			}
			if !split {
				cells.Split(s.x.lines[i].raw, s.x.sheet.Comma, 0)
				split = true
			}
			h := all[n]
			if h == nil {
				h = &heard{make([][]said, len(s.fields)), make([][]said, len(s.fields))}
				all[n] = h
			}
			s.listen(h, p, int32(i), &s.groups[n], &cells)
		}
	}
	return all
}

// listen takes in what one row says of a record.
func (s *setOf) listen(h *heard, p *partOf, row int32, g *group, cells *csv.Row) {
	was := p.strange[row]
	if g.moved {
		was = nil
	}
	for f, c := range p.cols {
		if c < 0 || f < len(s.key) {
			continue
		}
		cell := cellAt(cells, c)
		switch {
		case !s.voice(p, row, g, cell):
		case len(was) == 0:
			h.said[f] = s.add(h.said[f], f, cell, row, false)
		case s.isOwn(g, f, cell):
		case s.isLeft(was, f, cell):
			h.left[f] = s.add(h.left[f], f, cell, row, true)
		default:
			h.said[f] = s.add(h.said[f], f, cell, row, true)
		}
	}
}

func (s *setOf) add(all []said, f int, cell []byte, row int32, strange bool) []said {
	for i := range all {
		if x := &all[i]; s.same(s.fields[f], x.cell, cell) {
			if x.count++; len(x.rows) < changeset.MaxRows {
				x.rows = append(x.rows, row)
			}
			x.strange = x.strange && strange
			return all
		}
	}
	return append(all, said{cell, []int32{row}, 1, strange})
}

// isOwn reports whether a cell has what the record has, in the snapshot or on its other rows.
func (s *setOf) isOwn(g *group, f int, cell []byte) bool {
	if g.cells[f] != nil && s.same(s.fields[f], g.cells[f], cell) {
		return true
	}
	v, there := s.wasValue(g.known, s.fields[f])
	return there && s.Schema.Equal(s.fields[f], v, s.x.value(cell))
}

// isLeft reports whether a cell has what one of some records had, or has on its own rows.
func (s *setOf) isLeft(was []record.Key, f int, cell []byte) bool {
	for _, k := range was {
		enc := []byte(k.Encoding())
		if n, there := s.byKey.get(enc); there {
			if c := s.groups[n].cells; c != nil && c[f] != nil && s.same(s.fields[f], c[f], cell) {
				return true
			}
		}
		if n, there := s.known.get(enc); there {
			if v, ok := s.wasValue(int32(n), s.fields[f]); ok && s.Schema.Equal(s.fields[f], v, s.x.value(cell)) {
				return true
			}
		}
	}
	return false
}

// judge decides what is proposed of records whose rows do not say one thing.
func (s *setOf) judge(all map[int32]*heard) {
	order := make([]int32, 0, len(all))
	for n := range all {
		order = append(order, n)
	}
	slices.Sort(order)
	for _, n := range order {
		for f := len(s.key); f < len(s.fields); f++ {
			s.judgeField(n, f, all[n])
		}
	}
}

func (s *setOf) judgeField(n int32, f int, h *heard) {
	g, values, left := &s.groups[n], h.said[f], false
	if len(values) == 0 && g.known < 0 { // of a new record nothing else is known
		values, left = h.left[f], true
	}
	if len(values) == 0 {
		g.cells[f] = nil
		return
	}
	slices.SortStableFunc(values, func(a, b said) int { return cmp.Compare(b.count, a.count) })
	taken := s.taken(g, f, values)
	g.cells[f] = values[taken].cell
	if row := values[taken].rows[0]; row != g.row {
		s.places[place{n, int32(f)}] = row
	}
	was, known := s.wasValue(g.known, s.fields[f])
	one := len(values) == 1 && !left && (!values[0].strange || g.known < 0 || known && s.Schema.Equal(s.fields[f], was, s.x.value(values[0].cell)))
	if one {
		return
	}
	d := Disagreement{Key: s.keyOf(g), Field: s.fields[f], Column: s.columnOf(f), Taken: s.x.value(values[taken].cell).String(), Left: left}
	for i := range values {
		v := &values[i]
		spoken := Spoken{Value: s.x.value(v.cell), Count: v.count}
		spoken.Was = known && s.Schema.Equal(d.Field, was, spoken.Value)
		for _, r := range v.rows {
			spoken.Rows = append(spoken.Rows, s.x.lines[r].number)
		}
		d.Values = append(d.Values, spoken)
	}
	s.out.Disagreed = append(s.out.Disagreed, d)
	s.out.disagreed[unit{s.Schema.Key(d.Key), d.Field}] = true
}

// columnOf is the heading of a field, of the first part that has it.
func (s *setOf) columnOf(f int) string {
	for _, p := range s.parts {
		if p.cols[f] >= 0 {
			return s.x.sheet.Heading[p.cols[f]]
		}
	}
	return s.fields[f]
}

// taken is which of several values is proposed: the most frequent that the snapshot does not have.
// Where it has none of them because a program changed how the whole column is written, the most
// frequent is what it has.
func (s *setOf) taken(g *group, f int, values []said) int {
	v, known := s.wasValue(g.known, s.fields[f])
	if !known {
		return 0
	}
	had := slices.IndexFunc(values, func(x said) bool { return s.Schema.Equal(s.fields[f], v, s.x.value(x.cell)) })
	switch {
	case len(values) == 1 || had > 0:
		return 0
	case had == 0 || s.worn(f):
		return 1
	}
	return 0
}

// worn reports whether most records have another value of a field than the snapshot, though all their
// rows say one thing.
func (s *setOf) worn(f int) bool {
	const enough = 1000
	same, other := 0, 0
	for i := range s.groups {
		g := &s.groups[i]
		v, known := s.wasValue(g.known, s.fields[f])
		if !known || g.cells == nil || g.cells[f] == nil {
			continue
		}
		if s.Schema.Equal(s.fields[f], v, s.x.value(g.cells[f])) {
			same++
		} else {
			other++
		}
		if same+other == enough {
			break
		}
	}
	return other > same
}

// image writes a row for each of the sheet's records.
func (s *setOf) image() error {
	m := s.x.sheet
	var out []byte
	for i, f := range s.fields {
		if i > 0 {
			out = append(out, ',')
		}
		out = csv.AppendCell(out, f, ',', false)
	}
	out = append(out, '\n')
	var rows []int
	for i := range s.groups {
		g := &s.groups[i]
		for f := range s.fields {
			if f > 0 {
				out = append(out, ',')
			}
			out = s.appendCell(out, g.cells[f])
		}
		if len(s.fields) == 1 && len(csv.Unquote(g.cells[0])) == 0 {
			out = append(out, `""`...)
		}
		out = append(out, '\n')
		rows = append(rows, s.x.lines[g.row].number)
	}
	img, err := csv.Built(m.Name, out, m.Found)
	if err != nil {
		return err
	}
	img.Built, img.Rows, img.Part, img.Narrow, img.Sheets = true, rows, !s.listed, true, m.Sheets
	s.notes(img)
	s.shown(img)
	img.At = s.at()
	if len(s.out.Moved) > 0 {
		from := map[record.Key]bool{}
		for _, x := range s.out.Moved {
			from[s.Schema.Key(x.From)] = true
		}
		img.Covers = func(k record.Key) bool { return from[s.Schema.Key(k)] }
	}
	s.out.Image = img
	return nil
}

// appendCell writes a cell of the sheet, nil as what is not said.
func (s *setOf) appendCell(out, cell []byte) []byte {
	if cell == nil {
		return append(out, csv.Absent...)
	}
	v, there := csv.Value(s.x.sheet, cell)
	switch {
	case !there:
		return append(out, csv.Absent...)
	case v.IsNull():
		return out
	case s.x.sheet.Comma == ',' && len(cell) > 0:
		return append(out, cell...)
	}
	return csv.AppendCell(out, v.String(), ',', v.Blank())
}

// at says where the value of a field stands.
func (s *setOf) at() func(row int, field string) int {
	if len(s.places) == 0 {
		return nil
	}
	type spot struct {
		row   int
		field string
	}
	all := map[spot]int{}
	for p, row := range s.places {
		all[spot{s.x.lines[s.groups[p.group].row].number, s.fields[p.field]}] = s.x.lines[row].number
	}
	return func(row int, field string) int {
		if at, there := all[spot{row, field}]; there {
			return at
		}
		return row
	}
}

// notes takes what was noted of the sheet's columns; what is of no one column is the listed set's, or
// the first's.
func (s *setOf) notes(img *table.Image) {
	first := s == s.x.sets[0]
	if i := slices.IndexFunc(s.x.sets, func(o *setOf) bool { return o.listed }); i >= 0 {
		first = s.listed
	}
	for _, n := range s.x.sheet.Notes {
		field := ""
		for _, p := range s.parts {
			for f, c := range p.cols {
				if c >= 0 && layout.HeadingForm(s.x.sheet.Heading[c]) == layout.HeadingForm(n.Column) {
					field = s.fields[f]
				}
			}
		}
		switch {
		case field != "":
			n.Column = field
			img.Notes = append(img.Notes, n)
		case first && n.Column == "":
			img.Notes = append(img.Notes, n)
		}
	}
}

// shown takes over what number formats show.
func (s *setOf) shown(img *table.Image) {
	if s.x.sheet.Shown == nil {
		return
	}
	img.Shown = make([]int, len(s.fields))
	for f := range s.fields {
		img.Shown[f] = -1
		for _, p := range s.parts {
			if c := p.cols[f]; c >= 0 && c < len(s.x.sheet.Shown) {
				img.Shown[f] = s.x.sheet.Shown[c]
			}
		}
	}
}
