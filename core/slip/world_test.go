package slip_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"time"
)

// The generator makes registers of the harbour authority, edits copies of
// them as people do, and lets hands slip. It knows nothing of how slips are
// found.

type kind int

const (
	choice kind = iota
	code        // chosen, with a number at the end
	amount
	whole
	date
	flag
	name // different in each record
	note // free text, often empty
)

type column struct {
	name     string
	kind     kind
	list     []string
	low, top float64
	scale    int
	form     string // of dates
}

// sheet is a table with its heading in row 0.
type sheet struct {
	columns []column
	key     []string
	rows    [][]string
	filled  map[int]bool // columns in which a group was filled
}

func (s *sheet) heading() []string {
	var h []string
	for _, c := range s.columns {
		h = append(h, c.name)
	}
	return h
}

func (s *sheet) clone() *sheet {
	t := *s
	t.filled = map[int]bool{}
	t.rows = make([][]string, len(s.rows))
	for i, r := range s.rows {
		t.rows[i] = slices.Clone(r)
	}
	return &t
}

func (s *sheet) of(kinds ...kind) []int {
	var found []int
	for i, c := range s.columns {
		if !slices.Contains(s.key, c.name) && slices.Contains(kinds, c.kind) {
			found = append(found, i)
		}
	}
	return found
}

func codes(prefix string, from, n int) []string {
	var c []string
	for i := range n {
		c = append(c, fmt.Sprintf("%s%d", prefix, from+i))
	}
	return c
}

var (
	places = []string{"Saltreach", "Gannet Point", "Tarn Mouth", "Cold Harbour Spit", "The Nags", "Wether Bank", "Old Pier", "Merrow Channel", "Skerry Ledge", "Lantern Rock", "Foxtail Shoal", "Heron Steps"}
	things = []string{"North", "South", "East", "West", "Inner", "Outer", "Head", "Gate", "Fairway", "Middle", "Elbow", "Knoll", "Reach", "Bar", "Hook"}
	words  = []string{"bell", "chain", "renewed", "spare in store", "checked", "in October", "battery weak", "mind the steps", "topmark missing", "painted red", "sector edge", "see visit sheet"}
)

var aidColumns = []column{
	{name: "aid_no", kind: name}, {name: "name", kind: name}, {name: "kind", kind: choice, list: []string{"buoy", "buoy", "buoy", "beacon", "light", "perch"}},
	{name: "zone", kind: choice, list: []string{"inner", "outer", "estuary", "roads"}}, {name: "light", kind: choice, list: []string{"Fl R 5s", "Fl G 5s", "Fl(2) R 10s", "Q", "Iso W 4s", "LFl 10s", ""}},
	{name: "latitude", kind: amount, low: 57.1, top: 57.9, scale: 5}, {name: "range_nm", kind: amount, low: 2, top: 16, scale: 1}, {name: "depot", kind: code, list: codes("D0", 1, 8)},
	{name: "keeper", kind: code, list: codes("U-", 1004, 14)}, {name: "installed", kind: date, low: 1996, top: 2023, form: time.DateOnly}, {name: "next_service", kind: date, low: 2026, top: 2027, form: time.DateOnly},
	{name: "service_fee", kind: amount, low: 40, top: 300, scale: 2}, {name: "fee_ex_dues", kind: amount, low: 10, top: 50, scale: 2}, {name: "seasonal", kind: flag, list: []string{"true", "false", "false", "false"}},
	{name: "status", kind: choice, list: []string{"in_service", "in_service", "in_service", "in_service", "withdrawn", "laid_up", "off_station"}}, {name: "remarks", kind: note},
}

var partColumns = []column{
	{name: "part_no", kind: name}, {name: "part", kind: name}, {name: "category", kind: choice, list: []string{"mooring", "optics", "power", "paint", "tools", "safety"}},
	{name: "supplier", kind: code, list: codes("S", 10, 12)}, {name: "unit_price", kind: amount, low: 0.4, top: 900, scale: 2}, {name: "list_price", kind: amount, low: 0.5, top: 1000, scale: 2},
	{name: "stock", kind: whole, low: 0, top: 400}, {name: "reorder_at", kind: whole, low: 2, top: 40}, {name: "shelf", kind: code, list: codes("K", 1, 30)},
	{name: "counted_on", kind: date, low: 2025, top: 2026, form: "02.01.2006"}, {name: "active", kind: flag, list: []string{"Y", "Y", "Y", "N"}},
}

