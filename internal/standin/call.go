package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"paletwin/internal/odata"
)

// call is a request, by itself or in a batch.
type call struct {
	ctx     context.Context
	method  string
	path    []string // segments below the service's root, decoded
	options options
	header  odata.Headers
	accept  []odata.MediaType // none is any
	body    []byte
	url     string // as it was sent, below the root
	base    string // the service's root, with a slash at its end
	version string // of the answer: "4.0" or "4.01"
	short   bool   // the asker wants control information without "odata."
	form    form
	prefer  odata.Preferences
	deed    *Deed
	tx      *tx              // of a group in a batch; nil where the call has its own
	input   *input           // what its body says, where that was read already
	inner   bool             // it is in a batch
	about   string           // the key of the record that is written, for moods
	refs    map[string]*item // what $ID stands for there
}

// form is how much an answer's JSON says, and how.
type form struct {
	metadata string // "minimal", "full" or "none"
	quoted   bool   // IEEE754Compatible
}

// answer is what a call gets.
type answer struct {
	status int
	header odata.Headers
	body   []byte
	failed *refusal
}

func newAnswer(status int) *answer { return &answer{status: status} }

func (a *answer) set(name, value string) { a.header.Set(name, value) }

// refusal is why a call is not done, in the form of the standard's errors.
type refusal struct {
	status  int
	code    string
	message string
	target  string
	header  odata.Headers
}

func (r *refusal) Error() string { return r.message }

func refuse(status int, code, format string, args ...any) *refusal {
	return &refusal{status: status, code: code, message: fmt.Sprintf(format, args...)}
}

// at says of which property it is.
func (r *refusal) at(target string) *refusal {
	r.target = target
	return r
}

// with adds a header to the answer.
func (r *refusal) with(name, value string) *refusal {
	r.header.Set(name, value)
	return r
}

func badRequest(format string, args ...any) *refusal {
	return refuse(http.StatusBadRequest, "BadRequest", format, args...)
}

func notFound(format string, args ...any) *refusal {
	return refuse(http.StatusNotFound, "NotFound", format, args...)
}

// notHere refuses what the standard has and the stand-in has not.
func notHere(format string, args ...any) *refusal {
	return refuse(http.StatusNotImplemented, "NotImplemented", format+" is not to be had from this stand-in", args...)
}

// internal is an error of the stand-in's own: the disk is full, its file is damaged.
func internal(err error) *refusal {
	return refuse(http.StatusInternalServerError, "Internal", "%v", err)
}

// answer is the refusal as an answer.
func (r *refusal) answer() *answer {
	type content struct {
		Code    string `json:"code"`
		Message string `json:"message"`
		Target  string `json:"target,omitempty"`
	}
	a := newAnswer(r.status)
	a.failed = r
	a.header = append(a.header, r.header...)
	a.set("Content-Type", "application/json")
	a.body, _ = json.Marshal(map[string]content{"error": {r.code, r.message, r.target}})
	return a
}

// answerOf turns an error into an answer.
func answerOf(err error) *answer {
	if r, ok := err.(*refusal); ok {
		return r.answer()
	}
	return internal(err).answer()
}

// options are the query options of a URL, by their names without "$" in small letters.
type options struct {
	all     map[string]string
	aliases map[string]string // @p=…
	order   []string
}

// systemOptions are those of the standard; those that are not served are refused.
var systemOptions = map[string]bool{"filter": true, "select": true, "expand": true, "orderby": true, "top": true, "skip": true, "count": true, "format": true,
	"skiptoken": true, "search": false, "apply": false, "compute": false, "levels": false, "deltatoken": false, "index": false, "schemaversion": true, "id": false}

// parseQuery reads the query of a URL. System options may lack their "$" (4.01) and be
// in any case.
func parseQuery(raw string) (o options, err error) {
	if raw == "" {
		return o, nil
	}
	o.all, o.aliases = map[string]string{}, map[string]string{}
	for _, pair := range strings.Split(raw, "&") {
		if pair == "" {
			continue
		}
		name, value, _ := strings.Cut(pair, "=")
		name, errName := url.QueryUnescape(name)
		value, errValue := url.QueryUnescape(value)
		if errName != nil || errValue != nil {
			return o, badRequest("the query option %q has a %% that is followed by no two hexadecimal digits", pair)
		}
		if strings.HasPrefix(name, "@") {
			o.aliases[name] = value
			continue
		}
		plain := strings.ToLower(strings.TrimPrefix(strings.TrimSpace(name), "$"))
		served, system := systemOptions[plain]
		switch {
		case system && !served && (strings.HasPrefix(name, "$")):
			return o, notHere("the query option %s", name)
		case system && served:
			if _, twice := o.all[plain]; twice {
				return o, badRequest("the query option $%s stands there twice", plain)
			}
			o.all[plain] = value
			o.order = append(o.order, plain)
		case strings.HasPrefix(name, "$"):
			return o, badRequest("there is no query option %s", name)
		}
	}
	return o, nil
}

