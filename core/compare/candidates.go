package compare

import (
	"bytes"
	"context"

	"github.com/zeebo/xxh3"

	"paletwin/core/layout"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// Candidates lists the columns that could be the key: filled on every row
// and different on every row, in both files. Columns of long text, text with
// spaces and numbers with decimals are left out: they identify nothing.
func Candidates(ctx context.Context, snapshot, edited *table.Image) ([]string, error) {
	cols := make([]int, 0, len(snapshot.Heading))
	for f, h := range snapshot.Heading {
		if h != "" {
			cols = append(cols, f)
		}
	}
	unique, err := uniqueColumns(ctx, snapshot, cols)
	if err != nil {
		return nil, err
	}
	if edited != nil {
		m := layout.MatchColumns(snapshot.Heading, edited.Heading)
		var there, kept []int
		for _, f := range unique {
			if m.Column[f] >= 0 {
				there, kept = append(there, m.Column[f]), append(kept, f)
			}
		}
		still, err := uniqueColumns(ctx, edited, there)
		if err != nil {
			return nil, err
		}
		unique = unique[:0]
		for i, col := range there {
			for _, s := range still {
				if s == col {
					unique = append(unique, kept[i])
				}
			}
		}
	}
	names := make([]string, len(unique))
	for i, f := range unique {
		names[i] = snapshot.Heading[f]
	}
	return names, nil
}

// uniqueColumns returns those of cols that could be a key in one table.
func uniqueColumns(ctx context.Context, m *table.Image, cols []int) ([]int, error) {
	left := append([]int(nil), cols...)
	seen := make(map[int]map[uint64]struct{}, len(cols))
	for _, c := range cols {
		seen[c] = map[uint64]struct{}{}
	}
	err := table.Guard(func() error {
		sc := csv.Body(m)
		var cells [][]byte
		for len(left) > 0 {
			ok, err := sc.Next()
			if !ok || err != nil {
				return err
			}
			if sc.Row&0xffff == 0 && ctx.Err() != nil {
				return ctx.Err()
			}
			if csv.BlankRow(sc.Raw(), m.Comma) {
				continue
			}
			cells = csv.Split(cells[:0], sc.Raw(), m.Comma)
			keep := left[:0]
			for _, c := range left {
				if c < len(cells) && identifies(csv.Unquote(cells[c]), seen[c]) {
					keep = append(keep, c)
				}
			}
			left = keep
		}
		return nil
	})
	return left, err
}

// longestKey is the longest cell, in bytes, that is taken for an id.
const longestKey = 40

func identifies(cell []byte, seen map[uint64]struct{}) bool {
	if len(cell) == 0 || len(cell) > longestKey || bytes.ContainsAny(cell, " \n") {
		return false
	}
	if _, decimals, ok := number(cell); ok && decimals > 0 {
		return false
	}
	h := xxh3.Hash(cell)
	_, twice := seen[h]
	seen[h] = struct{}{}
	return !twice
}
