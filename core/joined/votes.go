package joined

import (
	"bytes"
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
		for i := range int32(x.cells.len()) {
			c.row(i)
		}
	}
	return nil
}

// referenceOf is a reference of one part to another.
type referenceOf struct {
	x        *splitter
	from, to *partOf
	cols     []int                   // of from's snapshot
	fields   []string                // of from
	missing  map[string][]record.Key // what records that the sheet lacks named, by the rest of their key
}

func (c *referenceOf) row(i int32) {
	g, mine := c.to.group[i], c.from.group[i]
	if g < 0 || mine < 0 || c.to.set.groups[g].bad {
		return
	}
	own := &c.from.set.groups[mine]
	if own.known < 0 {
		c.to.unborn[i] = true
		if was := c.before(i); len(was) > 0 {
			c.to.strange[i] = append(c.to.strange[i], was...)
		}
		return
	}
	known := c.from.set.known
	equal := true
	for k, col := range c.cols {
		cell, _ := known.cell(own.known, col)
		if !bytes.Equal(csv.Unquote(cell), csv.Unquote(c.x.cells.cell(i, c.to.key[k]))) {
			equal = false
			break
		}
	}
	if equal {
		return
	}
	was := record.KeyOf(csv.AppendKey(nil, known.raw(own.known), c.cols, known.img.Comma))
	of, now := c.to.set.Schema, c.x.cells.key(i, c.to.key)
	if k := c.to.set.groups[g].known; k >= 0 {
		now = c.to.set.wasKey(k) // whatever a program made of it
	}
	if of.Key(was) != of.Key(now) {
		c.to.strange[i] = append(c.to.strange[i], was)
	}
}

// before lists what the record may have named whose key was changed along with what it names:
// records that the sheet lacks, and whose key is the same but for that.
func (c *referenceOf) before(row int32) []record.Key {
	rest := c.restOf()
	if rest == nil {
		return nil
	}
	if c.missing == nil {
		c.missing = map[string][]record.Key{}
		s := c.from.set
		for n := range int32(len(s.known.start)) {
			if _, is := s.on(n); is {
				continue
			}
			parts := s.wasKey(n).Parts()
			var other []string
			for _, k := range rest {
				other = append(other, parts[k])
			}
			at := record.NewKey(other...).Encoding()
			c.missing[at] = append(c.missing[at], record.KeyOf(csv.AppendKey(nil, s.known.raw(n), c.cols, s.Snapshot.Comma)))
		}
	}
	var other []string
	for _, k := range rest {
		other = append(other, string(csv.Unquote(c.x.cells.cell(row, c.from.key[k]))))
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
	s.out = &Split{set: s, disagreed: map[unit]bool{}, moved: map[record.Key]bool{}, of: s.Schema}
	s.said = slices.Repeat([]spot{unsaid}, len(s.groups)*len(s.fields))
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
		n, known := s.known.find(enc)
		if !known {
			continue
		}
		if _, there := s.on(n); there || w.torn || w.count != rows[w.to] || s.listed {
			continue
		}
		g := &s.groups[w.to]
		to := s.keyOf(g)
		g.known, g.moved = n, true
		from := s.wasKey(n)
		s.out.Moved = append(s.out.Moved, Move{from, to})
		s.out.moved[s.Schema.Key(from)], s.out.moved[s.Schema.Key(to)] = true, true
	}
	slices.SortFunc(s.out.Moved, func(a, b Move) int { return cmp.Compare(a.From.Encoding(), b.From.Encoding()) })
}

// keyOf is the key of one of the sheet's records, as it stands there first.
func (s *setOf) keyOf(g *group) record.Key { return s.x.cells.key(g.row, s.parts[g.part].key) }

// wasKey is the key of one of the snapshot's records.
func (s *setOf) wasKey(n int32) record.Key { return record.KeyOf(bytes.Clone(s.known.key(n))) }

