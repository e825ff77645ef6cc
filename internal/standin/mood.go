package standin

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/goccy/go-yaml"

	"paletwin/core/yamltext"
)

// Mood is something that a real service does, and that the stand-in is to do: how, and to which
// requests.
type Mood struct {
	Name string

	// Which requests meet it. What is not said is any.
	Method words
	Set    words
	Key    words // parts of a key with a comma between them
	Every  int   // each so many-th of those
	After  int   // not the first so many
	Times  int   // so often at most

	Wait     time.Duration // slow: how long; busy and away: what Retry-After says
	Field    words         // whose values
	Decimals int           // rounds: to how many
	Says     string        // in which words
	By       string        // who it is that locks or edits
	Value    *string       // colleague: what is written
	Requests int           // limits: of a batch
	Bytes    int           // limits: of a body
	Chars    int           // limits: of a URL
	Uses     int           // expires: how often a token is good
	As       string        // errors: json, text, none

	seen, met int
}

// words is one word or a list of them.
type words []string

func (w words) allow(s string) bool { return len(w) == 0 || slices.Contains(w, s) }

// readWait reads a time: 200ms, 2s, or seconds as a bare number.
func readWait(text string) (time.Duration, error) {
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		text += "s"
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return 0, fmt.Errorf("wait is a time such as 200ms or 2s, not %q", text)
	}
	return d, nil
}

// MoodKind says what a mood is.
type MoodKind struct {
	Name  string
	Does  string   // in words
	Takes []string // beside those of which requests meet it
	Needs []string
	Shape bool // it is of all answers: no requests are picked
}

// MoodKinds lists the moods that there are.
var MoodKinds = []MoodKind{
	{Name: "slow", Does: "answers only after a while (wait: 200ms)", Takes: []string{"wait"}},
	{Name: "busy", Does: "429 with Retry-After (wait: 1s)", Takes: []string{"wait"}},
	{Name: "away", Does: "503; with Retry-After where wait is said", Takes: []string{"wait"}},
	{Name: "cut-before", Does: "the connection is cut before anything is done"},
	{Name: "cut-after", Does: "the connection is cut after all is done and committed"},
	{Name: "half-batch", Does: "of a batch the first half is done, atomicity groups or not; then 500"},
	{Name: "hollow-group", Does: "a group that failed answers its first requests as if they were done", Shape: true},
	{Name: "trims", Does: "texts lose their outer spaces", Takes: []string{"field"}},
	{Name: "rounds", Does: "decimals are rounded (decimals: 0)", Takes: []string{"field", "decimals"}},
	{Name: "capitals", Does: "texts become upper-case", Takes: []string{"field"}},
	{Name: "ignores", Does: "a field that cannot be written is passed over, and 200 or 204 answered", Takes: []string{"field"}, Needs: []string{"field"}},
	{Name: "refuses", Does: "what writes a field is refused, in words", Takes: []string{"field", "says"}, Needs: []string{"field"}},
	{Name: "locked", Does: "423: somebody has the record open", Takes: []string{"by"}},
	{Name: "colleague", Does: "somebody edits the record just before it is written", Takes: []string{"field", "value", "by"}},
	{Name: "limits", Does: "413 or 414 where a batch, a body or a URL is too large", Takes: []string{"requests", "bytes", "chars"}, Shape: true},
	{Name: "expires", Does: "401 once a token was used so often (uses: 10), until the token file has another", Takes: []string{"uses"}, Shape: true},
	{Name: "no-etags", Does: "records have no ETags, and If-Match says nothing", Shape: true},
	{Name: "asks-etags", Does: "428 where a record is written without If-Match", Shape: true},
	{Name: "no-batches", Does: "there is no $batch", Shape: true},
	{Name: "no-jobs", Does: "respond-async says nothing: all is answered at once", Shape: true},
	{Name: "no-repeats", Does: "a repeated request is done again: Repeatability-Request-ID says nothing", Shape: true},
	{Name: "silent", Does: "what was written is answered without the record, whatever Prefer asks for", Shape: true},
	{Name: "offset-paging", Does: "the next page begins at a place, so that deletes meanwhile lose rows", Shape: true},
	{Name: "empty-last-page", Does: "the last page is followed by an empty one", Shape: true},
	{Name: "relative-links", Does: "nextLink is relative to the service's root", Shape: true},
	{Name: "bare-boundary", Does: "a multipart answer's boundary stands without quotes, though it has signs that need them", Shape: true},
	{Name: "quoted-boundary", Does: "a multipart answer's boundary stands in quotes, though it needs none", Shape: true},
	{Name: "lower-headers", Does: "the headers of a multipart answer's parts are in small letters", Shape: true},
	{Name: "errors", Does: "errors have a body of plain text, or none (as: json, text, none)", Takes: []string{"as"}, Needs: []string{"as"}, Shape: true},
}

