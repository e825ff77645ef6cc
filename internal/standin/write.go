package standin

import (
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/schema"
	"paletwin/internal/odata"
)

// write answers a POST, PATCH, PUT or DELETE of records: in the transaction of its group, or
// in one of its own.
func (s *Service) write(c *call, p *place) (*answer, error) {
	if c.tx != nil {
		return s.writeIn(c, p)
	}
	s.meanwhile(c, p)
	t, err := s.st.begin(c.ctx)
	if err != nil {
		return nil, internal(err)
	}
	c.tx = t
	defer func() { c.tx = nil }()
	defer t.abandon()
	a, err := s.writeIn(c, p)
	if err == nil {
		if r := t.check(); r != nil {
			err = r
		}
	}
	if err == nil && c.ctx.Err() != nil {
		err = refuse(499, "Cancelled", "nobody waits for it any more")
	}
	if err != nil {
		t.rollback()
		c.deed.undone()
		return nil, err
	}
	if err := t.commit(); err != nil {
		c.deed.undone()
		return nil, internal(err)
	}
	return a, nil
}

// writeIn does what is asked in the call's transaction. References are looked at when
// that ends.
func (s *Service) writeIn(c *call, p *place) (*answer, error) {
	return s.once(c, func() (*answer, error) { return s.writeNow(c, p) })
}

func (s *Service) writeNow(c *call, p *place) (*answer, error) {
	switch {
	case p.kind == atSet && c.method == "POST":
		in, err := s.readBody(c, p.set)
		if err != nil {
			return nil, err
		}
		return s.insert(c, p.set, in, nil)
	case p.kind == atEntity && c.method != "POST", p.kind == atProperty && c.method != "POST", p.kind == atRaw && c.method != "POST" && c.method != "PATCH":
	case p.kind == atReference:
		return nil, notHere("writing references by $ref; %s", "the property holds the code, and @odata.bind names a record, but $ref")
	default:
		allow := map[placeKind]string{atSet: "GET, HEAD, POST", atEntity: "GET, HEAD, PATCH, PUT, DELETE", atProperty: "GET, HEAD, PATCH, PUT, DELETE", atRaw: "GET, HEAD, PUT, DELETE"}[p.kind]
		if allow == "" {
			allow = "GET, HEAD"
		}
		return nil, refuse(http.StatusMethodNotAllowed, "MethodNotAllowed", "%s is not for %s", c.method, c.url).with("Allow", allow)
	}
	before, err := s.entity(p)
	if err == nil && before == nil {
		err = notFound("%s leads to no record", c.url)
	}
	if err != nil && (p.kind != atEntity || len(p.navs) > 0 || c.method == "DELETE") {
		if c.header.Get("If-Match") != "" && len(p.navs) == 0 {
			return nil, preconditionFailed("it is not there (If-Match)")
		}
		return nil, err
	}
	if r := s.preconditions(c, before); r != nil {
		return nil, r
	}
	if before == nil {
		return s.upsert(c, p, err)
	}
	return s.change(c, p, before)
}

func preconditionFailed(why string) *refusal {
	return refuse(http.StatusPreconditionFailed, "PreconditionFailed", "the record is not as the request asks: %s", why)
}

// preconditions looks at If-Match and If-None-Match (Protocol 8.2.4, 8.2.5); before is
// nil where there is no record.
func (s *Service) preconditions(c *call, before *Record) *refusal {
	match, none := c.header.Get("If-Match"), c.header.Get("If-None-Match")
	if s.hasMood("no-etags") {
		return nil
	}
	if before == nil {
		if match != "" {
			return preconditionFailed("it is not there (If-Match)")
		}
		return nil
	}
	switch {
	case match != "" && match != "*" && !matches(match, before.etag()):
		return preconditionFailed("it was changed since (If-Match)")
	case none != "" && matches(none, before.etag()):
		return preconditionFailed("it is there already (If-None-Match)")
	}
	return nil
}

// upsert inserts a record under the key that a PATCH or PUT names (Protocol 11.4.4).
func (s *Service) upsert(c *call, p *place, missing error) (*answer, error) {
	if p.set.assigned {
		return nil, missing // the service gives the keys
	}
	in, err := s.readBody(c, p.set)
	if err != nil {
		return nil, err
	}
	return s.insert(c, p.set, in, p.key)
}

// input is what a body says: values by field, in the order of the body.
type input struct {
	fields []int
	values []odata.Value
}

