package desk

import (
	"cmp"
	"context"
	"slices"
	"sync"

	"paletwin/core/compare"
	"paletwin/core/table"
)

// program is what the comparison knew of the program that saved the copy.
func (t *Dossier) program() compare.Program {
	p := compare.Program{Wear: true, Year: t.Meta.When.Year()}
	if told := t.Meta.Options; told != nil {
		p.Wear, p.SavedIn, p.DayOrder = told.Wear != "off", told.SavedIn, told.DayOrder
	}
	return p
}

// Worn compares the kept inputs again and lists the cells of the copy that
// were not read as they are seen, by row.
func (t *Dossier) Worn(ctx context.Context) ([]compare.Cell, error) {
	o := compare.Options{RecordSet: t.Set().Name, Key: t.Set().Key, OtherRegister: true, Program: t.program()}
	if len(t.Meta.Edited) == 0 || !o.Wear {
		return nil, nil
	}
	l, err := t.Layout()
	if err != nil {
		return nil, err
	}
	o.Layout = l
	snapshot, err := t.OpenInput(t.Meta.Snapshot)
	if err != nil {
		return nil, err
	}
	defer snapshot.Close()
	var copies []*table.Image
	for _, in := range t.Meta.Edited {
		edited, err := t.OpenInput(in)
		if err != nil {
			return nil, err
		}
		defer edited.Close()
		copies = append(copies, edited.Image)
	}
	var mu sync.Mutex
	var all []compare.Cell
	o.Worn = func(c compare.Cell) {
		mu.Lock()
		all = append(all, c)
		mu.Unlock()
	}
	if _, err := compare.RunCopies(ctx, snapshot.Image, copies, o, nil); err != nil {
		return nil, err
	}
	slices.SortStableFunc(all, func(a, b compare.Cell) int {
		return cmp.Or(cmp.Compare(a.File, b.File), a.Row-b.Row, cmp.Compare(a.Field, b.Field))
	})
	return all, nil
}
