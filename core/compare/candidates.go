package compare

import (
	"bytes"
	"context"
	"errors"
	"io"
	"slices"

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
	err := csv.Each(ctx, m, func(r *csv.Line) error {
		keep := left[:0]
		for _, c := range left {
			if c < r.Len() && identifies(r.Cell(c), seen[c]) {
				keep = append(keep, c)
			}
		}
		if left = keep; len(left) == 0 {
			return io.EOF
		}
		return nil
	})
	return left, err
}

const (
	mostTogether = 8 // columns that are tried together
	mostInKey    = 4 // of them in a key
)

// Together returns the first columns that together could be the key, two of them,
// three or four: filled on every row, and different on every row. nil is none.
// Columns to avoid are taken only where there is no key without them.
func Together(ctx context.Context, m *table.Image, avoid ...string) ([]string, error) {
	cols, err := filledColumns(ctx, m)
	if err != nil {
		return nil, err
	}
	if len(avoid) > 0 {
		liked := slices.DeleteFunc(slices.Clone(cols), func(c int) bool { return slices.Contains(avoid, m.Heading[c]) })
		if found, err := keyAmong(ctx, m, liked); err != nil || found != nil {
			return found, err
		}
	}
	return keyAmong(ctx, m, cols)
}

func keyAmong(ctx context.Context, m *table.Image, cols []int) ([]string, error) {
	cols = cols[:min(len(cols), mostTogether)]
	var tries [][]int
	for a := range cols {
		for b := a + 1; b < len(cols); b++ {
			tries = append(tries, []int{cols[a], cols[b]})
		}
	}
	for from, most := 0, 3; most <= mostInKey; most++ { // each longer by a column than those before
		shorter := tries[from:]
		from = len(tries)
		for _, try := range shorter {
			for _, c := range cols {
				if c > try[len(try)-1] {
					tries = append(tries, append(slices.Clone(try), c))
				}
			}
		}
	}
	for _, try := range tries {
		unique, err := uniqueTogether(ctx, m, try)
		if err != nil {
			return nil, err
		}
		if unique {
			names := make([]string, len(try))
			for i, c := range try {
				names[i] = m.Heading[c]
			}
			return names, nil
		}
	}
	return nil, nil
}

// filledColumns returns the columns of which each cell could be a part of a key.
func filledColumns(ctx context.Context, m *table.Image) ([]int, error) {
	left := make([]bool, len(m.Heading))
	for f, h := range m.Heading {
		left[f] = h != ""
	}
	err := csv.Each(ctx, m, func(r *csv.Line) error {
		for c := range left {
			left[c] = left[c] && couldIdentify(r.Cell(c))
		}
		return nil
	})
	var cols []int
	for c, is := range left {
		if is {
			cols = append(cols, c)
		}
	}
	return cols, err
}

// uniqueTogether reports whether no two rows have the same cells in some columns.
func uniqueTogether(ctx context.Context, m *table.Image, cols []int) (bool, error) {
	seen := map[uint64]struct{}{}
	var key []byte
	err := csv.Each(ctx, m, func(r *csv.Line) error {
		key = r.AppendKey(key[:0], cols)
		h := xxh3.Hash(key)
		if _, twice := seen[h]; twice {
			return errTwice
		}
		seen[h] = struct{}{}
		return nil
	})
	if errors.Is(err, errTwice) {
		return false, nil
	}
	return err == nil, err
}

var errTwice = errors.New("twice")

// longestKey is the longest cell, in bytes, that is taken for an id.
const longestKey = 40

func couldIdentify(cell []byte) bool {
	if len(cell) == 0 || len(cell) > longestKey || bytes.ContainsAny(cell, " \n") {
		return false
	}
	_, decimals, ok := number(cell)
	return !ok || decimals == 0
}

func identifies(cell []byte, seen map[uint64]struct{}) bool {
	if !couldIdentify(cell) {
		return false
	}
	h := xxh3.Hash(cell)
	_, twice := seen[h]
	seen[h] = struct{}{}
	return !twice
}
