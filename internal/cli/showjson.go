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
			fields = append(fields, member{f.Field, append(ordered{{"from", f.From}, {"to", wanted(f, s)}}, stateJSON(s)...)})
		}
		return append(o, member{"fields", fields})
	}
	rec := ordered{}
	for _, f := range p.Record {
		rec = append(rec, member{f.Name, f.Value})
	}
	return append(append(o, member{"record", rec}), stateJSON(&p.states[0])...)
}

func stateJSON(s *changeset.State) ordered {
	o := ordered{{"decision", string(s.Decision)}, {"by", s.By}, {"findings", orEmpty(slices.Concat(s.Stop, s.Held, s.Noted))}}
	if s.Note != "" {
		o = append(o, member{"note", s.Note})
	}
	if s.Lapsed != "" {
		o = append(o, member{"lapsed", string(s.Lapsed)})
	}
	return o
}