func moodKind(name string) *MoodKind {
	for i := range MoodKinds {
		if MoodKinds[i].Name == name {
			return &MoodKinds[i]
		}
	}
	return nil
}

var picks = []string{"method", "set", "key", "every", "after", "times"}

// ParseMoods reads a list of moods in YAML; name is its file's, for messages.
func ParseMoods(name string, data []byte) ([]*Mood, error) {
	var raw []map[string]any
	if err := yamltext.Unmarshal(data, &raw); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%s is no list of moods, each with \"mood: NAME\": %s", name, strings.TrimSpace(yaml.FormatError(err, false, false)))
	}
	var all []*Mood
	for i, said := range raw {
		m, err := readMood(said)
		if err != nil {
			return nil, fmt.Errorf("%s, mood %d: %w", name, i+1, err)
		}
		all = append(all, m)
	}
	return all, nil
}

// ParseMood reads a mood as a flag has it: NAME, or NAME,KEY=VALUE,…; several values of
// one key have a + between them.
func ParseMood(text string) (*Mood, error) {
	name, rest, _ := strings.Cut(text, ",")
	said := map[string]any{"mood": strings.TrimSpace(name)}
	for _, pair := range strings.Split(rest, ",") {
		if pair == "" {
			continue
		}
		k, v, ok := strings.Cut(pair, "=")
		if !ok {
			return nil, fmt.Errorf("%q in the mood %q is no KEY=VALUE", pair, text)
		}
		k = strings.TrimSpace(k)
		if _, twice := said[k]; twice {
			return nil, fmt.Errorf("the mood %q says %s twice", text, k)
		}
		if k == "method" || k == "set" || k == "key" || k == "field" {
			said[k] = strings.Split(v, "+")
			continue
		}
		said[k] = v
	}
	m, err := readMood(said)
	if err != nil {
		return nil, fmt.Errorf("the mood %q: %w", text, err)
	}
	return m, nil
}

// readMood reads one mood of what was said of it.
func readMood(said map[string]any) (*Mood, error) {
	name, _ := said["mood"].(string)
	kind := moodKind(name)
	if kind == nil {
		var names []string
		for _, k := range MoodKinds {
			names = append(names, k.Name)
		}
		hint := near(name, names)
		if hint == "" {
			hint = "; there are " + strings.Join(names, ", ")
		}
		return nil, fmt.Errorf("there is no mood %q%s", name, hint)
	}
	for k, v := range said {
		if k == "mood" || slices.Contains(kind.Takes, k) || !kind.Shape && slices.Contains(picks, k) {
			if _, isText := v.(string); !isText && k != "method" && k != "set" && k != "key" && k != "field" {
				said[k] = fmt.Sprint(v)
			}
			continue
		}
		allowed := slices.Clone(kind.Takes)
		if !kind.Shape {
			allowed = append(allowed, picks...)
		}
		if len(allowed) == 0 {
			return nil, fmt.Errorf("%s takes nothing, and not %q", name, k)
		}
		return nil, fmt.Errorf("%s does not take %q; it takes %s", name, k, strings.Join(allowed, ", "))
	}
	for _, k := range kind.Needs {
		if said[k] == nil {
			return nil, fmt.Errorf("%s needs %s", name, k)
		}
	}
	m := &Mood{Name: name}
	if err := m.take(said); err != nil {
		return nil, err
	}
	return m, m.complete()
}

// take reads what was said of a mood.
func (m *Mood) take(said map[string]any) error {
	list := func(k string) (all words) {
		switch v := said[k].(type) {
		case nil:
		case []string:
			all = v
		case []any:
			for _, x := range v {
				all = append(all, fmt.Sprint(x))
			}
		default:
			all = words{fmt.Sprint(v)}
		}
		return all
	}
	m.Method, m.Set, m.Key, m.Field = list("method"), list("set"), list("key"), list("field")
	for i, s := range m.Method {
		m.Method[i] = strings.ToUpper(s)
	}
	text := func(k string) string { s, _ := said[k].(string); return s }
	m.Says, m.By, m.As = text("says"), text("by"), text("as")
	if _, is := said["value"]; is {
		v := text("value")
		m.Value = &v
	}
	for _, x := range []struct {
		k    string
		n    *int
		from int
	}{{"every", &m.Every, 1}, {"after", &m.After, 0}, {"times", &m.Times, 1}, {"decimals", &m.Decimals, 0}, {"requests", &m.Requests, 1}, {"bytes", &m.Bytes, 1}, {"chars", &m.Chars, 1}, {"uses", &m.Uses, 1}} {
		if said[x.k] == nil {
			continue
		}
		n, err := strconv.Atoi(text(x.k))
		if err != nil || n < x.from {
			return fmt.Errorf("%s is to be a whole number from %d on, not %q", x.k, x.from, text(x.k))
		}
		*x.n = n
	}
	if said["wait"] == nil {
		return nil
	}
	var err error
	m.Wait, err = readWait(text("wait"))
	return err
}

