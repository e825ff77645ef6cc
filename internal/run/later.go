package run

import (
	"strconv"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/desk"
)

// later knows what dossiers after one wrote to its target, so that a difference which they
// made is not taken for one that nobody meant. It is read when it is first
// asked.
type later struct {
	t     *desk.Dossier
	at    At
	read  bool
	wrote map[place]wrote
	err   error
}

// place is a field of a record; the field "" is whether the record is there.
type place struct {
	key   record.Key
	field string
}

// wrote is the last that was written to a place, and by which dossier.
type wrote struct{ value, dossier string }

// who returns the number of the later dossier that wrote what is found at a
// place, or "".
func (l *later) who(key record.Key, field, found string) string {
	if !l.read {
		l.read = true
		l.err = l.load()
	}
	if w, ok := l.wrote[place{key, field}]; ok && w.value == found {
		return w.dossier
	}
	return ""
}

func (l *later) load() error {
	all, err := l.t.Desk().Dossiers()
	if err != nil {
		return err
	}
	l.wrote = map[place]wrote{}
	for _, x := range all {
		if x.Damage != nil || number(x) <= number(l.t) || x.Set().Name != l.t.Set().Name {
			continue
		}
		runs, err := Runs(x)
		if err != nil {
			return err
		}
		for _, n := range runs {
			r, err := ReadRun(x, n)
			if err != nil {
				return err
			}
			for _, s := range r.Steps {
				if r.Head.At() == l.at {
					l.take(s, x.Meta.Number)
				}
			}
		}
	}
	return nil
}

// take notes what a step wrote.
func (l *later) take(s *Step, dossier string) {
	if s.Outcome != Done {
		return
	}
	put := func(field, value string) { l.wrote[place{s.Key, field}] = wrote{value, dossier} }
	switch s.Act {
	case changeset.Delete:
		put("", goneWord)
	case changeset.Add:
		put("", thereWord)
		for f := range s.Record.All() {
			put(f.Name, s.left(f.Name, f.Value))
		}
	default:
		for f := range s.Fields.All() {
			put(f.Field, s.left(f.Field, f.To))
		}
	}
}

// left is what a done step left in a field: what was read back, or else what
// it wrote.
func (s *Step) left(field string, wrote record.Value) string {
	if v, ok := s.Rare().Read.Get(field); ok {
		return v.String()
	}
	return wrote.String()
}

func number(t *desk.Dossier) int {
	n, err := strconv.Atoi(t.Whole().Meta.Number)
	if err != nil {
		return 0
	}
	return n
}