// only refuses system options that say nothing where they stand.
func (o options) only(what string, names ...string) error {
	for _, n := range o.order {
		ok := n == "format" || n == "schemaversion"
		for _, allowed := range names {
			ok = ok || n == allowed
		}
		if !ok {
			return badRequest("$%s is not for %s", n, what)
		}
	}
	return nil
}

// number is an option that is a whole number from 0 on; -1 where it is not said.
func (o options) number(name string) (int, error) {
	text, said := o.all[name]
	if !said {
		return -1, nil
	}
	n, err := strconv.Atoi(strings.TrimSpace(text))
	if err != nil || n < 0 {
		return 0, badRequest("$%s is to be a whole number from 0 on, not %q", name, text)
	}
	return n, nil
}

// flag is an option that is true or false.
func (o options) flag(name string) (bool, error) {
	switch text := strings.ToLower(strings.TrimSpace(o.all[name])); text {
	case "":
		return false, nil
	case "true", "false":
		return text == "true", nil
	default:
		return false, badRequest("$%s is to be true or false, not %q", name, text)
	}
}

// negotiate settles the version and the form of the answer.
func (c *call) negotiate() error {
	c.version = "4.01"
	if v := bareVersion(c.header.Get("OData-Version")); v != "" && v != "4.0" && v != "4.01" {
		return badRequest("OData-Version %s is not to be had; there are 4.0 and 4.01", v)
	}
	switch v := bareVersion(c.header.Get("OData-MaxVersion")); {
	case v == "":
	case v == "4.0":
		c.version = "4.0"
	case v < "4.0" && len(v) == 3:
		return badRequest("OData-MaxVersion %s is lower than 4.0, the lowest that there is", v)
	default:
		c.short = true // it knows 4.01
	}
	c.prefer = odata.ParsePrefer(c.header)
	c.form.metadata = "minimal"
	accept := c.header.Get("Accept")
	if f, said := c.options.all["format"]; said {
		switch strings.ToLower(f) {
		case "json":
			f = "application/json"
		case "xml":
			f = "application/xml"
		}
		accept = f
		if len(odata.ParseAccept(f)) == 0 {
			return refuse(http.StatusNotAcceptable, "NotAcceptable", "$format=%s is no format that is known here", f)
		}
	}
	if accept != "" {
		c.accept = odata.ParseAccept(accept)
	}
	for _, m := range c.accept {
		if m.Type != "application/json" {
			continue
		}
		if x := m.Parameters["metadata"]; x == "full" || x == "none" {
			c.form.metadata = x
		}
		c.form.quoted = strings.EqualFold(m.Parameters["ieee754compatible"], "true")
		break
	}
	return nil
}

// bareVersion is a version without what some clients write behind it: 4.0;NetFx.
func bareVersion(v string) string {
	v, _, _ = strings.Cut(v, ";")
	return strings.TrimSpace(v)
}

// accepts reports whether the asker takes one of some types; asking for nothing takes any.
func (c *call) accepts(types ...string) bool {
	if len(c.accept) == 0 {
		return true
	}
	for _, m := range c.accept {
		if m.Quality == 0 {
			continue
		}
		for _, t := range types {
			group, _, _ := strings.Cut(t, "/")
			if m.Type == t || m.Type == "*/*" || m.Type == group+"/*" {
				return true
			}
		}
	}
	return false
}

// wants reports which of two types the asker would rather have.
func (c *call) wants(first, second string) string {
	best, quality := first, -1.0
	for _, m := range c.accept {
		if (m.Type == first || m.Type == second) && m.Quality > quality {
			best, quality = m.Type, m.Quality
		}
	}
	return best
}

// control is the name of control information in the answer.
func (c *call) control(name string) string {
	if c.short {
		return "@" + name
	}
	return "@odata." + name
}

// json is an answer in JSON.
func (c *call) json(status int, body []byte) *answer {
	a := newAnswer(status)
	a.set("Content-Type", c.jsonType())
	a.body = body
	return a
}

// jsonType is the Content-Type of JSON in the form that was asked for.
func (c *call) jsonType() string {
	if !c.short && c.form == (form{metadata: "minimal"}) {
		return "application/json;odata.metadata=minimal"
	}
	t := "application/json;odata.metadata="
	if c.short {
		t = "application/json;metadata="
	}
	t += c.form.metadata
	if c.form.quoted {
		t += ";IEEE754Compatible=true"
	}
	return t
}
