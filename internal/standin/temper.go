package standin

import (
	"net/http"
	"strings"
	"time"

	"paletwin/core/layout"
	"paletwin/core/schema"
	"paletwin/internal/odata"

	"paletwin/core/changeset"
)

// What moods do to requests, records and answers. Each asks the moods, and notes what it did.

// meets is the mood of a name that a call meets, noted in its deed.
func (s *Service) meets(c *call, name string, a about) *Mood {
	if !s.hasMood(name) {
		return nil
	}
	if a.method == "" {
		a.method = c.method
	}
	m := s.moods.on(name, a)
	if m != nil {
		c.deed.met(name)
	}
	return m
}

// hasMood reports a mood that is of all answers.
func (s *Service) hasMood(name string) bool { return len(s.moods.all) > 0 && s.moods.has[name] }

// aboutOf is what a request is about, as far as its URL says.
func (s *Service) aboutOf(c *call) about {
	a := about{method: c.method}
	if len(c.path) > 0 {
		name, key, keyed := cutKey(c.path[0])
		a.set = name
		if set := s.world.Set(name); set != nil && keyed {
			if values, err := set.parseKey(key, c.options.aliases); err == nil {
				a.key = joined(values)
			}
		}
	}
	return a
}

func joined(values []odata.Value) string {
	parts := make([]string, len(values))
	for i, v := range values {
		parts[i] = v.Text
	}
	return strings.Join(parts, ",")
}

// arrive is what happens to a request before it is looked at; nil is nothing.
func (s *Service) arrive(c *call) *answer {
	a := s.aboutOf(c)
	if r := s.overLimit(c); r != nil {
		return r.answer()
	}
	if m := s.meets(c, "busy", a); m != nil {
		return refuse(http.StatusTooManyRequests, "TooManyRequests", "too many requests; come back in %s", m.Wait).with("Retry-After", seconds(m.Wait)).answer()
	}
	if m := s.meets(c, "away", a); m != nil {
		r := refuse(http.StatusServiceUnavailable, "ServiceUnavailable", "the service is not available at the moment")
		if m.Wait > 0 {
			r.with("Retry-After", seconds(m.Wait))
		}
		return r.answer()
	}
	if s.meets(c, "cut-before", a) != nil {
		return cutAnswer
	}
	return nil
}

// cutAnswer stands for the end of the connection.
var cutAnswer = &answer{}

// seconds is a time in whole seconds, from one on.
func seconds(d time.Duration) string { return itoa(max(1, int((d+time.Second-1)/time.Second))) }

// overLimit refuses what is larger than the service takes.
func (s *Service) overLimit(c *call) *refusal {
	if !s.hasMood("limits") {
		return nil
	}
	for _, m := range s.moods.all {
		if m.Name != "limits" {
			continue
		}
		switch {
		case m.Chars > 0 && len(c.base)+len(c.url) > m.Chars:
			c.deed.met("limits")
			return refuse(http.StatusRequestURITooLong, "URITooLong", "the URL is longer than %d characters", m.Chars)
		case m.Bytes > 0 && len(c.body) > m.Bytes:
			c.deed.met("limits")
			return refuse(http.StatusRequestEntityTooLarge, "ContentTooLarge", "the body is larger than %d bytes", m.Bytes)
		}
	}
	return nil
}

// overBatch refuses a batch of more requests than the service takes.
func (s *Service) overBatch(c *call, n int) *refusal {
	if !s.hasMood("limits") {
		return nil
	}
	for _, m := range s.moods.all {
		if m.Name == "limits" && m.Requests > 0 && n > m.Requests {
			c.deed.met("limits")
			return refuse(http.StatusRequestEntityTooLarge, "BatchTooLarge", "the batch has %d requests; at most %d are taken", n, m.Requests)
		}
	}
	return nil
}

// slow waits, if the service is to be slow, or until nobody waits any more.
func (s *Service) slow(c *call) {
	if m := s.meets(c, "slow", s.aboutOf(c)); m != nil {
		select {
		case <-time.After(m.Wait):
		case <-c.ctx.Done():
		}
	}
}

func (s *Service) etagOf(r *Record) string {
	if s.hasMood("no-etags") {
		return ""
	}
	return r.etag()
}

func (s *Service) offsetPaging() bool  { return s.hasMood("offset-paging") }
func (s *Service) relativeLinks() bool { return s.hasMood("relative-links") }
func (s *Service) emptyLastPage() bool { return s.hasMood("empty-last-page") }

// unconditional refuses a write that does not say which state of the record it means.
func (s *Service) unconditional(c *call) *refusal {
	if s.hasMood("asks-etags") && c.header.Get("If-Match") == "" {
		c.deed.met("asks-etags")
		return refuse(http.StatusPreconditionRequired, "PreconditionRequired", "say with If-Match which state of the record is meant")
	}
	return nil
}

// lockedBySomebody refuses the writing of a record that is open elsewhere.
func (s *Service) lockedBySomebody(c *call, set *Set, r *Record) *refusal {
	m := s.meets(c, "locked", about{set: set.Name, key: c.about})
	if m == nil {
		return nil
	}
	by := m.By
	if by == "" {
		by = "somebody"
	}
	return refuse(http.StatusLocked, "RecordLocked", "%s is locked: %s has it open", set.say(r), by)
}

// ignores reports whether the service passes over what is written to a field.
func (s *Service) ignores(c *call, set *Set, field int) bool {
	return s.hasMood("ignores") && s.meets(c, "ignores", about{set: set.Name, key: c.about, field: set.Fields[field].Name}) != nil
}

