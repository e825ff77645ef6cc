package standin

import (
	"encoding/base64"
	"encoding/json"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/jsontext"
	"paletwin/internal/odata"
)

// read answers a GET of records.
func (s *Service) read(c *call, p *place) (*answer, error) {
	switch p.kind {
	case atSet:
		return s.collection(c, p.set)
	case atCount:
		return s.count(c, p.set)
	case atQuery:
		return nil, refuse(405, "MethodNotAllowed", "$query is asked by POST").with("Allow", "POST")
	}
	if err := c.options.only("one record", "select", "expand"); err != nil {
		return nil, err
	}
	var r *Record
	var what *projection
	var body []byte
	set := p.last()
	err := s.locked(c, func() (err error) {
		if r, err = s.entity(p); err != nil || r == nil {
			return err
		}
		if p.kind == atEntity {
			if what, err = set.project(c.options.all["select"], c.options.all["expand"], 0); err != nil {
				return err
			}
			body = s.appendEntity(nil, c, set, r, what, "#"+set.Name+what.said+"/$entity")
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if r == nil {
		return newAnswer(204), nil // a reference that leads nowhere
	}
	tag := s.etagOf(r)
	if tag != "" && matches(c.header.Get("If-None-Match"), tag) {
		a := newAnswer(304)
		a.set("ETag", tag)
		return a, nil
	}
	var a *answer
	switch p.kind {
	case atProperty:
		a = s.property(c, p, set, r)
	case atRaw:
		if r.cells[p.field].IsNull() {
			return newAnswer(204), nil
		}
		a = newAnswer(200)
		a.set("Content-Type", "text/plain;charset=utf-8")
		a.body = []byte(r.cells[p.field].Text)
	case atReference:
		a = c.json(200, s.reference(c, set, r))
	default:
		a = c.json(200, body)
	}
	if tag != "" {
		a.set("ETag", tag)
	}
	return a, nil
}

// matches reports whether an If-Match or If-None-Match header names a tag.
func matches(header, tag string) bool {
	if header == "" {
		return false
	}
	tags, any := odata.ParseETags(header)
	return any || slices.Contains(tags, odata.BareETag(tag))
}

func (s *Service) property(c *call, p *place, set *Set, r *Record) *answer {
	v := r.cells[p.field]
	if v.IsNull() {
		return newAnswer(204)
	}
	b := []byte{'{'}
	if c.form.metadata != "none" {
		b = appendMember(b, c.control("context"), s.metadataURL(c)+"#"+set.say(r)+"/"+set.Fields[p.field].Name)
		b = append(b, ',')
	}
	b = append(b, `"value":`...)
	b = v.AppendJSON(b, c.form.quoted)
	return c.json(200, append(b, '}'))
}

func (s *Service) reference(c *call, set *Set, r *Record) []byte {
	b := []byte{'{'}
	if c.form.metadata != "none" {
		b = appendMember(b, c.control("context"), s.metadataURL(c)+"#$ref")
		b = append(b, ',')
	}
	b = appendMember(b, c.control("id"), c.base+set.say(r))
	return append(b, '}')
}

func (s *Service) metadataURL(c *call) string { return c.base + "$metadata" }

func appendMember(dst []byte, name, value string) []byte {
	dst = jsontext.AppendString(dst, name)
	dst = append(dst, ':')
	return jsontext.AppendString(dst, value)
}

// appendEntity appends a record with its context; "" is that of a collection around it. The
// caller holds the store's lock.
func (s *Service) appendEntity(dst []byte, c *call, set *Set, r *Record, what *projection, context string) []byte {
	dst = append(dst, '{')
	first := len(dst)
	comma := func() {
		if len(dst) > first {
			dst = append(dst, ',')
		}
	}
	if context != "" && c.form.metadata != "none" {
		dst = appendMember(dst, c.control("context"), s.metadataURL(c)+context)
	}
	if tag := s.etagOf(r); tag != "" && c.form.metadata != "none" {
		comma()
		dst = appendMember(dst, c.control("etag"), tag)
	}
	if c.form.metadata == "full" {
		comma()
		say := set.say(r)
		dst = appendMember(dst, c.control("type"), "#"+namespace+"."+set.Name)
		dst = append(dst, ',')
		dst = appendMember(dst, c.control("id"), say)
		dst = append(dst, ',')
		dst = appendMember(dst, c.control("editLink"), say)
	}
	field := func(i int) {
		comma()
		f := set.Fields[i]
		if c.form.metadata == "full" && f.Kind != odata.String && f.Kind != odata.Boolean {
			dst = appendMember(dst, f.Name+c.control("type"), "#"+strings.TrimPrefix(f.Kind.String(), "Edm."))
			dst = append(dst, ',')
		}
		dst = append(dst, '"') // names have no sign that is escaped
		dst = append(dst, f.Name...)
		dst = append(dst, '"', ':')
		dst = r.cells[i].AppendJSON(dst, c.form.quoted)
	}
	if what.fields == nil {
		for i := range set.Fields {
			field(i)
		}
	}
	for _, i := range what.fields {
		field(i)
	}
	if c.form.metadata == "full" {
		for _, n := range set.Navs {
			comma()
			dst = appendMember(dst, n.Name+c.control("navigationLink"), set.say(r)+"/"+n.Name)
		}
	}
	for _, e := range what.expand {
		comma()
		dst = jsontext.AppendString(dst, e.nav.Name)
		dst = append(dst, ':')
		if to := s.st.follow(e.nav, r); to != nil {
			dst = s.appendEntity(dst, c, e.nav.Target, to, e.what, "")
		} else {
			dst = append(dst, "null"...)
		}
	}
	return append(dst, '}')
}

// page is what of a collection is asked for, and what of it is given at once.
type page struct {
	filter *expression
	order  ordering
	what   *projection
	skip   int
	top    int // -1 is all
	size   int // at most, in one answer
	count  bool
	from   *skipToken // nil is the beginning

	rows  []*Record
	total int
	next  *skipToken // nil is that there is no more
}

// skipToken says where the next page begins: behind a record, or with offset paging, at a place.
type skipToken struct {
	Key    []string `json:"k,omitempty"` // literals
	Values []string `json:"v,omitempty"` // literals of what it is ordered by
	At     int      `json:"a,omitempty"`
	Left   int      `json:"l"` // of $top; -1 is all
}

func (t *skipToken) String() string {
	b, _ := json.Marshal(t)
	return base64.RawURLEncoding.EncodeToString(b)
}

func parseToken(text string) (*skipToken, error) {
	b, err := base64.RawURLEncoding.DecodeString(text)
	t := &skipToken{}
	if err != nil || json.Unmarshal(b, t) != nil || t.At < 0 || t.Left < -1 {
		return nil, badRequest("$skiptoken=%s is none that this service gave", text)
	}
	return t, nil
}

// collection answers a GET of a set.
func (s *Service) collection(c *call, set *Set) (*answer, error) {
	if err := c.options.only("a set", "filter", "select", "expand", "orderby", "top", "skip", "count", "skiptoken"); err != nil {
		return nil, err
	}
	pg, err := s.parsePage(c, set)
	if err != nil {
		return nil, err
	}
	var body []byte
	err = s.locked(c, func() error {
		if err := s.fill(c, set, pg); err != nil {
			return err
		}
		body = s.appendPage(c, set, pg)
		return nil
	})
	if err != nil {
		return nil, err
	}
	a := c.json(200, body)
	if c.prefer.MaxPageSize > 0 {
		name := "maxpagesize="
		if c.version == "4.0" {
			name = "odata.maxpagesize="
		}
		a.set("Preference-Applied", name+itoa(pg.size))
	}
	return a, nil
}

// parsePage reads the options of a collection.
func (s *Service) parsePage(c *call, set *Set) (pg *page, err error) {
	pg = &page{size: s.pageSize}
	if n := c.prefer.MaxPageSize; n > 0 {
		pg.size = min(n, pg.size)
	}
	if pg.filter, err = s.parseFilter(set, c.options); err != nil {
		return nil, err
	}
	if pg.order, err = s.parseOrder(set, c.options.all["orderby"], c.options); err != nil {
		return nil, err
	}
	if pg.what, err = set.project(c.options.all["select"], c.options.all["expand"], 0); err != nil {
		return nil, err
	}
	if pg.top, err = c.options.number("top"); err != nil {
		return nil, err
	}
	if pg.skip, err = c.options.number("skip"); err != nil {
		return nil, err
	}
	pg.skip = max(pg.skip, 0)
	if pg.count, err = c.options.flag("count"); err != nil {
		return nil, err
	}
	if text, said := c.options.all["skiptoken"]; said {
		if pg.from, err = parseToken(text); err != nil {
			return nil, err
		}
		pg.top, pg.skip = pg.from.Left, 0
	}
	return pg, nil
}

// fill finds the page's records. The caller holds the store's lock.
func (s *Service) fill(c *call, set *Set, pg *page) error {
	rows := s.st.registers[set].order
	offset, filter := s.offsetPaging(), pg.filter
	if len(pg.order) > 0 || pg.count || pg.skip > 0 || offset || pg.from != nil && len(pg.from.Key) == 0 {
		rows, filter = pg.passing(rows), nil // places are counted among these
	}
	pg.total = len(rows)
	var values [][]odata.Value
	if len(pg.order) > 0 {
		rows, values = pg.sorted(rows)
	}
	start := pg.skip
	if pg.from != nil {
		if len(pg.from.Key) == 0 {
			start = pg.from.At
		} else {
			i, err := pg.behind(set, rows, values)
			if err != nil {
				return err
			}
			start = i
		}
	}
	start = min(start, len(rows))
	want := pg.size
	if pg.top >= 0 {
		want = min(want, pg.top)
	}
	at := start
	for ; at < len(rows) && len(pg.rows) < want; at++ {
		if filter == nil || filter.eval(rows[at].Record).Text == "true" {
			pg.rows = append(pg.rows, rows[at].Record)
		}
	}
	for filter != nil && at < len(rows) && filter.eval(rows[at].Record).Text != "true" {
		at++
	}
	more := at < len(rows)
	if pg.top >= 0 && pg.top <= len(pg.rows) {
		more = false
	}
	if !more && !(s.emptyLastPage() && len(pg.rows) > 0 && (pg.top < 0 || pg.top > len(pg.rows))) || len(pg.rows) == 0 {
		return nil
	}
	pg.next = &skipToken{Left: -1}
	if pg.top >= 0 {
		pg.next.Left = pg.top - len(pg.rows)
	}
	if offset {
		pg.next.At = at
		return nil
	}
	last := pg.rows[len(pg.rows)-1]
	for _, v := range set.keyValues(last) {
		pg.next.Key = append(pg.next.Key, v.Literal())
	}
	for _, v := range pg.order.values(last) {
		pg.next.Values = append(pg.next.Values, v.Literal())
	}
	return nil
}

// passing lists the records that pass the filter.
func (pg *page) passing(rows []*slot) []*slot {
	if pg.filter == nil {
		return rows
	}
	var all []*slot
	for _, r := range rows {
		if pg.filter.eval(r.Record).Text == "true" {
			all = append(all, r)
		}
	}
	return all
}

// sorted sorts records as they are asked for; of equal ones by key.
func (pg *page) sorted(rows []*slot) ([]*slot, [][]odata.Value) {
	type item struct {
		r *slot
		v []odata.Value
	}
	items := make([]item, len(rows))
	for i, r := range rows {
		items[i] = item{r, pg.order.values(r.Record)}
	}
	slices.SortStableFunc(items, func(a, b item) int { return pg.order.compare(a.v, b.v) }) // they come by key
	out, values := make([]*slot, len(items)), make([][]odata.Value, len(items))
	for i, x := range items {
		out[i], values[i] = x.r, x.v
	}
	return out, values
}

// behind is the place of the first record behind the one that a token names, which may be gone.
func (pg *page) behind(set *Set, rows []*slot, values [][]odata.Value) (int, error) {
	wrong := badRequest("$skiptoken is none of this set and order")
	if len(pg.from.Key) != len(set.Key) || len(pg.from.Values) != len(pg.order) {
		return 0, wrong
	}
	mark := &Record{make([]odata.Value, len(set.Fields))}
	for i, k := range set.Key {
		v, err := odata.ParseLiteral(pg.from.Key[i])
		as, ok := v.As(set.Fields[k].Kind)
		if err != nil || !ok {
			return 0, wrong
		}
		mark.cells[k] = as
	}
	var order []odata.Value
	for i, lit := range pg.from.Values {
		v, err := odata.ParseLiteral(lit)
		as, ok := v.As(pg.order[i].by.kind)
		if err != nil || !ok && pg.order[i].by.kind != odata.Null {
			return 0, wrong
		}
		order = append(order, as)
	}
	n, found := 0, false
	if len(pg.order) == 0 {
		n, found = slices.BinarySearchFunc(rows, mark, func(r *slot, m *Record) int { return set.compareKeys(r.Record, m) })
	} else {
		at := make([]int, len(rows))
		for i := range at {
			at[i] = i
		}
		n, found = slices.BinarySearchFunc(at, mark, func(i int, m *Record) int {
			if c := pg.order.compare(values[i], order); c != 0 {
				return c
			}
			return set.compareKeys(rows[i].Record, m)
		})
	}
	if found {
		n++
	}
	return n, nil
}

// appendPage writes the page. The caller holds the store's lock.
func (s *Service) appendPage(c *call, set *Set, pg *page) []byte {
	b := make([]byte, 0, 256+len(pg.rows)*64*(1+len(set.Fields)/2))
	b = append(b, '{')
	if c.form.metadata != "none" {
		b = appendMember(b, c.control("context"), s.metadataURL(c)+"#"+set.Name+pg.what.said)
		b = append(b, ',')
	}
	if pg.count {
		b = jsontext.AppendString(b, c.control("count"))
		b = append(b, ':')
		b = appendCount(b, pg.total, c.form.quoted)
		b = append(b, ',')
	}
	b = append(b, `"value":[`...)
	for i, r := range pg.rows {
		if i > 0 {
			b = append(b, ',')
		}
		b = s.appendEntity(b, c, set, r, pg.what, "")
	}
	b = append(b, ']')
	if pg.next != nil {
		b = append(b, ',')
		b = appendMember(b, c.control("nextLink"), s.nextLink(c, pg.next))
	}
	return append(b, '}')
}

func appendCount(b []byte, n int, quoted bool) []byte {
	if quoted {
		return append(append(append(b, '"'), strconv.Itoa(n)...), '"')
	}
	return strconv.AppendInt(b, int64(n), 10)
}

// nextLink is the URL of the next page: what was asked, but from elsewhere on.
func (s *Service) nextLink(c *call, t *skipToken) string {
	path, _, _ := strings.Cut(c.url, "?")
	link := path + "?"
	for _, name := range c.options.order {
		if name != "skip" && name != "top" && name != "skiptoken" {
			link += "$" + name + "=" + escapeQuery(c.options.all[name]) + "&"
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.options.aliases)) {
		link += name + "=" + escapeQuery(c.options.aliases[name]) + "&"
	}
	link += "$skiptoken=" + t.String()
	if s.relativeLinks() {
		return link
	}
	return c.base + link
}

func escapeQuery(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }

// count answers …/$count.
func (s *Service) count(c *call, set *Set) (*answer, error) {
	if err := c.options.only("$count", "filter"); err != nil {
		return nil, err
	}
	filter, err := s.parseFilter(set, c.options)
	if err != nil {
		return nil, err
	}
	n := 0
	err = s.locked(c, func() error {
		n = len((&page{filter: filter}).passing(s.st.registers[set].order))
		return nil
	})
	a := newAnswer(200)
	a.set("Content-Type", "text/plain;charset=utf-8")
	a.body = []byte(itoa(n))
	return a, err
}