var visitColumns = []column{
	{name: "aid_no", kind: name}, {name: "due", kind: name}, {name: "crew", kind: choice, list: []string{"crew A", "crew B", "crew C"}},
	{name: "planned_hours", kind: whole, low: 2, top: 12}, {name: "audited_hours", kind: amount, low: 1, top: 14, scale: 1}, {name: "outcome", kind: choice, list: []string{"done", "done", "done", "weather", "partly"}},
	{name: "sheet_no", kind: name},
}

type gen struct{ *rand.Rand }

func pick[T any](g gen, from []T) T { return from[g.IntN(len(from))] }

func (g gen) value(c *column, n int) string {
	switch c.kind {
	case choice, code, flag:
		return pick(g, c.list)
	case amount:
		x := c.low + g.Float64()*(c.top-c.low)
		if c.top > 100*c.low { // many small, few large
			x = c.low + g.Float64()*g.Float64()*g.Float64()*(c.top-c.low)
		}
		return fmt.Sprintf("%.*f", c.scale, x)
	case whole:
		return fmt.Sprint(int(c.low) + g.IntN(int(c.top-c.low)+1))
	case date:
		from := time.Date(int(c.low), 1, 1, 0, 0, 0, 0, time.UTC)
		return from.AddDate(0, 0, g.IntN(int(c.top-c.low+1)*365)).Format(c.form)
	case note:
		if g.IntN(3) == 0 {
			return ""
		}
		return pick(g, words) + ", " + pick(g, words)
	}
	switch c.name {
	case "aid_no":
		return fmt.Sprintf("%05d", 100+n*3+g.IntN(3))
	case "part_no":
		return fmt.Sprintf("P-%04d", 1000+n*2+g.IntN(2))
	case "due":
		return time.Date(2026, 1, 1+n%300, 0, 0, 0, 0, time.UTC).Format(time.DateOnly)
	case "sheet_no":
		return fmt.Sprintf("%d/%d", 2000+n*7+g.IntN(7), 26)
	}
	return fmt.Sprintf("%s %s %d", pick(g, places), pick(g, things), n)
}

// register makes a sheet of one of the worlds, in some order.
func (g gen) register() *sheet {
	s := &sheet{columns: aidColumns, key: []string{"aid_no"}}
	n := 40 + g.IntN(400)
	switch g.IntN(5) {
	case 0, 1:
		s.columns, s.key = partColumns, []string{"part_no"}
	case 2:
		s.columns, s.key = visitColumns, []string{"aid_no", "due"}
	}
	if g.IntN(12) == 0 {
		n = 6000
	}
	s.rows = [][]string{s.heading()}
	for i := range n {
		row := make([]string, len(s.columns))
		for f := range s.columns {
			row[f] = g.value(&s.columns[f], i)
		}
		s.rows = append(s.rows, row)
	}
	switch g.IntN(4) {
	case 0:
		g.Shuffle(n, func(i, k int) { s.rows[1+i], s.rows[1+k] = s.rows[1+k], s.rows[1+i] })
	case 1:
		s.sortBy(pick(g, s.of(choice, code, date)))
	}
	return s
}

func (s *sheet) sortBy(f int) {
	sort.SliceStable(s.rows[1:], func(i, k int) bool { return s.rows[1+i][f] < s.rows[1+k][f] })
}

// other is another value that a field may have.
func (g gen) other(c *column, was string) string {
	for range 50 {
		if v := g.value(c, 20_000+g.IntN(9999)); v != was && v != "" {
			return v
		}
	}
	return was
}

// touched are the rows that adds and deletes leave alone, and other edits too.
func (g gen) row(s *sheet) int { return 1 + g.IntN(len(s.rows)-1) }

