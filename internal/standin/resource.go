package standin

import (
	"strings"

	"paletwin/internal/odata"
)

// place is what a path leads to.
type place struct {
	kind  placeKind
	set   *Set          // of an entity, or of what of it is meant: the set in which the path begins
	key   []odata.Value // nil of the whole set
	navs  []*Nav        // the references that are followed from there
	field int           // of a property
	by    string        // a segment that tells which: the id of a status monitor
}

type placeKind byte

const (
	atRoot placeKind = iota
	atMetadata
	atBatch
	atLedger
	atStatus
	atSet
	atCount
	atQuery // POST …/$query: the options are in the body
	atEntity
	atReference // …/$ref
	atProperty
	atRaw // …/$value
)

// last is the set of the entity that is meant.
func (p *place) last() *Set {
	if len(p.navs) > 0 {
		return p.navs[len(p.navs)-1].Target
	}
	return p.set
}

// locate finds what a path leads to.
func (s *Service) locate(c *call) (*place, error) {
	if len(c.path) == 0 {
		return &place{kind: atRoot}, nil
	}
	rest := c.path[1:]
	switch first := c.path[0]; {
	case first == "$metadata" && len(rest) == 0:
		return &place{kind: atMetadata}, nil
	case first == "$batch" && len(rest) == 0:
		return &place{kind: atBatch}, nil
	case first == "$moods" && len(rest) == 0:
		return &place{kind: atLedger}, nil
	case first == "$status" && len(rest) == 1:
		return &place{kind: atStatus, by: rest[0]}, nil
	case strings.HasPrefix(first, "$"):
		return nil, notHere("%s", first)
	}
	name, key, keyed := cutKey(c.path[0])
	set := s.world.Set(name)
	if set == nil {
		return nil, notFound("there is no entity set %s%s", name, near(name, s.world.Names()))
	}
	p := &place{kind: atSet, set: set}
	if !keyed && len(rest) > 0 {
		switch rest[0] {
		case "$count":
			p.kind, rest = atCount, rest[1:]
		case "$query":
			p.kind, rest = atQuery, rest[1:]
		default:
			if strings.HasPrefix(rest[0], "$") {
				return nil, notHere("%s of a whole set", rest[0])
			}
			n := min(len(set.Key), len(rest)) // key-as-segment
			if p.key = set.keyOfSegments(rest[:n]); p.key == nil {
				return nil, notFound("%s is followed by no key; its key is %s", name, set.keyForm())
			}
			p.kind, rest = atEntity, rest[n:]
		}
	}
	if keyed {
		var err error
		if p.key, err = set.parseKey(key, c.options.aliases); err != nil {
			return nil, err
		}
		p.kind = atEntity
	}
	return p, p.walk(rest)
}

// Names lists the sets.
func (w *World) Names() (names []string) {
	for _, s := range w.Sets {
		names = append(names, s.Name)
	}
	return names
}

// walk follows the segments behind an entity.
func (p *place) walk(rest []string) error {
	for i, seg := range rest {
		set := p.last()
		f, isField := set.byName[seg]
		n := set.nav(seg)
		switch {
		case p.kind == atEntity && n != nil:
			p.navs = append(p.navs, n)
		case p.kind == atEntity && isField:
			p.kind, p.field = atProperty, f
		case p.kind == atProperty && seg == "$value":
			p.kind = atRaw
		case p.kind == atEntity && seg == "$ref":
			p.kind = atReference
		case strings.HasPrefix(seg, "$"):
			return notHere("%s here", strings.Join(rest[i:], "/"))
		case p.kind == atEntity:
			return notFound("%s has no property and no reference %s%s", set.Name, seg, near(seg, append(set.fieldNames(), set.navNames()...)))
		default:
			return notFound("nothing is behind %s", strings.Join(rest[:i], "/"))
		}
	}
	return nil
}

// cutKey splits a segment into the name of a set and what is in its parentheses.
func cutKey(seg string) (name, key string, keyed bool) {
	name, rest, ok := strings.Cut(seg, "(")
	if !ok || !strings.HasSuffix(rest, ")") {
		return seg, "", false
	}
	key = rest[:len(rest)-1]
	return name, key, strings.TrimSpace(key) != "" // aids() is the whole set
}

// keyForm is how the set's keys are written, for messages.
func (s *Set) keyForm() string {
	if len(s.Key) == 1 {
		return s.Name + "(" + s.Fields[s.Key[0]].Kind.String() + ")"
	}
	parts := make([]string, len(s.Key))
	for i, k := range s.Key {
		parts[i] = s.Fields[k].Name + "=" + s.Fields[k].Kind.String()
	}
	return s.Name + "(" + strings.Join(parts, ",") + ")"
}

// parseKey reads the key in the parentheses behind the set's name.
func (s *Set) parseKey(text string, aliases map[string]string) ([]odata.Value, error) {
	parts, err := odata.ParseKey(text)
	if err != nil {
		return nil, badRequest("%v", err)
	}
	values := make([]odata.Value, len(s.Key))
	given := make([]bool, len(s.Key))
	for _, part := range parts {
		at := 0
		if part.Name != "" || len(s.Key) > 1 {
			at = -1
			for i, name := range s.keyNames {
				if name == part.Name {
					at = i
				}
			}
		}
		if at < 0 || given[at] || len(parts) != len(s.Key) {
			return nil, badRequest("(%s) is no key of %s, which is written %s", text, s.Name, s.keyForm())
		}
		lit := part.Text
		if strings.HasPrefix(lit, "@") {
			lit = aliases[lit]
		}
		v, ok := s.Fields[s.Key[at]].keyPart(lit)
		if !ok {
			return nil, badRequest("%s in (%s) is no %s", lit, text, s.Fields[s.Key[at]].Kind)
		}
		values[at], given[at] = v, true
	}
	return values, nil
}

// keyPart reads a literal of a key. A text may lack its quotes.
func (f *Field) keyPart(lit string) (odata.Value, bool) {
	if f.Kind == odata.String && !strings.HasPrefix(lit, "'") {
		return odata.Text(lit), lit != "" && lit != "null"
	}
	v, err := odata.ParseLiteral(lit)
	if err != nil || v.IsNull() {
		return v, false
	}
	return v.As(f.Kind)
}

// keyOfSegments reads a key whose parts are segments of the path (4.01); nil is none.
func (s *Set) keyOfSegments(segs []string) []odata.Value {
	if len(segs) != len(s.Key) {
		return nil
	}
	values := make([]odata.Value, len(segs))
	for i, seg := range segs {
		v, ok := odata.Parse(seg, s.Fields[s.Key[i]].Kind)
		if !ok {
			return nil
		}
		values[i] = v
	}
	return values
}

// entity finds the record to which a place leads. The caller holds the store's lock. r is nil where
// it is not there; owner is the set of what is missing.
func (s *Service) entity(p *place) (r *Record, err error) {
	r = s.st.registers[p.set].get(keyFrom(p.key))
	if r == nil {
		return nil, notFound("there is no %s%s", p.set.Name, odata.AppendKey(nil, p.set.keyNames, p.key))
	}
	for _, n := range p.navs {
		if r = s.st.follow(n, r); r == nil {
			return nil, nil
		}
	}
	return r, nil
}

// locked runs f with the records held still: under the call's transaction, or for itself.
func (s *Service) locked(c *call, f func() error) error {
	if c.tx == nil {
		s.st.mu.RLock()
		defer s.st.mu.RUnlock()
	}
	return f()
}