// wasValue is what the snapshot has for a field of a record; there is false where it has none.
func (s *setOf) wasValue(n int32, field string) (v record.Value, there bool) {
	col := s.Snapshot.Column(field)
	if n < 0 || col < 0 {
		return v, false
	}
	cell, ok := s.known.cell(n, col)
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
	for i := range int32(s.x.cells.len()) {
		for k, p := range s.parts {
			n := p.group[i]
			if n < 0 {
				continue
			}
			if s.listed {
				for f := range s.fields {
					s.say(n, f, spot{i, int32(k)})
				}
				continue
			}
			g := &s.groups[n]
			strange := !g.moved && len(p.strange) > 0 && len(p.strange[i]) > 0
			if strange {
				flagged[n] = true
			}
			for f, c := range p.cols {
				if c < 0 || strange && f >= len(s.key) {
					continue
				}
				cell, said := s.x.cells.cell(i, c), s.cell(n, f)
				switch {
				case f >= len(s.key) && !s.voice(p, i, g, cell):
				case said == nil:
					s.say(n, f, spot{i, int32(k)})
				case f >= len(s.key) && !s.same(s.fields[f], said, cell):
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
	part    int32
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
	for i := range int32(s.x.cells.len()) {
		for k, p := range s.parts {
			n := p.group[i]
			if n < 0 || !of[n] {
				continue
			}
			h := all[n]
			if h == nil {
				h = &heard{make([][]said, len(s.fields)), make([][]said, len(s.fields))}
				all[n] = h
			}
			s.listen(h, spot{i, int32(k)}, n)
		}
	}
	return all
}

// listen takes in what one row says of a record.
func (s *setOf) listen(h *heard, at spot, n int32) {
	p, g := s.parts[at.part], &s.groups[n]
	was := p.strange[at.row]
	if g.moved {
		was = nil
	}
	for f, c := range p.cols {
		if c < 0 || f < len(s.key) {
			continue
		}
		cell := s.x.cells.cell(at.row, c)
		switch {
		case !s.voice(p, at.row, g, cell):
		case len(was) == 0:
			h.said[f] = s.add(h.said[f], f, cell, at, false)
		case s.isOwn(n, f, cell):
		case s.isLeft(was, f, cell):
			h.left[f] = s.add(h.left[f], f, cell, at, true)
		default:
			h.said[f] = s.add(h.said[f], f, cell, at, true)
		}
	}
}

func (s *setOf) add(all []said, f int, cell []byte, at spot, strange bool) []said {
	for i := range all {
		if x := &all[i]; s.same(s.fields[f], x.cell, cell) {
			if x.count++; len(x.rows) < changeset.MaxRows {
				x.rows = append(x.rows, at.row)
			}
			x.strange = x.strange && strange
			return all
		}
	}
	return append(all, said{cell, at.part, []int32{at.row}, 1, strange})
}

// isOwn reports whether a cell has what the record has, in the snapshot or on its other rows.
func (s *setOf) isOwn(g int32, f int, cell []byte) bool {
	if said := s.cell(g, f); said != nil && s.same(s.fields[f], said, cell) {
		return true
	}
	v, there := s.wasValue(s.groups[g].known, s.fields[f])
	return there && s.Schema.Equal(s.fields[f], v, s.x.cells.value(cell))
}

// isLeft reports whether a cell has what one of some records had, or has on its own rows.
func (s *setOf) isLeft(was []record.Key, f int, cell []byte) bool {
	for _, k := range was {
		enc := []byte(k.Encoding())
		if n, there := s.known.find(enc); there {
			if g, on := s.on(n); on {
				if said := s.cell(g, f); said != nil && s.same(s.fields[f], said, cell) {
					return true
				}
			}
			if v, ok := s.wasValue(n, s.fields[f]); ok && s.Schema.Equal(s.fields[f], v, s.x.cells.value(cell)) {
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
		s.say(n, f, unsaid)
		return
	}
	slices.SortStableFunc(values, func(a, b said) int { return cmp.Compare(b.count, a.count) })
	taken := s.taken(g, f, values)
	s.say(n, f, spot{values[taken].rows[0], values[taken].part})
	was, known := s.wasValue(g.known, s.fields[f])
	one := len(values) == 1 && !left && (!values[0].strange || g.known < 0 || known && s.Schema.Equal(s.fields[f], was, s.x.cells.value(values[0].cell)))
	if one {
		return
	}
	d := Disagreement{Key: s.keyOf(g), Field: s.fields[f], Column: s.columnOf(f), Taken: s.x.cells.value(values[taken].cell).String(), Left: left}
	for i := range values {
		v := &values[i]
		spoken := Spoken{Value: s.x.cells.value(v.cell), Count: v.count}
		spoken.Was = known && s.Schema.Equal(d.Field, was, spoken.Value)
		for _, r := range v.rows {
			spoken.Rows = append(spoken.Rows, s.x.cells.row(r))
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
	had := slices.IndexFunc(values, func(x said) bool { return s.Schema.Equal(s.fields[f], v, s.x.cells.value(x.cell)) })
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
		said := s.cell(int32(i), f)
		if !known || said == nil {
			continue
		}
		if s.Schema.Equal(s.fields[f], v, s.x.cells.value(said)) {
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

// image makes the set's table, with where its rows stand.
func (s *setOf) image() error {
	img, err := s.table(s.cell)
	if err != nil {
		return err
	}
	img.Part, img.At = !s.listed, s.where()
	base, known := s.x.j.Base()
	img.Loose = !s.listed && (s.x.j.List != "" || known && s.x.parts[base].set != s)
	s.notes(img)
	s.shown(img)
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

// table writes a row for each of the sheet's records, with a cell for each field.
func (s *setOf) table(cell func(g int32, f int) []byte) (*table.Image, error) {
	m := s.x.sheet
	out := make([]byte, 0, int64(len(m.Data))*int64(len(s.fields))/int64(len(m.Heading))*int64(len(s.groups))/int64(max(1, s.x.cells.len()))+1<<12)
	for i, f := range s.fields {
		if i > 0 {
			out = append(out, ',')
		}
		out = csv.AppendCell(out, f, ',', false)
	}
	out = append(out, '\n')
	rows := make([]int, len(s.groups))
	for i := range s.groups {
		for f := range s.fields {
			if f > 0 {
				out = append(out, ',')
			}
			out = s.appendCell(out, cell(int32(i), f))
		}
		if len(s.fields) == 1 && len(csv.Unquote(cell(int32(i), 0))) == 0 {
			out = append(out, `""`...)
		}
		out = append(out, '\n')
		rows[i] = s.x.cells.row(s.groups[i].row)
	}
	img, err := csv.Built(m.Name, out, m.Found)
	if err == nil {
		img.Built, img.Rows, img.Narrow, img.Sheets = true, rows, true, m.Sheets
	}
	return img, err
}

// appendCell writes a cell of the sheet, nil as what is not said.
func (s *setOf) appendCell(out, cell []byte) []byte {
	if cell == nil {
		return append(out, csv.Absent...)
	}
	if s.x.sheet.Comma == ',' && len(cell) > 0 {
		return append(out, cell...) // an absent one, too
	}
	v, there := csv.Value(s.x.sheet, cell)
	switch {
	case !there:
		return append(out, csv.Absent...)
	case v.IsNull():
		return out
	}
	return csv.AppendCell(out, v.String(), ',', v.Blank())
}

// where says where the value of a field stands.
func (s *setOf) where() func(row int, field string) int {
	if s.listed {
		return nil
	}
	type where struct {
		row   int
		field string
	}
	all := map[where]int{}
	for i := range s.groups {
		for f := range s.fields {
			if at := s.said[i*len(s.fields)+f]; at.row >= 0 && at.row != s.groups[i].row {
				all[where{s.x.cells.row(s.groups[i].row), s.fields[f]}] = s.x.cells.row(at.row)
			}
		}
	}
	if len(all) == 0 {
		return nil
	}
	return func(row int, field string) int {
		if at, there := all[where{row, field}]; there {
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
		if s.x.sheet.Lent != nil && n.Code == changeset.OtherSheets.Name {
			continue // its instructions
		}
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
