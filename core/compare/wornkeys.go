package compare

import (
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/words"
)

// rowGroup is the copy's unmatched rows that are seen with one key.
type rowGroup struct {
	rows   []uint32
	repeat uint32 // their group in pairs.repeats, 0 for a single row
}

// wornKeys matches rows whose keys software changed: those of which exactly
// one snapshot key becomes what is seen, and which no other row claims; where
// several do, by what else the rows hold.
func (p *pairs) wornKeys() {
	if p.copy == nil || !p.o.Wear {
		return
	}
	groups, unmatched := p.unmatchedRows()
	if unmatched == 0 || unmatched*fewUnmatched < p.copy.len() {
		return
	}
	var lack []uint32
	for i, m := range p.mate {
		if m == mateNone {
			lack = append(lack, uint32(i))
		}
	}
	if len(lack) == 0 {
		return
	}
	way := p.keyWay(lack, groups)
	if way == nil {
		return
	}
	claims := make(map[string][]uint32, len(groups))
	for _, i := range lack {
		worn := way(p.snap.key(i))
		if _, seen := groups[worn]; seen {
			claims[worn] = append(claims[worn], i)
		}
	}
	p.pairWorn(groups, claims)
}

// unmatchedRows are the rows that match no record, by their keys.
func (p *pairs) unmatchedRows() (map[string]*rowGroup, int) {
	groups := make(map[string]*rowGroup, len(p.adds))
	for _, j := range p.adds {
		groups[p.copy.key(j).Encoding()] = &rowGroup{rows: []uint32{j}}
	}
	n := len(p.adds)
	for g, rows := range p.repeats {
		if g >= uint32(p.snap.len()) {
			groups[p.copy.key(rows[0]).Encoding()] = &rowGroup{rows: rows, repeat: g}
			n += len(rows)
		}
	}
	return groups, n
}

// keptKeys are keys of a sample of records that are matched as they are.
func (p *pairs) keptKeys() (keys []record.Key) {
	for i := 0; i < len(p.mate); i += max(len(p.mate)/100, 1) {
		if p.mate[i] >= mateRow {
			keys = append(keys, p.snap.key(uint32(i)))
		}
	}
	return keys
}

// pairWorn pairs each row with the one record that claims it. Rows that
// several claim are told apart by what else they hold; what is left is
// nobody's.
func (p *pairs) pairWorn(groups map[string]*rowGroup, claims map[string][]uint32) {
	taken := map[uint32]bool{}
	var lost []uint32
	pairs, example, first := 0, "", uint32(0)
	for seen, records := range claims {
		g := groups[seen]
		if len(records) == 1 && len(g.rows) == 1 {
			j, i := g.rows[0], records[0]
			taken[j] = true
			p.join(i, j)
			if pairs++; example == "" || i < first {
				first = i
				example = p.snap.key(first).String() + " as " + p.copy.key(j).String()
			}
			continue
		}
		if len(records) == 1 {
			continue // one record on several rows: a repeat
		}
		left, without := p.byEvidence(g.rows, records)
		for _, j := range g.rows {
			taken[j] = true
		}
		delete(p.repeats, g.repeat)
		lost = append(lost, left...)
		if len(left) > 0 { // the records may be on the rows that are left
			for _, i := range without {
				p.become(i, mateRepeat)
			}
			p.res.Records.StoppedRecords += len(without)
		}
	}
	p.adds = slices.DeleteFunc(p.adds, func(j uint32) bool { return taken[j] })
	name := p.copy.img.Name
	p.keyWorn = pairs > 0 || len(p.evidence) > 0
	if pairs > 0 {
		f := changeset.KeyWorn.Finding("%s with a key that a program changed %s recognised (%s)", words.Count(pairs, "row"), isAre(pairs), example)
		f.Count = pairs
		p.find(f, name, strings.Join(p.o.Key, ", "))
	}
	if n := len(p.evidence); n > 0 {
		f := changeset.KeyEvidence.Finding("%s with a key that several records are shown with %s told apart by the other fields; all their changes are held", words.Count(n, "row"), isAre(n))
		f.Count = n
		p.find(f, name, strings.Join(p.o.Key, ", "))
	}
	if len(lost) > 0 {
		slices.Sort(lost)
		p.res.Records.Stopped += len(lost)
		f := changeset.KeyLost.Finding("%s with a key that several records would be shown with: nothing is taken from there", words.Count(len(lost), "row"))
		f.Count = len(lost)
		p.findRows(f, name, "", p.copy.rowNumbers(lost))
	}
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}
