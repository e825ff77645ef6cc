package target

import (
	"slices"

	"paletwin/core/table"
)

// Named gives the columns of a target that has to be asked the names of fields, and finds the places of its key: the fields
// that were said, or the columns of its own key. place is the target's name, called that of what the columns are of.
// The error is a *MissingColumn.
func Named(place, called string, columns []string, rename func(*table.Image), said, own []string) (fields, key []string, at []int, err error) {
	img := &table.Image{Name: called, Comma: ',', Nulls: true, Heading: slices.Clone(columns)}
	if rename != nil {
		rename(img)
	}
	key = said
	if len(key) == 0 {
		for _, c := range own {
			i := slices.Index(columns, c)
			if i < 0 { // of a service, whose key is a part of something
				return nil, nil, nil, &MissingColumn{Target: place, Column: c}
			}
			key = append(key, img.Heading[i])
		}
	}
	for _, k := range key {
		i := slices.Index(img.Heading, k)
		if i < 0 {
			return nil, nil, nil, &MissingColumn{Target: place, Column: k}
		}
		at = append(at, i)
	}
	return img.Heading, key, at, nil
}
