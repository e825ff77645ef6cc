package slip_test

import (
	"fmt"
	"slices"
	"sort"
	"time"
)

// hands are the slips that are made, by what they are to be called. Each
// changes the copy and reports whether it could.
var hands = map[string]func(g gen, s *sheet, was *sheet) bool{
	"fill-overrun": func(g gen, s, was *sheet) bool {
		by, _ := g.group(s, 4)
		s.sortBy(by)
		by2, rows := g.groupBy(s, by, 4)
		if rows == nil {
			return false
		}
		f := by2
		if g.IntN(2) == 0 {
			f = pick(g, s.of(choice, code))
		}
		to := g.other(&s.columns[f], s.rows[rows[0]][f])
		past := 1 + g.IntN(min(3, (len(rows)+1)/3))
		last := rows[len(rows)-1]
		if last+past >= len(s.rows) {
			return false
		}
		for i := last + 1; i <= last+past; i++ {
			if s.rows[i][f] == to {
				return false
			}
		}
		for i := rows[0]; i <= last+past; i++ {
			s.rows[i][f] = to
		}
		return true
	},
	"fill-series": func(g gen, s, was *sheet) bool {
		fields := s.of(code, whole, date)
		f := pick(g, fields)
		n := 3 + g.IntN(12)
		from := 1 + g.IntN(max(1, len(s.rows)-1-n))
		if from+n > len(s.rows) {
			return false
		}
		v := g.value(&s.columns[f], 0)
		for i := range n {
			s.rows[from+i][f] = next(&s.columns[f], v, i)
		}
		return true
	},
	"fill-gap": func(g gen, s, was *sheet) bool {
		by, rows := g.group(s, 6)
		if rows == nil {
			return false
		}
		f := by
		if g.IntN(2) == 0 {
			f = pick(g, s.of(choice, code))
		}
		if g.IntN(2) == 0 {
			v := s.rows[rows[0]][by]
			s.sortBy(by)
			_, rows = g.sameGroup(s, by, v)
		}
		to := g.other(&s.columns[f], s.rows[rows[0]][f])
		left := pick(g, rows[1:len(rows)-1])
		if s.rows[left][f] == to || s.rows[left][f] != was.find(s.rows[left], s)[f] {
			return false
		}
		for _, i := range rows {
			if i != left {
				s.rows[i][f] = to
			}
		}
		return true
	},
	"lone-sort": func(g gen, s, was *sheet) bool {
		f := pick(g, s.of(choice, code, amount, whole, date, name))
		from, to := 1, len(s.rows)
		if g.IntN(2) == 0 {
			n := min(12+g.IntN(100), len(s.rows)-1)
			from = 1 + g.IntN(len(s.rows)-n)
			to = from + n
		}
		var v []string
		for _, r := range s.rows[from:to] {
			v = append(v, r[f])
		}
		sort.Slice(v, func(i, k int) bool { return less(&s.columns[f], v[i], v[k]) })
		if g.IntN(4) == 0 {
			slices.Reverse(v)
		}
		moved := 0
		for i := from; i < to; i++ {
			if s.rows[i][f] != v[i-from] {
				moved++
			}
			s.rows[i][f] = v[i-from]
		}
		return moved >= 5
	},
	"row-shift": func(g gen, s, was *sheet) bool {
		f := pick(g, s.of(choice, code, amount, whole, date, name))
		n := 15 + g.IntN(60)
		from := 2 + g.IntN(max(1, len(s.rows)-n))
		to := min(from+n, len(s.rows)-1)
		if g.IntN(3) == 0 {
			to = len(s.rows) - 1
		}
		old := make([]string, len(s.rows))
		for i, r := range s.rows {
			old[i] = r[f]
		}
		moved := 0
		for i := from; i < to; i++ {
			k := i - 1
			if from%2 == 0 {
				k = i + 1
			}
			s.rows[i][f] = old[k]
			if old[k] != old[i] {
				moved++
			}
		}
		return moved >= 6
	},
	"column-swap": func(g gen, s, was *sheet) bool {
		a, b, ok := g.twoAlike(s)
		if !ok {
			return false
		}
		n := 0
		only := g.IntN(2) == 0
		from := 1 + g.IntN(max(1, len(s.rows)-10))
		for i, r := range s.rows {
			if i > 0 && (!only || i >= from && i < from+8) {
				r[a], r[b] = r[b], r[a]
				if r[a] != r[b] && r[a] != "" && r[b] != "" {
					n++
				}
			}
		}
		return n >= 3
	},
	"column-moved": func(g gen, s, was *sheet) bool {
		a, b, ok := g.twoAlike(s)
		if !ok {
			return false
		}
		n := 0
		from := 1 + g.IntN(max(1, len(s.rows)-30))
		for i, r := range s.rows {
			if i >= from && i < from+25 && r[a] != "" && r[a] != r[b] {
				r[b], r[a] = r[a], ""
				n++
			}
		}
		return n >= 3
	},
	"factor": func(g gen, s, was *sheet) bool {
		f := pick(g, s.of(amount))
		if g.IntN(2) == 0 {
			g.percent(s)
		}
		r := s.rows[g.row(s)]
		var x float64
		if _, err := fmt.Sscan(r[f], &x); err != nil || x == 0 {
			return false
		}
		c := &s.columns[f]
		if g.IntN(2) == 0 {
			x *= 0.9 + 0.2*g.Float64()
		}
		switch g.IntN(5) {
		case 0:
			x = -x
		case 1:
			if x < 4 {
				x *= 100
			}
			x /= 10
		case 2:
			x *= 10
		case 3:
			x *= 100
		default:
			x *= 1000
		}
		r[f] = fmt.Sprintf("%.*f", c.scale, x)
		// A factor that leaves the value among the others' can be seen only where
		// moves are alike.
		return x < c.low || x > c.top
	},
	"outlier": func(g gen, s, was *sheet) bool {
		if dates := s.of(date); len(dates) > 0 && g.IntN(3) == 0 {
			f := pick(g, dates)
			r := s.rows[g.row(s)]
			d, err := time.Parse(s.columns[f].form, r[f])
			if err != nil {
				return false
			}
			r[f] = d.AddDate(pick(g, []int{-40, -100, 36, 70}), g.IntN(5), 0).Format(s.columns[f].form)
			return true
		}
		f := pick(g, s.of(amount))
		factor := 1 + float64(1+g.IntN(12))/100
		n := 0
		odd := 1 + g.IntN(min(len(s.rows)-1, 40))
		for i, r := range s.rows {
			if i > 0 && i < 60 {
				k := factor
				if i == odd {
					k = pick(g, []float64{3.1, 4.4, 6.2, 0.31, 0.24})
				}
				g.times(s, r, f, k)
				n++
			}
		}
		var x, y float64
		_, _ = fmt.Sscan(s.rows[odd][f], &x)
		if old := was.find(s.rows[odd], s); old != nil {
			_, _ = fmt.Sscan(old[f], &y)
		}
		return n >= 20 && y > 0 && (x/y > 2.6 || x/y < 0.4)
	},
	"mass-clear": func(g gen, s, was *sheet) bool {
		f := pick(g, s.of(choice, code, amount, whole, date, note, flag))
		n := 0
		for i, r := range s.rows {
			if i > 0 && (g.IntN(4) > 0) && r[f] != "" {
				r[f] = ""
				n++
			}
		}
		return n >= 10
	},
	"same-value-everywhere": func(g gen, s, was *sheet) bool {
		f := pick(g, s.of(code, amount, whole, date))
		to := g.value(&s.columns[f], 0)
		if common := 40 + g.IntN(35); g.IntN(3) == 0 { // so many of a hundred had it before
			for _, t := range []*sheet{was, s} {
				for i, r := range t.rows {
					if i > 0 && i*37%100 < common {
						r[f] = to
					}
				}
			}
		}
		others := 0
		for i, r := range s.rows {
			if i > 0 && g.IntN(12) > 0 {
				if r[f] != to {
					others++
				}
				r[f] = to
			}
		}
		return others >= 12
	},
	"formula-left": func(g gen, s, was *sheet) bool {
		f := pick(g, s.of(amount, whole, code))
		for range 1 + g.IntN(5) {
			i := g.row(s)
			s.rows[i][f] = pick(g, []string{"=F%d*1.04", "=SUM(H2:H%d)", "=ROUND(L%d*1,04;2)", "=VLOOKUP(A%d,depots!A:B,2,0)", "=$B$%d"})
			s.rows[i][f] = fmt.Sprintf(s.rows[i][f], i)
		}
		return true
	},
	"total-row": func(g gen, s, was *sheet) bool {
		row := make([]string, len(s.columns))
		f := pick(g, s.of(amount))
		sum := 0.0
		for _, r := range s.rows[1:] {
			var x float64
			_, _ = fmt.Sscan(r[f], &x)
			sum += x
		}
		row[f] = fmt.Sprintf("%.*f", s.columns[f].scale, sum)
		if g.IntN(3) > 0 {
			row[g.IntN(2)] = pick(g, []string{"Total", "TOTAL", "Sum", "Total:", "Grand total", "Total fees"})
		}
		s.rows = append(s.rows, row)
		return true
	},
	"note-row": func(g gen, s, was *sheet) bool {
		row := make([]string, len(s.columns))
		row[g.IntN(3)] = pick(g, []string{"Checked by Lina Okoye, 3 October", "NB: fees without dues", "prices valid from 1 November", "* see minutes", "new ones below"})
		if len(s.key) == 1 || row[0] == "" {
			s.rows = slices.Insert(s.rows, g.row(s), row)
			return true
		}
		s.rows = append(s.rows, row)
		return true
	},
	"blank-row": func(g gen, s, was *sheet) bool {
		s.rows = slices.Insert(s.rows, g.row(s), make([]string, len(s.columns)))
		return true
	},
	"repeat": func(g gen, s, was *sheet) bool {
		r := slices.Clone(s.rows[g.row(s)])
		s.rows = slices.Insert(s.rows, g.row(s), r)
		if g.IntN(2) == 0 {
			f := pick(g, s.of(choice, code, amount, date))
			r[f] = g.other(&s.columns[f], r[f])
		}
		return true
	},
	"key-edited": func(g gen, s, was *sheet) bool {
		r := s.rows[g.row(s)]
		if was.find(r, s) == nil {
			return false
		}
		r[0] = g.value(&s.columns[0], 70_000+g.IntN(9000))
		return true
	},
	"key-shifted": func(g gen, s, was *sheet) bool {
		n := 2 + g.IntN(4)
		from := 1 + g.IntN(len(s.rows)-n)
		for i := range n {
			if was.find(s.rows[from+i], s) == nil {
				return false
			}
		}
		keys := make([][]string, n)
		for i := range n {
			keys[i] = slices.Clone(s.rows[from+i][:len(s.key)])
		}
		chain := g.IntN(2) == 0
		for i := range n {
			copy(s.rows[from+i][:len(s.key)], keys[(i+1)%n])
		}
		if chain && n > 2 { // the last gets a new key
			s.rows[from+n-1][0] = g.value(&s.columns[0], 70_000+g.IntN(9000))
		}
		return true
	},
	"swapped-pair": func(g gen, s, was *sheet) bool {
		a := g.row(s)
		b := g.row(s)
		if g.IntN(2) == 0 {
			b = a%(len(s.rows)-1) + 1
		}
		x, y := s.rows[a], s.rows[b]
		if a == b || was.find(x, s) == nil || was.find(y, s) == nil || !slices.Equal(was.find(x, s), x) || !slices.Equal(was.find(y, s), y) {
			return false
		}
		switch g.IntN(3) {
		case 0:
			for f := len(s.key); f < len(x); f++ {
				x[f], y[f] = y[f], x[f]
			}
		case 1:
			n := 0
			for _, f := range s.of(name, amount, date, whole, code) {
				if g.IntN(2) == 0 && x[f] != y[f] {
					x[f], y[f] = y[f], x[f]
					n++
				}
			}
			return n >= 2
		default:
			f := pick(g, s.of(name, date, amount))
			x[f], y[f] = y[f], x[f]
			return x[f] != y[f]
		}
		return true
	},
	"near-miss": func(g gen, s, was *sheet) bool {
		f := pick(g, s.of(choice, code))
		r := s.rows[g.row(s)]
		c := &s.columns[f]
		v := pick(g, c.list)
		if v == "" {
			return false
		}
		r[f] = mutate(g, v)
		often := 0
		for _, o := range was.rows[1:] {
			if o[f] == v {
				often++
			}
		}
		return !slices.Contains(c.list, r[f]) && r[f] != "" && often >= 8 && len([]rune(v)) > 1
	},
}

