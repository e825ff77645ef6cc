package handoff

import (
	"paletwin/core/record"
	"paletwin/core/schema"
)

// Recognise gives rows whose key is written otherwise the key of the record
// that it can only mean: as the form of keys says, which looks
// through lost zeros or another case. A row that could mean two keeps its own.
func Recognise(rows []Row, s *schema.Schema, known []record.Key) {
	if s.OneForm() {
		return
	}
	exact := make(map[record.Key]bool, len(known))
	loose := make(map[record.Key]record.Key, len(known))
	for _, k := range known {
		exact[k] = true
		form := s.Key(k)
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
		if k := loose[s.Key(rows[i].Key)]; !k.IsZero() {
			rows[i].Key = k
		}
	}
}
