package compare

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// lent recognises a copy that was lent, and refuses one that was lent from
// another snapshot. What a narrow copy lacks is no deletion.
func (t *tables) lent(edited *table.Image) error {
	l := edited.Lent
	if l == nil || t.o.Digest == nil {
		return nil
	}
	sum, err := t.o.Digest()
	switch {
	case err != nil:
		return err
	case sum != l.Snapshot && !t.o.OtherRegister:
		return &Refusal{Code: LentElsewhere, File: edited.Name, Text: fmt.Sprintf("%s was not lent from this snapshot, but from another called %s", edited.Name, l.Name)}
	case sum != l.Snapshot:
		t.find(changeset.LentOther.Finding("the copy was lent from another snapshot, called %s", l.Name), edited.Name, "")
	default:
		t.lentHere = true
		t.findLent(l, edited.Name)
	}
	if l.Narrow() {
		t.o.Missing, t.narrow = Ignore, true
	}
	return nil
}

func (t *tables) findLent(l *table.Lent, file string) {
	f := changeset.Lent.Finding("lent from this snapshot: all %d fields, all %d records", l.Of, l.All)
	if l.Narrow() {
		f = changeset.Lent.Finding("lent from this snapshot: %d of %d fields, %d of %d records; what it lacks is no deletion", len(l.Fields), l.Of, l.Records, l.All)
	}
	t.find(f, file, "")
}

// useLend holds a lent copy against what was lent: records of it that are lost,
// and others that have come in. A copy that does not say so itself, since a
// program has saved it in a form that keeps no properties, is known by its
// fields and records.
func (p *pairs) useLend() error {
	l := p.copy.img.Lent
	switch {
	case l != nil && !p.lentHere:
		return nil
	case l == nil:
		if l = p.knownLend(); l == nil {
			return nil
		}
		p.o.Missing, p.narrow = Ignore, true
		p.findLent(l, p.copy.img.Name)
	}
	lends, known := l.Lends()
	if !known || !l.Narrow() {
		return nil
	}
	var lost, strange []uint32
	for i, m := range p.mate {
		switch was := lends.Has(i); {
		case was && m == mateNone:
			lost = append(lost, uint32(i))
		case !was && m >= mateRow:
			strange = append(strange, uint32(i))
		}
	}
	p.notLent = lends
	if len(strange) > 0 {
		rows := make([]int, len(strange))
		for k, i := range strange {
			rows[k] = p.copy.rowNumber(p.mate[i] - mateRow)
		}
		f := changeset.NotLent.Finding("%s in the copy that was not lent: %s; what is changed there is held", words.Count(len(strange), "record"), p.keyList(strange))
		if len(strange) > 1 {
			f = changeset.NotLent.Finding("%s in the copy that were not lent: %s; what is changed there is held", words.Count(len(strange), "record"), p.keyList(strange))
		}
		f.Count = len(strange)
		slices.Sort(rows)
		p.findRows(f, p.copy.img.Name, "", rows)
	}
	if len(lost) > 0 {
		text := fmt.Sprintf("%s that was lent is not in the copy: %s", words.Count(len(lost), "record"), p.keyList(lost))
		if len(lost) > 1 {
			text = fmt.Sprintf("%s that were lent are not in the copy: %s", words.Count(len(lost), "record"), p.keyList(lost))
		}
		switch p.lentLost = len(p.adds) > 0; {
		case p.lentLost:
			var keys []string
			for _, j := range p.adds[:min(len(p.adds), most)] {
				keys = append(keys, p.copy.key(j).String())
			}
			text += "; a new one may be such a record under a key that was typed anew, and is held: " + list(keys)
		case len(strange) > 0:
			text += "; where a key was typed anew, the record stands under another one"
		}
		f := changeset.LentLost.Finding("%s", text)
		f.Count = len(lost)
		p.find(f, p.copy.img.Name, "")
	}
	return nil
}

// sameCells reports whether a record and a row have the same in some fields.
func (p *pairs) sameCells(i, j uint32, fields []int) bool {
	was, is := p.snap.raw(i), p.copy.raw(j)
	for _, f := range fields {
		a, _ := csv.Cell(was, f, p.snap.img.Comma)
		b, _ := csv.Cell(is, p.res.Columns.Column[f], p.copy.img.Comma)
		if !bytes.Equal(csv.Unquote(a), csv.Unquote(b)) {
			return false
		}
	}
	return true
}

// most is how many keys are named.
const most = 6

// keyList names the first of some of the snapshot's records.
func (p *pairs) keyList(at []uint32) string {
	var keys []string
	for _, i := range at[:min(len(at), most)] {
		keys = append(keys, p.snap.key(i).String())
	}
	text := strings.Join(keys, ", ")
	if n := len(at) - most; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}

// knownLend is what was lent of this snapshot that the copy most likely is: it
// has just those fields, and of all records that were lent or are in it, more
// are both than if the whole snapshot had been lent. A record that was not lent
// and is in it unchanged says that it is another copy. Where deletes are asked
// for, nothing is guessed.
func (p *pairs) knownLend() *table.Lent {
	if p.o.Lends == nil || p.o.Missing == Asked {
		return nil
	}
	has := map[string]bool{}
	for f, col := range p.res.Columns.Column {
		if col >= 0 {
			has[p.res.Fields[f]] = true
		}
	}
	var best *table.Lent
	share := max(0.5, float64(p.matched)/float64(p.snap.len()+p.copy.len()-p.matched))
	fields := p.shared()
	for _, l := range p.o.Lends() {
		lends, known := l.Lends()
		if !known || !l.Narrow() || l.All != p.snap.len() || len(l.Fields) != len(has) || slices.ContainsFunc(l.Fields, func(f string) bool { return !has[f] }) {
			continue
		}
		both, either := 0, p.copy.len()-p.matched
		for i, m := range p.mate {
			switch was := lends.Has(i); {
			case was && m >= mateRow:
				both++
				either++
			case m >= mateRow && p.sameCells(uint32(i), m-mateRow, fields):
				both = -p.snap.len()
			case was || m >= mateRow:
				either++
			}
		}
		if s := float64(both) / float64(max(either, 1)); s > share {
			best, share = l, s
		}
	}
	return best
}