// find is the record of a row, in another sheet.
func (s *sheet) find(r []string, in *sheet) []string {
	n := len(in.key)
	for _, o := range s.rows[1:] {
		if slices.Equal(o[:n], r[:n]) {
			return o
		}
	}
	return nil
}

// groupBy is group with the column given.
func (g gen) groupBy(s *sheet, by, least int) (int, []int) {
	for range 50 {
		if _, rows := g.sameGroup(s, by, s.rows[g.row(s)][by]); len(rows) >= least && len(rows) < len(s.rows)/2 {
			return by, rows
		}
	}
	return by, nil
}

func (g gen) sameGroup(s *sheet, by int, v string) (int, []int) {
	var rows []int
	for i, r := range s.rows {
		if i > 0 && r[by] == v && v != "" {
			rows = append(rows, i)
		}
	}
	return by, rows
}

// twoAlike are two columns of one kind.
func (g gen) twoAlike(s *sheet) (a, b int, ok bool) {
	for range 50 {
		a, b = pick(g, s.of(amount, date, name)), pick(g, s.of(amount, date, name))
		if a != b && s.columns[a].kind == s.columns[b].kind {
			return a, b, true
		}
	}
	return 0, 0, false
}

func next(c *column, v string, by int) string {
	if c.kind == date {
		d, _ := time.Parse(c.form, v)
		return d.AddDate(0, 0, by).Format(c.form)
	}
	i := len(v)
	for i > 0 && v[i-1] >= '0' && v[i-1] <= '9' {
		i--
	}
	var n int
	_, _ = fmt.Sscan(v[i:], &n)
	if v[i:] != fmt.Sprint(n) {
		return v[:i] + fmt.Sprintf("%0*d", len(v)-i, n+by)
	}
	return v[:i] + fmt.Sprint(n+by)
}

func less(c *column, a, b string) bool {
	switch c.kind {
	case amount, whole:
		var x, y float64
		_, _ = fmt.Sscan(a, &x)
		_, _ = fmt.Sscan(b, &y)
		return x < y
	case date:
		x, _ := time.Parse(c.form, a)
		y, _ := time.Parse(c.form, b)
		return x.Before(y)
	}
	return a < b
}