// complete fills in what was not said.
func (m *Mood) complete() error {
	switch m.Name {
	case "slow":
		if m.Wait == 0 {
			m.Wait = 200 * time.Millisecond
		}
	case "busy":
		if m.Wait == 0 {
			m.Wait = time.Second
		}
	case "expires":
		if m.Uses == 0 {
			m.Uses = 10
		}
	case "limits":
		if m.Requests == 0 && m.Bytes == 0 && m.Chars == 0 {
			return errors.New("limits needs requests, bytes or chars")
		}
	case "errors":
		if !slices.Contains([]string{"json", "text", "none"}, m.As) {
			return fmt.Errorf("as is json, text or none, not %q", m.As)
		}
	}
	return nil
}

// moods are those that a service has.
type moods struct {
	mu  sync.Mutex
	all []*Mood
	has map[string]bool
}

// MoodCount is a mood and how often it was met.
type MoodCount struct {
	Mood string `json:"mood"`
	Met  int    `json:"met"`
}

func newMoods(all []*Mood) *moods {
	m := &moods{has: map[string]bool{}}
	for _, x := range all {
		own := *x // counts are a service's own
		own.seen, own.met = 0, 0
		m.all = append(m.all, &own)
		m.has[x.Name] = true
	}
	return m
}

// about is what a request, or the writing of a record, is about.
type about struct{ method, set, key, field string }

// on is the mood of a name that something meets; nil is none. It counts.
func (m *moods) on(name string, a about) *Mood {
	if !m.has[name] {
		return nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, x := range m.all {
		if x.Name != name || !x.Method.allow(a.method) || !x.Set.allow(a.set) || !x.Key.allow(a.key) || a.field != "" && !x.Field.allow(a.field) {
			continue
		}
		x.seen++
		if x.seen <= x.After || x.Every > 1 && (x.seen-x.After)%x.Every != 0 || x.Times > 0 && x.met >= x.Times {
			continue
		}
		x.met++
		return x
	}
	return nil
}

// counts lists the moods and how often each was met.
func (m *moods) counts() []MoodCount {
	m.mu.Lock()
	defer m.mu.Unlock()
	all := make([]MoodCount, len(m.all))
	for i, x := range m.all {
		all[i] = MoodCount{x.Name, x.met}
	}
	return all
}

// check refuses moods that name what is not there.
func (w *World) check(all []*Mood) error {
	for _, m := range all {
		for _, name := range m.Set {
			if w.Set(name) == nil {
				return fmt.Errorf("the mood %s names the set %s; there are %s", m.Name, name, strings.Join(w.Names(), ", "))
			}
		}
		for _, name := range m.Field {
			known := false
			var all []string
			for _, s := range w.Sets {
				if _, ok := s.byName[name]; ok {
					known = true
				}
				all = append(all, s.fieldNames()...)
			}
			if !known {
				return fmt.Errorf("the mood %s names the field %s, which no set has%s", m.Name, name, near(name, all))
			}
		}
	}
	return nil
}

// String is the mood as a flag has it.
func (m *Mood) String() string {
	text := m.Name
	list := func(k string, w words) {
		if len(w) > 0 {
			text += "," + k + "=" + strings.Join(w, "+")
		}
	}
	number := func(k string, n int) {
		if n > 0 {
			text += "," + k + "=" + strconv.Itoa(n)
		}
	}
	word := func(k, s string) {
		if s != "" {
			text += "," + k + "=" + s
		}
	}
	list("method", m.Method)
	list("set", m.Set)
	list("key", m.Key)
	list("field", m.Field)
	number("every", m.Every)
	number("after", m.After)
	number("times", m.Times)
	if m.Wait > 0 {
		word("wait", m.Wait.String())
	}
	number("decimals", m.Decimals)
	number("requests", m.Requests)
	number("bytes", m.Bytes)
	number("chars", m.Chars)
	number("uses", m.Uses)
	word("says", m.Says)
	word("by", m.By)
	word("as", m.As)
	if m.Value != nil {
		text += ",value=" + *m.Value
	}
	return text
}
