package changeset

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
)

var fileNames = rapid.SampledFrom([]string{"mairead.xlsx", `a "b".csv`, `],"of":["x`, `\`, `\"]`, "é\n.ods", "", `x,"there":["y"]`})

func drawNames(t *rapid.T) []string {
	return rapid.SliceOfN(fileNames, 1, 3).Draw(t, "names")
}

// drawCopies draws where something was found: named, and the same without names.
func drawCopies(t *rapid.T, of string) (named, bare *Copies) {
	named, bare = &Copies{Of: drawNames(t)}, &Copies{}
	if of == "whole" && rapid.Bool().Draw(t, "there") {
		named.There = drawNames(t)
	}
	for range rapid.IntRange(0, 2).Draw(t, "sides") {
		s := Side{To: record.Text(fileNames.Draw(t, "to"))}
		if of == "record" {
			s.To, s.Record = record.Null(), record.Record{{Name: "name", Value: record.Text(fileNames.Draw(t, "value"))}}
		}
		if rapid.Bool().Draw(t, "stop") {
			s.Stop = []string{"value-kind"}
		}
		bare.Sides = append(bare.Sides, s)
		s.Of = drawNames(t)
		named.Sides = append(named.Sides, s)
	}
	return named, bare
}

// A change that comes from several copies reads back as it was, and a decision is bound to what
// they have, not to what they are called.
func TestNamesOfCopiesAreNoContent(t *testing.T) {
	fields := []string{"k", "name", "of", "there", "sides"}
	rapid.Check(t, func(t *rapid.T) {
		field := rapid.SampledFrom(fields[1:]).Draw(t, "field")
		value := record.Text(fileNames.Draw(t, "value"))
		c := &Change{Act: Amend, Key: record.NewKey("1"), Fields: []FieldChange{{Edit: Edit{Field: field, From: record.Text(""), To: value}, Stop: []string{CopiesDisagree.Name}}}}
		d := *c
		d.Fields = []FieldChange{c.Fields[0]}
		if rapid.Bool().Draw(t, "add") {
			c.Act, c.Fields, c.Record = Add, nil, record.Record{{Name: field, Value: value}}
			d = *c
			c.Copies, d.Copies = drawCopies(t, "record")
		} else {
			c.Fields[0].Copies, d.Fields[0].Copies = drawCopies(t, "field")
			if rapid.Bool().Draw(t, "against") {
				c.Copies = &Copies{Of: drawNames(t), There: drawNames(t)}
			}
		}
		c.ID = MakeID("aids", c.Key, c.Act)
		d.ID = c.ID
		line := AppendLine(nil, c)
		line = line[:len(line)-1]
		back, err := Line(line).Change(fields)
		require.NoError(t, err)
		require.Equal(t, c, back)
		bare := AppendLine(nil, &d)
		require.Equal(t, DigestOf(Line(bare[:len(bare)-1])), DigestOf(line), "%s\n%s", bare, line)
		for i := range c.Fields {
			require.Equal(t, FieldDigest(&d, &d.Fields[i]), FieldDigest(c, &c.Fields[i]))
		}
	})
}