func (in *input) add(field int, v odata.Value) {
	in.fields, in.values = append(in.fields, field), append(in.values, v)
}

// readBody reads the JSON object of a record. Control information is passed over; the
// record that a reference is bound to becomes the property's value.
func (s *Service) readBody(c *call, set *Set) (*input, error) {
	if c.input != nil {
		return c.input, nil
	}
	if err := c.options.only("a write", "select", "expand"); err != nil {
		return nil, err
	}
	if e := c.header.Get("Content-Encoding"); e != "" && !strings.EqualFold(e, "identity") {
		return nil, refuse(http.StatusUnsupportedMediaType, "UnsupportedMediaType", "a body is to come as it is, and not as %s", e)
	}
	if t := c.header.Get("Content-Type"); t != "" && t != "application/json" {
		if m, _, err := mime.ParseMediaType(t); err != nil || m != "application/json" {
			return nil, refuse(http.StatusUnsupportedMediaType, "UnsupportedMediaType", "a record is to come as application/json, not as %s", t)
		}
	}
	in := &input{}
	d, done := decoder(c.body)
	defer done()
	err := odata.Members(d, func(name string) error {
		raw, err := d.ReadValue()
		if err != nil {
			return err
		}
		return s.readMember(c, set, in, name, raw)
	})
	if err == nil {
		if _, more := d.ReadToken(); more != io.EOF {
			err = errors.New("something follows it")
		}
	}
	var r *refusal
	if err != nil && !errors.As(err, &r) {
		return nil, badRequest("the body is no JSON object of a record: %v", err)
	}
	return in, err
}

func (s *Service) readMember(c *call, set *Set, in *input, name string, raw []byte) error {
	if strings.HasPrefix(name, "@") {
		return nil
	}
	plain, control, annotated := strings.Cut(name, "@")
	if annotated {
		control = strings.TrimPrefix(control, "odata.")
		if n := set.nav(plain); n != nil && control == "bind" {
			return s.bind(c, in, n, raw)
		}
		return nil
	}
	if i, ok := set.byName[name]; ok {
		v, err := odata.ReadJSON(raw, set.Fields[i].Kind)
		if err != nil {
			return badRequest("%s %v", name, err).at(name)
		}
		in.add(i, v)
		return nil
	}
	if n := set.nav(name); n != nil {
		if string(raw) == "null" {
			in.add(n.Field, odata.Value{})
			return nil
		}
		var ref map[string]json.RawMessage
		if json.Unmarshal(raw, &ref) == nil && len(ref) == 1 {
			for _, id := range []string{"@id", "@odata.id"} {
				if ref[id] != nil {
					return s.bind(c, in, n, ref[id])
				}
			}
		}
		return notHere("writing %s along with the record", name)
	}
	return badRequest("%s has no property %s%s", set.Name, name, near(name, set.fieldNames())).at(name)
}

// bind sets the property of a reference to the code of the record that a URL names.
func (s *Service) bind(c *call, in *input, n *Nav, raw []byte) error {
	var link string
	if string(raw) == "null" {
		in.add(n.Field, odata.Value{})
		return nil
	}
	if err := json.Unmarshal(raw, &link); err != nil {
		return badRequest("%s@odata.bind is to be the URL of a record", n.Name).at(n.Name)
	}
	to := *c
	if err := s.address(&to, link); err != nil {
		return err
	}
	p, err := s.locate(&to)
	if err != nil {
		return err
	}
	if p.kind != atEntity || p.last() != n.Target {
		return badRequest("%s@odata.bind is to be the URL of a record of %s, not %s", n.Name, n.Target.Name, short(link)).at(n.Name)
	}
	r, err := s.entity(p)
	if err != nil || r == nil {
		return badRequest("%s names %s, and there is no such record", n.Name, short(link)).at(n.Name)
	}
	in.add(n.Field, r.cells[n.By])
	return nil
}

// key is the key that a new record is to have, for moods: that of an upsert, or what the body says.
func (in *input) key(set *Set, upsert []odata.Value) string {
	if upsert != nil {
		return joined(upsert)
	}
	values := make([]odata.Value, len(set.Key))
	for i, k := range set.Key {
		if at := slices.Index(in.fields, k); at >= 0 {
			values[i] = in.values[at]
		}
	}
	return joined(values)
}

