package handoff

import (
	"paletwin/core/layout"
	"paletwin/core/record"
)

// Recognise gives rows whose key is written otherwise the key of the record
// that it can only mean: as the layout's form of keys says, which looks
// through lost zeros or another case. A row that could mean two keeps its own.
func Recognise(rows []Row, l *layout.Layout, known []record.Key) {
	if l == nil || l.KeyForm == (layout.KeyForm{}) {
		return
	}
	exact := make(map[record.Key]bool, len(known))
	loose := make(map[record.Key]record.Key, len(known))
	for _, k := range known {
		exact[k] = true
		form := l.OneKey(k)
		if other, twice := loose[form]; twice && other != k {
			loose[form] = record.Key{}
			continue
		}
		loose[form] = k
	}
	for i := range rows {
		if exact[rows[i].Key] {
			continue
		}
		if k := loose[l.OneKey(rows[i].Key)]; !k.IsZero() {
			rows[i].Key = k
		}
	}
}
