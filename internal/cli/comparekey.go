package cli

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"paletwin/core/compare"
	"paletwin/core/table"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

// keyOf chooses the key of a snapshot that the desk may know: as it was taken, if its columns are still called so.
func (a *app) keyOf(s *desk.Source) func(ctx context.Context, snapshot, edited *table.Image) ([]string, error) {
	return func(ctx context.Context, snapshot, edited *table.Image) ([]string, error) {
		unknown := slices.ContainsFunc(s.Key, func(k string) bool { return !slices.Contains(snapshot.Heading, k) })
		if len(s.Key) == 0 || unknown || edited != nil && edited.Lent != nil {
			return a.chooseKey(ctx, snapshot, edited)
		}
		a.hint("%s", screen.Dim("the key is "+strings.Join(s.Key, ",")+", as it was taken"))
		return s.Key, nil
	}
}

// chooseKey names the key where the command line does not: that of a copy that
// was lent, or the first column, if it and no other can be the key.
func (a *app) chooseKey(ctx context.Context, snapshot, edited *table.Image) ([]string, error) {
	if edited != nil && edited.Lent != nil {
		return edited.Lent.Key, nil
	}
	found, err := compare.Candidates(ctx, snapshot, edited)
	if err != nil {
		return nil, err
	}
	if len(found) == 1 && found[0] == snapshot.Heading[0] {
		a.hint("%s", screen.Dim("the key is "+found[0]+": the first column, filled and different on every row"))
		return found, nil
	}
	r := &compare.Refusal{Code: "no-key", File: snapshot.Name, Text: "which column identifies a record? name it with --key"}
	if len(found) > 0 {
		r.Text += "; filled and different on every row: " + strings.Join(found, ", ")
	} else {
		together, err := compare.Together(ctx, snapshot)
		if err != nil {
			return nil, err
		}
		example := strings.Join(together, ",")
		r.Text += "; no column is filled and different on every row, so several may be needed: --key " + cmp.Or(example, "a,b")
	}
	return nil, r
}