// honest makes an edit, or several, that someone meant.
func (g gen) honest(s *sheet) {
	switch g.IntN(10) {
	case 0, 1, 2, 3:
		for range 1 + g.IntN(30) {
			g.single(s)
		}
	case 4, 5:
		g.fillGroup(s)
	case 6:
		g.percent(s)
	case 7:
		for range 1 + g.IntN(6) {
			row := make([]string, len(s.columns))
			for f := range s.columns {
				row[f] = g.value(&s.columns[f], 3000+g.IntN(60_000))
			}
			s.rows = append(s.rows, row)
		}
	case 8:
		for range 1 + g.IntN(6) {
			i := g.row(s)
			s.rows = slices.Delete(s.rows, i, i+1)
		}
	default:
		// A whole block is moved by some days.
		dates := s.of(date)
		groups := s.of(choice, code)
		if len(dates) == 0 {
			return
		}
		f, by, days := pick(g, dates), pick(g, groups), 7*(1+g.IntN(20))
		v := s.rows[g.row(s)][by]
		for _, r := range s.rows[1:] {
			if d, err := time.Parse(s.columns[f].form, r[f]); r[by] == v && err == nil {
				r[f] = d.AddDate(0, 0, days).Format(s.columns[f].form)
			}
		}
	}
}

func (g gen) single(s *sheet) {
	r := s.rows[g.row(s)]
	f := g.IntN(len(s.columns))
	c := &s.columns[f]
	if slices.Contains(s.key, c.name) || s.filled[f] {
		return
	}
	var x float64
	if c.kind == amount && g.IntN(2) == 0 {
		if _, err := fmt.Sscan(r[f], &x); err == nil {
			r[f] = fmt.Sprintf("%.*f", c.scale, x*(0.8+0.4*g.Float64()))
			return
		}
	}
	if c.kind == note && g.IntN(2) == 0 {
		r[f] += ", " + pick(g, words)
		return
	}
	if c.kind == amount && c.top > 100*c.low {
		g.times(s, r, f, 0.7+0.6*g.Float64()) // nobody means that 22 is 265 now
		return
	}
	r[f] = g.other(c, r[f])
}

// fillGroup gives a whole group one value.
func (g gen) fillGroup(s *sheet) {
	by := pick(g, s.of(choice, code))
	v := s.rows[g.row(s)][by]
	f := by
	if g.IntN(2) == 0 {
		f = pick(g, s.of(choice, code, flag, date))
	}
	to := g.other(&s.columns[f], v)
	if s.filled[f] || s.filled[by] {
		return // a second fill of the same values is no fill of a group
	}
	s.filled[f] = true
	for _, r := range s.rows[1:] {
		if r[by] == v && v != "" {
			r[f] = to
		}
	}
}

func (g gen) percent(s *sheet) {
	amounts := s.of(amount)
	f, by := pick(g, amounts), pick(g, s.of(choice, code))
	v := s.rows[g.row(s)][by]
	if g.IntN(4) == 0 {
		by = -1
	}
	factor := 1 + float64(g.IntN(25)-8)/100
	for _, r := range s.rows[1:] {
		if by < 0 || r[by] == v {
			g.times(s, r, f, factor)
		}
	}
}

func (g gen) times(s *sheet, r []string, f int, factor float64) {
	var x float64
	if _, err := fmt.Sscan(r[f], &x); err == nil {
		r[f] = fmt.Sprintf("%.*f", s.columns[f].scale, x*factor)
	}
}

// group gives a column and a value that at least so many rows have, and these
// rows' numbers.
func (g gen) group(s *sheet, least int) (by int, rows []int) {
	for range 200 {
		by = pick(g, s.of(choice, code))
		v := s.rows[g.row(s)][by]
		rows = rows[:0]
		for i, r := range s.rows {
			if i > 0 && r[by] == v && v != "" {
				rows = append(rows, i)
			}
		}
		if len(rows) >= least {
			return by, rows
		}
	}
	return by, nil
}

func mutate(g gen, v string) string {
	r := []rune(v)
	i := g.IntN(len(r))
	switch g.IntN(4) {
	case 0:
		return string(r[:i]) + string(r[i+1:])
	case 1:
		return string(r[:i+1]) + string(r[i:])
	case 2:
		if i+1 < len(r) {
			r[i], r[i+1] = r[i+1], r[i]
		}
		return string(r)
	}
	r[i] = rune(strings.ToLower("abcdefghijklmnopqrstuvwxyz")[g.IntN(26)])
	return string(r)
}
