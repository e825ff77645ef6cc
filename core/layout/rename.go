package layout

import (
	"maps"
	"slices"
	"strings"

	"paletwin/core/table"
)

// Alias says that a heading was recognised by an alias of the layout.
const Alias How = "alias"

// Mapped says that a heading was said to be a field's.
const Mapped How = "as mapped"

// NameColumns gives columns the names of the fields that they are said to be. Another column that
// has such a name as its heading has none of a field then.
func NameColumns(m *table.Image, columns map[string]string) {
	if len(columns) == 0 {
		return
	}
	to := make(map[string]string, len(columns))
	for _, h := range slices.Sorted(maps.Keys(columns)) {
		to[HeadingForm(h)] = columns[h]
	}
	heading, all := slices.Clone(m.Heading), m.Renamed
	taken := map[string]bool{}
	for c, h := range m.Heading {
		if f, is := to[HeadingForm(h)]; is && !taken[f] {
			if taken[f] = true; f != h {
				all = append(all, table.Renamed{Column: c, Heading: h, How: string(Mapped)})
			}
			heading[c] = f
		}
	}
	for c, h := range heading {
		if _, is := to[HeadingForm(m.Heading[c])]; !is && taken[h] {
			heading[c] = h + " (theirs)"
			all = append(all, table.Renamed{Column: c, Heading: h, How: "another column is mapped to it"})
		}
	}
	if len(all) > 0 {
		m.SetHeading(heading, all)
	}
}

// Rename gives the columns of a table the names of the layout's fields, where
// their headings are names or aliases of fields that no other heading names.
// The file's own headings stay what they are, and stand in the image's Renamed.
func (l *Layout) Rename(m *table.Image) {
	if l == nil {
		return
	}
	names := make([]string, len(l.Fields))
	for i := range l.Fields {
		names[i] = l.Fields[i].Name
	}
	match := MatchColumns(names, m.Heading)
	free := byForm(m.Heading, taken(match, len(m.Heading)), HeadingForm)
	all := m.Renamed
	heading := slices.Clone(m.Heading)
	for i := range l.Fields {
		f := &l.Fields[i]
		col, how := match.Column[i], match.How[i]
		for _, a := range f.Aliases {
			if c, ok := free[HeadingForm(a)]; col < 0 && ok && c >= 0 {
				col, how = c, Alias
			}
		}
		if col >= 0 && how != Exact {
			was := table.Renamed{Column: col, Heading: m.Heading[col], How: string(how)}
			if i := slices.IndexFunc(all, func(r table.Renamed) bool { return r.Column == col }); i >= 0 {
				was.Heading, was.How, all = all[i].Heading, all[i].How, slices.Delete(slices.Clone(all), i, i+1)
			}
			all = append(all, was)
			heading[col] = f.Name
		}
	}
	if len(all) > 0 {
		m.SetHeading(heading, all)
	}
}

// HeadingForm is a heading as headings are compared: in small letters, without what a program may
// have done to it.
func HeadingForm(s string) string { return strings.ToLower(strings.TrimSpace(mendHeading(s))) }

func taken(m Match, columns int) []bool {
	t := make([]bool, columns)
	for _, c := range m.Column {
		if c >= 0 {
			t[c] = true
		}
	}
	return t
}

// Ignores reports whether a heading is of a column that holds no field.
func (l *Layout) Ignores(heading string) bool {
	return l != nil && slices.ContainsFunc(l.Ignore, func(s string) bool { return HeadingForm(s) == HeadingForm(heading) })
}
