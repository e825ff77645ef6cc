package csv

import (
	"strings"

	"paletwin/core/table"
)

// Merged is a range of cells that a sheet shows as one; what it shows stands
// in its first cell. Rows count from 1, columns from 0, both ends included.
type Merged struct{ Top, Left, Bottom, Right int }

// maxMerged is how many merged cells are looked at: headings have few.
const maxMerged = 1000

// Merge takes in a merged range, if it can be one of a heading.
func (b *Builder) Merge(m Merged) {
	if len(b.merged) < maxMerged && m.Top <= 100 && (m.Right > m.Left || m.Bottom > m.Top) {
		b.merged = append(b.merged, m)
	}
}

// mergeHeadings makes one heading of the rows over which the heading's merged
// cells reach: a cell over several columns goes before what stands below it,
// a cell over several rows stands for itself.
//
//	| aid_no | fees      |
//	|        | ex  | inc |   aid_no, fees ex, fees inc
func mergeHeadings(m *table.Image, merged []Merged) error {
	top, bottom := m.HeadingRow, m.HeadingRow
	over := map[int]int{} // column → the one whose heading goes before its own
	for _, r := range merged {
		if r.Top != top || r.Left >= len(m.Heading) || m.Heading[r.Left] == "" {
			continue // cells that are merged and say nothing are no heading
		}
		bottom = max(bottom, r.Bottom)
		if r.Right > r.Left && r.Bottom == r.Top {
			bottom = max(bottom, r.Top+1)
		}
		for c := r.Left; c <= r.Right && c < 1<<14; c++ {
			over[c] = r.Left
		}
	}
	if bottom == top {
		return nil
	}
	heading := append([]string(nil), m.Heading...)
	s := Body(m)
	for s.Row < bottom {
		ok, err := s.Next()
		if err != nil {
			return err
		}
		if !ok || s.Row > bottom {
			return nil // nothing stands below; it is a title, not a heading of two rows
		}
		for i, c := range Split(nil, s.Raw(), m.Comma) {
			text := string(Unquote(c))
			if text == "" {
				continue
			}
			for len(heading) <= i {
				heading = append(heading, "")
			}
			if left, ok := over[i]; ok && heading[i] == "" && left < len(m.Heading) {
				heading[i] = m.Heading[left]
			}
			heading[i] = strings.TrimSpace(heading[i] + " " + text)
		}
	}
	m.Heading, m.HeadingRow, m.Body, m.BodyLine = heading, s.Row, s.pos, s.Line+s.lines+1
	m.Found.HeadingRow = s.Row
	return nil
}
