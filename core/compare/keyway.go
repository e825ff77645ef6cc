package compare

import (
	"slices"
	"strings"

	"paletwin/core/record"
	"paletwin/core/table/csv"
	"paletwin/core/wear/learn"
)

// keyWay is what became of keys on the way: the encoding of the key that is seen.
type keyWay func(record.Key) string

// sampledKeys is of how many keys it is looked what became of them.
const sampledKeys = 100

// keyWay finds what became of the keys of unmatched rows: the known habit, or the way learnt
// from rows that belong together, that makes most of a sample of unmatched keys those of
// unmatched rows. Keys that it would have changed and that stand in the copy as they
// were count against it: a column is worn, or it is not. It is nil where none does.
func (p *pairs) keyWay(lack []uint32, groups map[string]*rowGroup) keyWay {
	kept := p.keptKeys()
	var best keyWay
	most := 0
	try := func(w keyWay) {
		n := 0
		for _, k := range kept {
			if w(k) != k.Encoding() {
				n--
			}
		}
		for k := 0; k < len(lack); k += max(len(lack)/sampledKeys, 1) {
			if _, there := groups[w(p.snap.key(lack[k]))]; there {
				n++
			}
		}
		if n > most {
			best, most = w, n
		}
	}
	for _, h := range p.known().All() {
		try(eachPart(func(_ int, s string) string { worn, _ := h.Wear(s); return worn }))
	}
	if w := p.learntKeys(lack, unmatched(groups), kept); w != nil {
		try(w)
	}
	return best
}

// eachPart makes a way of what becomes of the parts of keys.
func eachPart(worn func(part int, s string) string) keyWay {
	return func(k record.Key) string {
		var b []byte
		for n, p := range k.Parts() {
			b = record.AppendPart(b, worn(n, p))
		}
		return string(b)
	}
}

// unmatched are the rows of groups, as they stand in the file.
func unmatched(groups map[string]*rowGroup) []uint32 {
	var rows []uint32
	for _, g := range groups {
		rows = append(rows, g.rows...)
	}
	slices.Sort(rows)
	return rows
}

// learntKeys learns what became of the keys from records and rows that belong together, by
// their order or by what else they hold, and from keys that are as they were. It is nil
// where nothing uniform did: then the rows were not those of the records.
func (p *pairs) learntKeys(lack, rows []uint32, kept []record.Key) keyWay {
	if w := p.learnKeys(inFileOrder(lack, rows), kept); w != nil || len(lack) > mostTold || len(rows) > mostTold {
		return w
	}
	return p.learnKeys(p.byValues(lack, rows), kept)
}

// learnKeys learns from pairs of records and rows.
func (p *pairs) learnKeys(pairs [][2]uint32, kept []record.Key) keyWay {
	parts := make([][]learn.Cell, len(p.o.Key))
	for _, a := range pairs {
		was, is := p.snap.key(a[0]).Parts(), p.copy.key(a[1]).Parts()
		for n := range parts {
			parts[n] = append(parts[n], learn.Cell{Snapshot: was[n], Seen: is[n]})
		}
	}
	for _, k := range kept {
		for n, s := range k.Parts() {
			parts[n] = append(parts[n], learn.Cell{Snapshot: s, Seen: s})
		}
	}
	columns := make([]*learn.Column, len(parts))
	learnt := false
	for n, cells := range parts {
		columns[n] = learn.Learn(cells, learn.About{Letters: learn.LearnLetters(cells), Year: p.o.Year, Shown: -1})
		learnt = learnt || columns[n] != nil
	}
	if !learnt {
		return nil
	}
	return eachPart(func(n int, s string) string {
		if columns[n] == nil {
			return s
		}
		return columns[n].Of(s)
	})
}

const (
	// alignedRows is how many rows that belong together show what became of keys.
	alignedRows = 400
	// mostTold is how many unmatched rows are told by single values: more cost memory.
	mostTold = 100_000
)

// inFileOrder pairs records and rows as they follow each other.
func inFileOrder(lack, rows []uint32) [][2]uint32 {
	if len(lack) != len(rows) {
		return nil
	}
	var all [][2]uint32
	for k := 0; k < len(lack); k += max(len(lack)/alignedRows, 1) {
		all = append(all, [2]uint32{lack[k], rows[k]})
	}
	return all
}

// split gives the cells of some rows.
func (s *side) split(rows []uint32) []csv.Row {
	all := make([]csv.Row, len(rows))
	for k, r := range rows {
		all[k].Split(s.raw(r), s.img.Comma, 0)
	}
	return all
}

// byValues pairs records and rows that have values which no other has. Two values that
// tell of different rows tell nothing.
func (p *pairs) byValues(lack, rows []uint32) [][2]uint32 {
	const none, several = ^uint32(0), ^uint32(0) - 1
	told := map[uint32]uint32{} // of a record, its row
	was, is := p.snap.split(lack), p.copy.split(rows)
	for f, col := range p.pair {
		if col < 0 || slices.Contains(p.snap.keyCol, f) {
			continue
		}
		single := func(of []uint32, cells []csv.Row, at int) map[string]uint32 {
			all := map[string]uint32{}
			for k, r := range of {
				if at >= cells[k].Len() {
					continue
				}
				v := strings.ToLower(strings.TrimSpace(string(csv.Unquote(cells[k].Cell(at)))))
				if _, twice := all[v]; twice || v == "" {
					all[v] = several
				} else {
					all[v] = r
				}
			}
			return all
		}
		seen := single(rows, is, col)
		for v, i := range single(lack, was, f) {
			j, there := seen[v]
			if i == several || !there || j == several {
				continue
			}
			if old, more := told[i]; more && old != j {
				told[i] = none
			} else {
				told[i] = j
			}
		}
	}
	var all [][2]uint32
	for _, i := range lack {
		if j, there := told[i]; there && j != none && len(all) < alignedRows {
			all = append(all, [2]uint32{i, j})
		}
	}
	return all
}
