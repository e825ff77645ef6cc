package odata

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"sync"

	"paletwin/core/record"
	"paletwin/internal/odata"
	"paletwin/internal/target"
)

// This file reads some records of the set, by their keys.

// Only has Current, Backup and Table look at the records with some keys alone, from the next look on; nil is all.
func (s *Set) Only(keys []record.Key) error {
	if keys == nil && s.only == nil {
		return nil
	}
	if s.only = nil; keys != nil {
		s.only = make(map[record.Key]bool, len(keys))
	}
	for _, k := range keys {
		s.only[s.o.Of.Key(k)] = true
	}
	return s.forget()
}

// some reads the records that are looked at. Where keys have several forms, all are read to find them.
func (s *Set) some(ctx context.Context) ([]row, error) {
	if !s.o.Of.OneForm() {
		rows, err := s.steady(ctx)
		return slices.DeleteFunc(rows, func(r row) bool { return !s.only[s.o.Of.Key(record.KeyOf([]byte(encoded(r.key))))] }), err
	}
	var keys []record.Key
	for k := range s.only {
		keys = append(keys, k)
	}
	var rows []row
	for part := range slices.Chunk(keys, s.size()*s.flights()) {
		now, err := s.readKeys(ctx, part)
		if err != nil {
			return nil, err
		}
		for _, n := range now {
			if n.there {
				rows = append(rows, row{key: sortKey(n.key), cells: n.cells, etag: n.etag})
			}
		}
	}
	slices.SortFunc(rows, func(a, b row) int { return cmp.Compare(a.key, b.key) })
	return rows, nil
}

// readKeys reads records by their keys as these stand there.
func (s *Set) readKeys(ctx context.Context, keys []record.Key) ([]*seen, error) {
	if len(keys) > 1 {
		if err := s.c.prove(ctx, s.probe()); err != nil {
			return nil, err
		}
	}
	all := make([]*seen, len(keys))
	errs := make([]error, len(keys))
	slots := make(chan struct{}, s.flights())
	var wg sync.WaitGroup
	for from := 0; from < len(keys); {
		at, n := from, min(s.most(), len(keys)-from)
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			errs[at] = s.readChunk(ctx, keys[at:at+n], all[at:at+n])
		})
		from += n
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	if there := slices.ContainsFunc(all, func(n *seen) bool { return n.there }); there && !s.shown {
		s.shows(slices.ContainsFunc(all, func(n *seen) bool { return n.etag != "" }))
	}
	return all, nil
}

func (s *Set) readChunk(ctx context.Context, keys []record.Key, into []*seen) error {
	var reqs []request
	var at []int
	for i, k := range keys {
		if !s.addressable(k) {
			into[i] = &seen{key: k}
			continue
		}
		reqs, at = append(reqs, request{method: "GET", path: s.path(k)}), append(at, i)
	}
	most := len(reqs)
	for from := 0; from < len(reqs); {
		n := min(s.most(), most, len(reqs)-from)
		x, err := s.c.exchange(ctx, reqs[from:from+n], sending{safe: true})
		if e, ok := err.(*Error); ok && e.Code == TooLarge && n > 1 {
			s.c.batches.most.Store(int32(n / 2))
			continue
		} else if ok && e.Code == Failed && n > 1 { // one of them may be why
			most = 1
			continue
		}
		if err != nil {
			return err
		}
		sent := 0
		for i, a := range x.answers {
			if a == nil || busy(a.status) || a.status == http.StatusFailedDependency {
				break // it is asked once more
			}
			if into[at[from+i]], err = s.gotten(keys[at[from+i]], a); err != nil {
				return err
			}
			sent++
		}
		if sent == 0 {
			var w waiting
			if err := s.c.wait(ctx, &w, nil, &Error{Name: s.Name(), Code: Busy, Text: "the service does not answer to what is asked in batches"}); err != nil {
				return err
			}
		}
		from += sent
	}
	return nil
}

// gotten is the answer to a question for a record.
func (s *Set) gotten(key record.Key, a *answer) (*seen, error) {
	n := &seen{key: key}
	if a.status == http.StatusNotFound || a.status == http.StatusGone || a.status == http.StatusNoContent {
		return n, nil
	}
	if a.status != http.StatusOK {
		return nil, &Error{Name: s.Name(), Code: Refused, Text: fmt.Sprintf("the record %s cannot be read: ", key) + s.refusal(&cause{a.status, s.c.wordsOf(a)})}
	}
	r, err := s.row(decoder(a.body), a.body, new(scratch))
	if err != nil {
		return nil, &Error{Name: s.Name(), Code: Foreign, Text: fmt.Sprintf("what the service answers is no record %s: %v", key, err)}
	}
	if n.there, n.cells, n.etag = true, r.cells, r.etag; s.shown { // else the header's is one of HTTP, which guards no record
		n.etag = cmp.Or(n.etag, a.header.Get("ETag"))
	}
	n.key = record.KeyOf([]byte(encoded(r.key)))
	return n, nil
}

// probe asks for something that is there.
func (s *Set) probe() string { return odata.Escape(s.at.Set) + "?$top=1" }

// shows notes whether records that were read have ETags of their own.
func (s *Set) shows(tags bool) { s.tagged, s.shown = tags, tags }

// addressable reports whether a key can be one of the set's: a text that is no value of its property is that of no record.
func (s *Set) addressable(k record.Key) bool {
	parts := k.Parts()
	if len(parts) != len(s.key) {
		return false
	}
	for i, text := range parts {
		p := &s.typ.properties[s.key[i]]
		if _, err := p.appendJSON(nil, record.Text(text), true); err != nil || text == "" {
			return false
		}
	}
	return true
}

// size is how many requests go together at most, flights how many times at once.
func (s *Set) size() int { return cmp.Or(s.o.Batch, 250) }

func (s *Set) flights() int {
	if !s.tagged {
		return 1
	}
	return cmp.Or(s.o.Flights, 4)
}

var _ target.Narrower = (*Set)(nil)
