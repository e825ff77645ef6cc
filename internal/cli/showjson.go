package cli

import (
	"encoding/json"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/jsontext"
	"paletwin/core/record"
	"paletwin/internal/desk"
)

// showJSON prints a line a change.
func (a *app) showJSON(t *desk.Dossier, c *desk.Changes, f *changeset.Filter) error {
	return pick(c, f, func(p *picked) error { return a.printJSON(changeJSON(t, p)) })
}

// ordered is a JSON object whose members keep their order.
type ordered []member

type member struct {
	name  string
	value any
}

func (o ordered) MarshalJSON() ([]byte, error) {
	b := []byte{'{'}
	for i, m := range o {
		if i > 0 {
			b = append(b, ',')
		}
		b = jsontext.AppendString(b, m.name)
		b = append(b, ':')
		if v, ok := m.value.(record.Value); ok {
			b = changeset.AppendValue(b, v)
			continue
		}
		v, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		b = append(b, v...)
	}
	return append(b, '}'), nil
}

// keyJSON is a key as JSON has it: its parts by the names of its fields.
func keyJSON(fields []string, k record.Key) ordered {
	o := ordered{}
	for i, part := range k.Parts() {
		o = append(o, member{fields[i], part})
	}
	return o
}

// changeJSON is a change as show --json prints it.
func changeJSON(t *desk.Dossier, p *picked) ordered {
	set := t.Set()
	o := ordered{{"record_set", set.Name}, {"id", p.ID.String()}, {"act", p.Act.String()}, {"key", keyJSON(set.Key, p.Key)}}
	if p.Act == changeset.Amend {
		fields := ordered{}
		for _, i := range p.fields {
			f, s := &p.Fields[i], &p.states[i]
			fields = append(fields, member{f.Field, slices.Concat(ordered{{"from", f.From}, {"to", s.Wanted(f)}}, copiesJSON(f.Copies), stateJSON(s))})
		}
		return append(append(o, copiesJSON(p.Copies)...), member{"fields", fields})
	}
	rec := recordJSON(p.Chosen(p.states[0].Of))
	return slices.Concat(o, copiesJSON(p.Copies), ordered{{"record", rec}}, stateJSON(&p.states[0]))
}

func recordJSON(r record.Record) ordered {
	o := ordered{}
	for _, f := range r {
		o = append(o, member{f.Name, f.Value})
	}
	return o
}

// copiesJSON says, where there are several copies, in which something was found, which of them
// stand against it, and what others have.
func copiesJSON(c *changeset.Copies) ordered {
	if c == nil {
		return nil
	}
	o := ordered{{"of", orEmpty(c.Of)}}
	if len(c.There) > 0 {
		o = append(o, member{"there", c.There})
	}
	var sides []ordered
	for _, s := range c.Sides {
		side := ordered{{"of", s.Of}}
		if s.Record != nil {
			side = append(side, member{"record", recordJSON(s.Record)})
		} else {
			side = append(side, member{"to", s.To})
		}
		sides = append(sides, append(side, member{"findings", orEmpty(slices.Concat(s.Stop, s.Held, s.Noted))}))
	}
	if len(sides) > 0 {
		o = append(o, member{"sides", sides})
	}
	return o
}

func stateJSON(s *changeset.State) ordered {
	o := ordered{{"decision", string(s.Decision)}, {"by", s.By}, {"findings", orEmpty(slices.Concat(s.Stop, s.Held, s.Noted))}}
	if s.Of != "" {
		o = append(o, member{"side", s.Of})
	}
	if s.Note != "" {
		o = append(o, member{"note", s.Note})
	}
	if s.Lapsed != "" {
		o = append(o, member{"lapsed", string(s.Lapsed)})
	}
	return o
}