// insert adds a record; key is that of an upsert, nil of a POST.
func (s *Service) insert(c *call, set *Set, in *input, key []odata.Value) (*answer, error) {
	r := &Record{make([]odata.Value, len(set.Fields))}
	given := make([]bool, len(set.Fields))
	if len(s.moods.all) > 0 {
		c.about = in.key(set, key)
	}
	for i, f := range in.fields {
		if !set.Fields[f].computed() && !(set.assigned && f == set.Key[0]) && !s.ignores(c, set, f) {
			r.cells[f], given[f] = s.bend(c, set, f, in.values[i]), true
		}
	}
	for i, k := range set.Key {
		if key != nil {
			r.cells[k] = key[i]
		}
		if r.cells[k].IsNull() && set.assigned && i == 0 {
			r.cells[k] = s.assign(set)
		}
	}
	s.stamp(set, r, true)
	for i, f := range set.Fields {
		if given[i] {
			if ref := s.fieldRefused(c, set, i); ref != nil {
				return nil, ref
			}
		}
		if ref := f.check(r.cells[i], given[i] || set.isKey(i)); ref != nil {
			return nil, ref
		}
	}
	if there := s.st.registers[set].get(set.keyOf(r)); there != nil {
		return nil, refuse(http.StatusConflict, "KeyTaken", "there is a record %s already", set.say(r))
	}
	if ref := c.tx.taken(set, nil, r); ref != nil {
		return nil, ref
	}
	c.tx.put(set, nil, r)
	c.deed.did(changeset.Add, set, nil, r, c.tx.turn())
	return s.written(c, set, r, true)
}

// assign gives the next key: a number higher than all that were given, written as the
// last one is.
func (s *Service) assign(set *Set) odata.Value {
	t := s.st.registers[set]
	t.last++
	number := strconv.FormatInt(t.last, 10)
	if f := set.Fields[set.Key[0]]; f.Kind == odata.Int64 || len(t.order) == 0 {
		return odata.Value{Kind: f.Kind, Text: number}
	}
	like := t.order[len(t.order)-1].cells[set.Key[0]].Text
	prefix := strings.TrimRight(like, "0123456789")
	if width := len(like) - len(prefix); len(number) < width {
		number = strings.Repeat("0", width-len(number)) + number
	}
	return odata.Text(prefix + number)
}

// stamp writes what the service itself writes.
func (s *Service) stamp(set *Set, r *Record, added bool) {
	for i, f := range set.Fields {
		switch {
		case f.Access == schema.System, added && f.Access == schema.OnCreation && r.cells[i].IsNull():
		default:
			continue
		}
		switch f.Kind {
		case odata.DateTimeOffset:
			r.cells[i] = odata.Value{Kind: f.Kind, Text: s.now().UTC().Format(time.RFC3339)}
		case odata.Int64:
			n, _ := strconv.ParseInt(r.cells[i].Text, 10, 64)
			r.cells[i] = odata.Value{Kind: f.Kind, Text: strconv.FormatInt(n+1, 10)}
		}
	}
}

// computed reports whether the service alone writes the field.
func (f *Field) computed() bool { return f.Access == schema.System || f.Access == schema.ReadOnly }

// check refuses a value that the field cannot have; set says that it was given.
func (f *Field) check(v odata.Value, given bool) *refusal {
	if v.IsNull() {
		if f.Required && !f.computed() {
			return badRequest("%s is to be filled", f.Name).at(f.Name)
		}
		return nil
	}
	if !given || f.layout == nil || f.layout.List != nil {
		return nil
	}
	if f.checked() {
		for _, p := range f.layout.Check(f.toLayout(v)) {
			if p.Level == "stop" {
				return badRequest("%s %s", f.Name, p.Text).at(f.Name)
			}
		}
	}
	return nil
}

// checked reports whether the layout's checks are for values as the service has them.
func (f *Field) checked() bool {
	switch f.layout.Kind {
	case schema.Percent, schema.Money, schema.Datetime:
		return false
	}
	return !f.seen
}

// toLayout is a value as the layout has it.
func (f *Field) toLayout(v odata.Value) string {
	switch {
	case f.Kind == odata.Date && len(f.layout.Forms) > 0:
		if t, ok := v.Time(); ok {
			return f.layout.Forms[0].Write(t)
		}
	case f.Kind == odata.Boolean && v.Text == "true" && f.layout.True != "":
		return f.layout.True
	case f.Kind == odata.Boolean && v.Text == "false" && f.layout.False != "":
		return f.layout.False
	}
	return v.Text
}

