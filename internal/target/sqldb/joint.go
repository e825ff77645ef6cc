package sqldb

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"paletwin/internal/target"
)

// This file carries out steps of several tables of one database in one transaction.

// Database names the database that the table is in.
func (t *Table) Database() string {
	a := *t.at
	if t.over == nil { // what is on several servers is written with nothing else
		a.Schema, a.Table = "", "*"
	}
	return a.String()
}

// CommitJoint carries out steps of several tables of this database in one transaction, a link after the other,
// each under a savepoint: in the order of the parts, whole or not at all.
func (t *Table) CommitJoint(ctx context.Context, parts []target.Part, keep func(json.RawMessage, [][]target.Result) error) ([][]target.Result, error) {
	for try := 0; ; try++ {
		results, err := t.joint(ctx, parts, keep)
		var d *doubt
		if errors.As(err, &d) {
			f, why, ferr := t.await(ctx, d)
			switch {
			case ferr != nil:
				return nil, t.said(ferr) // the next run asks
			case f == committed:
				err = nil
			case f == unknown:
				for i, p := range parts {
					results[i] = t.doubtful(p.Steps, results[i], why)
				}
				return results, forgetAll(parts)
			}
		}
		if err == nil {
			return results, forgetAll(parts)
		}
		if cerr := ctx.Err(); cerr != nil {
			return nil, &target.Unwritten{Err: cerr}
		}
		f := t.e.failure(err)
		if f == nil {
			return nil, &target.Unwritten{Err: err}
		}
		if f.kind != again && f.kind != lost || try >= len(waits) {
			return nil, &target.Unwritten{Err: t.said(err)}
		}
		if err := target.Sleep(ctx, waits[try]); err != nil {
			return nil, &target.Unwritten{Err: err}
		}
	}
}

func forgetAll(parts []target.Part) error {
	var err error
	for _, p := range parts {
		err = errors.Join(err, p.Target.(*Table).forget())
	}
	return err
}

// joint does the steps in a transaction of t's.
func (t *Table) joint(ctx context.Context, parts []target.Part, keep func(json.RawMessage, [][]target.Result) error) (results [][]target.Result, err error) {
	if err := t.begin(ctx); err != nil {
		return nil, err
	}
	own := t.s
	for _, p := range parts { // all speak over the one connection meanwhile
		if o := p.Target.(*Table); o != t && o.s != own {
			defer func(s session) { o.s = s }(o.s)
			o.s = own
		}
	}
	defer func() { t.after(ctx, err) }()
	results = make([][]target.Result, len(parts))
	for i, p := range parts {
		results[i] = make([]target.Result, len(p.Steps))
	}
	for _, c := range clusters(parts, results) {
		if err := t.cluster(ctx, c); err != nil {
			return nil, err
		}
	}
	if !slices.ContainsFunc(results, func(r []target.Result) bool {
		return slices.ContainsFunc(r, func(r target.Result) bool { return r.Fate == target.Done })
	}) {
		return results, t.rollBack(ctx)
	}
	return results, t.commit(ctx, nil, func(ticket json.RawMessage, _ []target.Result) error { return keep(ticket, results) })
}

// share is what a cluster has in one table, at one time.
type share struct {
	table *Table
	items []*item
}

// clusters are the steps by their links, each in the order of the parts.
func clusters(parts []target.Part, results [][]target.Result) (all [][]share) {
	at := map[string]int{}
	for i, p := range parts {
		for k := range p.Steps {
			it := &item{step: &p.Steps[k], res: &results[i][k]}
			link := it.step.Linked
			n, there := at[link]
			if !there {
				n = len(all)
				at[link] = n
				all = append(all, nil)
			}
			table := p.Target.(*Table)
			if c := all[n]; len(c) > 0 && c[len(c)-1].table == table && c[len(c)-1].items[0].step.Act == it.step.Act {
				c[len(c)-1].items = append(c[len(c)-1].items, it)
			} else {
				all[n] = append(c, share{table, []*item{it}})
			}
		}
	}
	return all
}

// cluster does the steps of a link under a savepoint. Where one of several that are done at once is refused, they
// are done one by one, so that it is known which. Errors are those that end the transaction.
func (t *Table) cluster(ctx context.Context, shares []share) error {
	refused, err := t.try(ctx, shares)
	if err != nil || len(refused) < 2 {
		return err
	}
	var each []share
	for _, s := range shares {
		for _, it := range s.items {
			*it.res = target.Result{}
			each = append(each, share{s.table, []*item{{step: it.step, res: it.res}}})
		}
	}
	_, err = t.try(ctx, each)
	return err
}

// try does the steps of a link, and lists those among which one was refused.
func (t *Table) try(ctx context.Context, shares []share) (among []*item, err error) {
	if _, err := t.s.exec(ctx, "SAVEPOINT paletwin"); err != nil {
		return nil, err
	}
	var all []*item
	whole := true
	for i, s := range shares {
		if all = append(all, s.items...); !whole {
			continue
		}
		err := t.timely(ctx, func(ctx context.Context) error { return s.table.unit(ctx, s.items, alone) })
		if now := t.e.immediate(); err == nil && now != "" && i == len(shares)-1 {
			_, err = t.s.exec(ctx, now)
		}
		if err != nil {
			f := t.e.failure(err)
			if f == nil || f.kind != refused && f.kind != locked {
				return nil, err
			}
			among = s.items
			for _, it := range s.items {
				*it.res = target.Result{Fate: target.Refused, Reason: t.refusal(f)}
			}
		}
		whole = !slices.ContainsFunc(s.items, func(it *item) bool { return !it.done() })
	}
	end := "RELEASE SAVEPOINT paletwin"
	if !whole {
		end = "ROLLBACK TO SAVEPOINT paletwin"
		t.together(all)
	}
	_, err = t.s.exec(ctx, end)
	return among, err
}
