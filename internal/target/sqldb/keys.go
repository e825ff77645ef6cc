package sqldb

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/record"
)

// move is a record that gets another key.
type move struct {
	it       *item
	from, to []record.Value
	cols     []int // what is written besides
	values   []record.Value
}

// rekey gives records other keys where they stand, so that everything that belongs to
// them stays: each by one UPDATE, once nobody has the key that it is to have. Of those
// that exchange keys one is parked on a value that nobody has.
func (t *Table) rekey(ctx context.Context, items []*item) error {
	var waiting []*move
	for _, it := range items {
		waiting = append(waiting, t.moveOf(it))
	}
	if err := t.keyReferred(ctx, items); err != nil {
		return err
	}
	for len(waiting) > 0 {
		free := slices.IndexFunc(waiting, func(m *move) bool {
			return !slices.ContainsFunc(waiting, func(o *move) bool { return o != m && slices.Equal(o.from, m.to) })
		})
		if free < 0 {
			if err := t.park(ctx, waiting[0]); err != nil {
				return err
			}
			continue
		}
		m := waiting[free]
		waiting = slices.Delete(waiting, free, free+1)
		if err := t.do(ctx, []statement{t.update(append(slices.Clone(t.key), m.cols...), append(slices.Clone(m.to), m.values...), m.from)}); err != nil {
			return err
		}
		m.it.at = m.to
	}
	return nil
}

// moveOf is the move that a step means.
func (t *Table) moveOf(it *item) *move {
	m := &move{it: it, from: t.valuesAt(it.was), to: newKeyValues(it.step.Key)}
	for _, f := range it.step.Record {
		c := slices.Index(t.fields, f.Name)
		if c < 0 || slices.Contains(t.key, c) || t.cols[c].generated || t.o.Of.Equal(f.Name, it.was[c], f.Value) {
			continue
		}
		m.cols, m.values = append(m.cols, c), append(m.values, t.value(t.cols[c], f.Value))
	}
	return m
}

func newKeyValues(k record.Key) []record.Value {
	var values []record.Value
	for _, p := range k.Parts() {
		values = append(values, record.Text(p))
	}
	return values
}

// park gives a record a key in between.
func (t *Table) park(ctx context.Context, m *move) error {
	for _, k := range slices.Backward(t.key) {
		for _, v := range parkings(t.cols[k]) {
			to := slices.Clone(m.from)
			to[slices.Index(t.key, k)] = record.Text(v)
			if _, err := t.s.exec(ctx, "SAVEPOINT parked"); err != nil {
				return err
			}
			err := t.do(ctx, []statement{t.update(t.key, to, m.from)})
			if now := t.e.immediate(); err == nil && now != "" {
				_, err = t.s.exec(ctx, now)
			}
			if err == nil {
				_, err = t.s.exec(ctx, "RELEASE SAVEPOINT parked")
				m.from = to
				return err
			}
			if f := t.e.failure(err); f == nil || f.kind != refused {
				return err
			}
			if _, err := t.s.exec(ctx, "ROLLBACK TO SAVEPOINT parked"); err != nil {
				return err
			}
		}
	}
	return &failure{kind: refused, text: "records exchange their keys, and the database takes no value in between"}
}

// parkings are values that nobody has, one of which a column may take.
func parkings(c *column) []string {
	mark := strings.TrimPrefix(newMark(), "paletwin-")
	number := fmt.Sprint(1 + int(mark[0])<<16 + int(mark[1])<<8 + int(mark[2]))
	all := []string{"-" + number, number, "-" + number[len(number)-2:], "127", "32767", "2147483647"}
	uuid := mark[:8] + "-" + mark[8:12] + "-4" + mark[13:16] + "-8" + mark[17:20] + "-" + mark[:12]
	all = append(all, uuid, "0001-01-01", "9999-12-31", "00:00:00")
	if !c.bytes {
		all = append(all, "~"+mark)
	}
	for n := min(len(mark), 12); n > 0; n-- {
		all = append(all, strings.ToUpper(mark[:n]))
	}
	return append(all, "~", "!", "^", "_")
}