// change carries out a PATCH, PUT or DELETE of a record that is there.
func (s *Service) change(c *call, p *place, before *Record) (*answer, error) {
	set := p.last()
	if len(s.moods.all) > 0 {
		c.about = joined(set.keyValues(before))
	}
	if ref := s.lockedBySomebody(c, set, before); ref != nil {
		return nil, ref
	}
	if ref := s.unconditional(c); ref != nil {
		return nil, ref
	}
	if c.method == "DELETE" && p.kind == atEntity {
		c.tx.put(set, before, nil)
		c.deed.did(changeset.Delete, set, before, nil, c.tx.turn())
		return newAnswer(204), nil
	}
	in, err := s.changes(c, p, set)
	if err != nil {
		return nil, err
	}
	after := &Record{append([]odata.Value(nil), before.cells...)}
	given := make([]bool, len(set.Fields))
	for i, f := range in.fields {
		if set.isKey(f) || set.Fields[f].computed() || set.Fields[f].Access == schema.OnCreation || s.ignores(c, set, f) {
			continue // which the standard asks for
		}
		after.cells[f], given[f] = s.bend(c, set, f, in.values[i]), true
	}
	for i, f := range set.Fields {
		if !given[i] {
			continue
		}
		if ref := s.fieldRefused(c, set, i); ref != nil {
			return nil, ref
		}
		if after.cells[i] == before.cells[i] {
			continue
		}
		if ref := f.check(after.cells[i], true); ref != nil {
			return nil, ref
		}
	}
	if ref := c.tx.taken(set, before, after); ref != nil {
		return nil, ref
	}
	s.stamp(set, after, false)
	c.tx.put(set, before, after)
	c.deed.did(changeset.Amend, set, before, after, c.tx.turn())
	return s.written(c, set, after, false)
}

// changes reads what a PATCH or PUT asks for: a PUT all fields, those that it lacks as null.
func (s *Service) changes(c *call, p *place, set *Set) (*input, error) {
	switch p.kind {
	case atProperty:
		return s.propertyBody(c, p, set)
	case atRaw:
		v, ok := odata.Parse(string(c.body), set.Fields[p.field].Kind)
		if c.method == "DELETE" {
			v, ok = odata.Value{}, true
		}
		if !ok {
			return nil, badRequest("%s is no %s", short(string(c.body)), set.Fields[p.field].Kind).at(set.Fields[p.field].Name)
		}
		return &input{[]int{p.field}, []odata.Value{v}}, nil
	}
	in, err := s.readBody(c, set)
	if err != nil || c.method != "PUT" {
		return in, err
	}
	given := make([]bool, len(set.Fields))
	for _, f := range in.fields {
		given[f] = true
	}
	for f := range set.Fields {
		if !given[f] {
			in.add(f, odata.Value{})
		}
	}
	return in, nil
}

// propertyBody reads {"value": …}, or nothing of a DELETE.
func (s *Service) propertyBody(c *call, p *place, set *Set) (*input, error) {
	f := set.Fields[p.field]
	if c.method == "DELETE" {
		return &input{[]int{p.field}, []odata.Value{{}}}, nil
	}
	var body map[string]json.RawMessage
	if err := json.Unmarshal(c.body, &body); err != nil || body["value"] == nil {
		return nil, badRequest(`the body of a property is to be {"value": …}`).at(f.Name)
	}
	v, err := odata.ReadJSON(body["value"], f.Kind)
	if err != nil {
		return nil, badRequest("%s %v", f.Name, err).at(f.Name)
	}
	return &input{[]int{p.field}, []odata.Value{v}}, nil
}

// written answers a write that was done: with the record, or without (Prefer: return=…).
func (s *Service) written(c *call, set *Set, r *Record, added bool) (*answer, error) {
	a := newAnswer(204)
	want := c.prefer.Return
	if s.hasMood("silent") {
		want = "minimal"
	}
	if want == "representation" || added && want == "" {
		what, err := set.project(c.options.all["select"], c.options.all["expand"], 0)
		if err != nil {
			return nil, err
		}
		a = c.json(200, s.appendEntity(nil, c, set, r, what, "#"+set.Name+what.said+"/$entity"))
		if added {
			a.status = 201
		}
	}
	if want != "" {
		a.set("Preference-Applied", "return="+want)
	}
	if tag := s.etagOf(r); tag != "" {
		a.set("ETag", tag)
	}
	if added {
		url := c.base + set.say(r)
		a.set("Location", url)
		if a.status == 204 {
			a.set("OData-EntityId", url)
		}
	}
	return a, nil
}
