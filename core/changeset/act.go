package changeset

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"maps"
	"slices"

	"paletwin/core/forms"
	"paletwin/core/record"
)

// This file reads what AppendLine of an act writes.

// act reads a line of decisions.jsonl.
func (d *Decoder) act(line []byte) (a *DecisionAct, previous string, err error) {
	a = new(DecisionAct)
	form, version := "", 0
	var on []byte
	var seen, as valuesJSON
	d.Reset(line)
	err = d.Object(func(name []byte) (err error) {
		switch string(name) {
		case "paletwin":
			form, _, err = d.Text()
		case "version":
			version, err = d.Number()
		case "record_set":
			a.RecordSet, _, err = d.Text()
		case "decision":
			var word string
			word, err = d.Word()
			a.Decision = Decision(word)
		case "by":
			a.By, _, err = d.Text()
		case "via":
			a.Via, _, err = d.Text()
		case "account":
			a.Account, _, err = d.Text()
		case "dossier":
			a.Dossier, _, err = d.Text()
		case "when":
			err = d.Into(&a.When)
		case "note":
			a.Note, _, err = d.Text()
		case "how":
			a.How, _, err = d.Text()
		case "of":
			a.Of, _, err = d.Text()
		case "by_field":
			a.ByField, err = d.True()
		case "held":
			a.Held, err = d.True()
		case "on": // of a million changes: it is read below
			on, err = d.Raw()
		case "previous":
			previous, _, err = d.Text()
		case "seen":
			err = d.Into(&seen)
		case "as":
			err = d.Into(&as)
		default:
			err = d.Skip()
		}
		return err
	})
	if err == nil {
		err = d.End()
	}
	if err != nil || form != forms.Decision.Name {
		return nil, "", errors.New("is no decision")
	}
	if err := forms.Decision.Check(version); err != nil {
		return nil, "", err
	}
	if a.Seen, err = seen.records(); err != nil {
		return nil, "", err
	}
	if a.As, err = as.records(); err != nil {
		return nil, "", err
	}
	a.On, err = parsePairs(on)
	if err != nil {
		return nil, "", err
	}
	return a, previous, nil
}

// valuesJSON is values by change and field, as an act's line holds them.
type valuesJSON map[string]map[string]*string

func (j valuesJSON) records() (map[ID]record.Record, error) {
	if len(j) == 0 {
		return nil, nil
	}
	all := make(map[ID]record.Record, len(j))
	for text, values := range j {
		id, err := ParseID(text)
		if err != nil {
			return nil, err
		}
		var r record.Record
		for _, name := range slices.Sorted(maps.Keys(values)) {
			r = append(r, record.Field{Name: name, Value: ValueOf(values[name])})
		}
		all[id] = r
	}
	return all, nil
}

// parsePairs reads an act's list of pairs. One act may be on a million
// changes, so the form that AppendLine writes is read directly.
func parsePairs(b []byte) ([]Pair, error) {
	const plain = len(`["7f3a91c2d4e5f607","9b74c9897bac770ffc029102a200c5de"]`)
	pairs := make([]Pair, 0, len(b)/plain)
	rest, ok := bytes.CutPrefix(b, []byte{'['})
	for ok && len(rest) > plain {
		var p Pair
		var err error
		if rest, err = parsePair(rest, &p, plain); err != nil {
			return nil, err
		}
		pairs = append(pairs, p)
		rest = bytes.TrimPrefix(rest, []byte{','})
	}
	if !ok || string(rest) != "]" {
		return nil, errors.New("is no decision")
	}
	return pairs, nil
}

// parsePair reads one pair from the start of b and returns what follows it.
func parsePair(b []byte, p *Pair, plain int) ([]byte, error) {
	bad := errors.New("is no decision")
	if string(b[:2]) != `["` || string(b[18:21]) != `","` || b[53] != '"' {
		return nil, bad
	}
	if _, err := hex.Decode(p.ID[:], b[2:18]); err != nil {
		return nil, bad
	}
	if _, err := hex.Decode(p.Digest[:], b[21:53]); err != nil {
		return nil, bad
	}
	if b[54] == ']' {
		return b[plain:], nil
	}
	d := json.NewDecoder(bytes.NewReader(b[55:]))
	if err := d.Decode(&p.Field); err != nil || b[54] != ',' {
		return nil, bad
	}
	rest, ok := bytes.CutPrefix(b[55+d.InputOffset():], []byte{']'})
	if !ok {
		return nil, bad
	}
	return rest, nil
}
