package sqldb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"golang.org/x/sync/errgroup"
)

// This file is about pairs of tables whose records stand on several servers: where the parts of both lie together,
// each server joins its own.

// together makes a pair of every two parts that lie together. why says in words why they do not.
func (p *Pair) together(ctx context.Context) (why string, err error) {
	a, b := p.a.over, p.b.over
	if len(a.shards) != len(b.shards) {
		return fmt.Sprintf("one stands on %d servers and the other on %d", len(a.shards), len(b.shards)), nil
	}
	for i, h := range a.hash {
		if i >= len(b.hash) || len(a.hash) != len(b.hash) || p.mate[h] != b.hash[i] || p.a.cols[h].typ != p.b.cols[b.hash[i]].typ {
			return "they are not parted by the same fields", nil
		}
	}
	var all []*Pair
	for _, x := range a.shards {
		k := slices.IndexFunc(b.shards, func(y *shard) bool {
			return y.modulus == x.modulus && y.remainder == x.remainder && x.shares(y.Table)
		})
		if k < 0 {
			return fmt.Sprintf("the parts on server %s do not lie together", x.server), nil
		}
		one, reason, err := NewPair(ctx, x.Table, b.shards[k].Table)
		if err != nil {
			return "", err
		}
		if reason == "" && !one.inside {
			reason = "no key keeps two of its records apart there"
		}
		if reason != "" {
			return fmt.Sprintf("server %s cannot join them: %s", x.server, reason), nil
		}
		all = append(all, one)
	}
	p.shards = all
	return "", nil
}

// writeShards has every server join its parts, all at once, and writes what differs in the order of the keys.
func (p *Pair) writeShards(ctx context.Context, outA, outB io.Writer) (*Apart, error) {
	files := make([][2]*os.File, len(p.shards))
	defer func() {
		for _, both := range files {
			for _, f := range both {
				if f != nil {
					_ = f.Close() // it was only read
					_ = os.Remove(f.Name())
				}
			}
		}
	}()
	for i := range files {
		for k := range files[i] {
			var err error
			if files[i][k], err = os.CreateTemp("", "paletwin-"); err != nil {
				return nil, err
			}
		}
	}
	got := make([]*Apart, len(p.shards))
	g, joining := errgroup.WithContext(ctx)
	for i, one := range p.shards {
		g.Go(func() (err error) {
			got[i], err = one.Write(joining, files[i][0], files[i][1])
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	r := &Apart{Inside: true, Servers: len(p.shards)}
	for _, x := range got {
		r.Alike += x.Alike
		r.Records[0] += x.Records[0]
		r.Records[1] += x.Records[1]
	}
	for k, out := range []io.Writer{outA, outB} {
		var from []source
		for i, one := range p.shards {
			t := []*Table{one.a, one.b}[k]
			from = append(from, source{t.shape(), func(_ context.Context, w io.Writer) error { return rewound(files[i][k], int64(len(t.heading())), w) }})
		}
		if _, err := out.Write([]*Table{p.a, p.b}[k].heading()); err != nil {
			return nil, err
		}
		if _, err := mergeRows(ctx, from, out); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// rewound copies a file from some place on.
func rewound(f *os.File, from int64, w io.Writer) error {
	_, err := f.Seek(from, io.SeekStart)
	if err == nil {
		_, err = io.Copy(w, f)
	}
	return err
}

// eachTable does something with a table, or with the tables on each of its servers.
func (t *Table) eachTable(do func(*Table) error) error {
	if t.over == nil {
		return do(t)
	}
	var errs []error
	for _, x := range t.over.shards {
		errs = append(errs, do(x.Table))
	}
	return errors.Join(errs...)
}
