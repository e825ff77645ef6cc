package handoff

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"paletwin/core/record"
	"paletwin/core/schema"
)

// A row of an answer is about the record that its key can only mean.
func TestRowsAreRecognisedInEveryForm(t *testing.T) {
	known := []record.Key{record.NewKey("00417"), record.NewKey("8"), record.NewKey("00008"), record.NewKey("00009")}
	for seen, want := range map[string]string{"417": "00417", "00417": "00417", "8": "8", "08": "08", "9": "00009", "77": "77"} {
		rows := []Row{{Key: record.NewKey(seen)}}
		Recognise(rows, schema.New([]string{"k"}, schema.KeyForm{Zeros: 5}, nil), known)
		assert.Equal(t, record.NewKey(want), rows[0].Key, seen)
		rows = []Row{{Key: record.NewKey(seen)}}
		Recognise(rows, new(schema.Schema), known)
		assert.Equal(t, record.NewKey(seen), rows[0].Key, "%s: without a form of keys", seen)
	}
}