// fieldRefused refuses what writes a field.
func (s *Service) fieldRefused(c *call, set *Set, field int) *refusal {
	if !s.hasMood("refuses") {
		return nil
	}
	name := set.Fields[field].Name
	m := s.meets(c, "refuses", about{set: set.Name, key: c.about, field: name})
	if m == nil {
		return nil
	}
	says := m.Says
	if says == "" {
		says = name + " cannot be changed while the record is in use"
	}
	return badRequest("%s", says).at(name)
}

// bend is what the service makes of a value that is written.
func (s *Service) bend(c *call, set *Set, field int, v odata.Value) odata.Value {
	if len(s.moods.all) == 0 || set.isKey(field) {
		return v
	}
	f := set.Fields[field]
	a := about{set: set.Name, key: c.about, field: f.Name}
	if v.Kind == odata.String {
		if t := strings.TrimSpace(v.Text); t != v.Text && s.meets(c, "trims", a) != nil {
			v.Text = t
		}
		if t := strings.ToUpper(v.Text); t != v.Text && s.meets(c, "capitals", a) != nil {
			v.Text = t
		}
	}
	if n, ok := v.Number(); ok && v.Kind == odata.Decimal && n.Decimals() > 0 {
		if m := s.meets(c, "rounds", a); m != nil && n.Decimals() > m.Decimals {
			v.Text = n.Round(int32(m.Decimals)).Decimal().Text('f')
		}
	}
	return v
}

// meanwhile lets a colleague edit the record that a call is about to write, in a
// transaction of the colleague's own.
func (s *Service) meanwhile(c *call, p *place) {
	if !s.hasMood("colleague") || p.key == nil || p.kind < atEntity {
		return
	}
	t, err := s.st.begin(c.ctx)
	if err != nil {
		return
	}
	defer t.abandon()
	set := p.last()
	before, err := s.entity(p)
	if err != nil || before == nil {
		return
	}
	m := s.meets(c, "colleague", about{set: set.Name, key: joined(set.keyValues(before))})
	field := -1
	if m != nil {
		field = set.colleagues(m)
	}
	if field < 0 {
		return
	}
	after := &Record{append([]odata.Value(nil), before.cells...)}
	after.cells[field] = set.Fields[field].edited(before.cells[field], m)
	s.stamp(set, after, false)
	t.put(set, before, after)
	if t.check() != nil {
		return
	}
	by := m.By
	if by == "" {
		by = "a colleague"
	}
	d := s.ledger.add(&Deed{Method: "PATCH", URL: set.say(after), Status: 204, By: by})
	d.did(changeset.Amend, set, before, after, t.turn())
	if t.commit() != nil {
		d.undone()
	}
}

// colleagues is the field that a colleague edits: the one that is named, or the first text of no
// form; -1 is none.
func (s *Set) colleagues(m *Mood) int {
	for _, name := range m.Field {
		if i, ok := s.byName[name]; ok && !s.isKey(i) {
			return i
		}
	}
	if len(m.Field) > 0 {
		return -1
	}
	for i, f := range s.Fields {
		if f.Kind == odata.String && !s.isKey(i) && !f.Unique && f.Access == "" && f.free() {
			return i
		}
	}
	return -1
}

// free reports whether a text may be any.
func (f *Field) free() bool {
	return f.layout == nil || f.seen || isPlain(f.layout)
}

func isPlain(l *layout.Field) bool { return l.Kind == schema.Text && l.Pattern == nil }

// edited is what a colleague makes of a value.
func (f *Field) edited(v odata.Value, m *Mood) odata.Value {
	if m.Value != nil {
		if w, ok := odata.Parse(*m.Value, f.Kind); ok {
			return w
		}
	}
	switch f.Kind {
	case odata.String:
		text := strings.TrimSpace(v.Text + " (seen to)")
		if r := []rune(text); f.Length > 0 && len(r) > f.Length {
			text = string(r[len(r)-f.Length:])
		}
		return odata.Text(text)
	case odata.Boolean:
		return odata.True(v.Text != "true")
	case odata.Int64, odata.Decimal:
		if n, ok := v.Number(); ok {
			one, _ := odata.Value{Kind: odata.Int64, Text: "1"}.Number()
			if sum, ok := n.Add(one).(interface{ Canonical() string }); ok {
				if w, ok := odata.Parse(sum.Canonical(), f.Kind); ok {
					return w
				}
			}
		}
	case odata.Date:
		if t, ok := v.Time(); ok {
			return odata.Value{Kind: odata.Date, Text: t.AddDate(0, 0, 1).Format(time.DateOnly)}
		}
	}
	return v
}

// cutAfter reports whether the connection ends before the answer is given.
func (s *Service) cutAfter(c *call) bool {
	return s.hasMood("cut-after") && s.meets(c, "cut-after", s.aboutOf(c)) != nil
}

// wordless gives errors the bodies that the service gives them.
func (s *Service) wordless(c *call, a *answer) *answer {
	if a.failed == nil || !s.hasMood("errors") {
		return a
	}
	for _, m := range s.moods.all {
		if m.Name != "errors" || m.As == "json" {
			continue
		}
		c.deed.met("errors")
		if m.As == "none" {
			a.body = nil
			a.header.Delete("Content-Type")
			continue
		}
		a.body = []byte(a.failed.message)
		a.set("Content-Type", "text/plain;charset=utf-8")
	}
	return a
}
