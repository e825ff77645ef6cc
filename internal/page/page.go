// Package page writes a dossier's changes as one HTML file that opens in any
// browser, without a network: to look, to decide, and to send the decisions
// back as a file.
//
// Everything in the file is in the file. Its content security policy allows
// the one script and the one style sheet by their digests, pictures that are in it,
// and nothing else, and
// values from data are in a block of JSON in which no tag can end (RFC 8259
// with <, > and & escaped), and become text nodes.
package page

import (
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/words"
	"paletwin/internal/desk"
	"paletwin/internal/picture"
	"paletwin/internal/term"
)

var (
	//go:embed page.html
	page string
	//go:embed page.css
	style string
	//go:embed page.js
	script string
)

// MostUnits is how many field changes and records a page holds; of more it
// holds those with a finding first, and a sample of the others.
const MostUnits = 20_000

// mostFindings is how many findings the summary tells.
const mostFindings = 6

// data is what the script reads.
type data struct {
	Number  string       `json:"number"`
	Set     string       `json:"set"`
	Fields  []string     `json:"fields"`
	Changes []changeJSON `json:"changes"`
	Units   []unitJSON   `json:"units"`
}

type changeJSON struct {
	ID     string    `json:"id"`
	Act    string    `json:"act"`
	Key    string    `json:"key"`
	About  string    `json:"about"`
	Record []*string `json:"record"` // by field; null is a field that is not there
}

type unitJSON struct {
	Ref      string   `json:"ref"`
	Change   int      `json:"change"`
	Field    int      `json:"field"` // -1 for a whole add or delete
	From     *string  `json:"from"`
	To       *string  `json:"to"`
	Codes    []string `json:"codes"`
	Stop     bool     `json:"stop"`
	Decision string   `json:"decision"`
	Note     string   `json:"note"`
	Finding  string   `json:"finding"`
	In       string   `json:"in"` // of several copies, in which, and what others have
}

// finding is a line of the summary.
type finding struct{ Place, Text string }

// Write writes the page.
func Write(w io.Writer, m *desk.Contents) error {
	d, sampled, err := collect(m)
	if err != nil {
		return err
	}
	b, err := json.Marshal(d)
	if err != nil {
		return err
	}
	meta := m.Dossier.Meta
	set := m.Dossier.Set()
	edited := "a list of deletes"
	if len(meta.Edited) > 0 {
		edited = words.List(meta.Edited.Names())
	}
	pictures, err := drawn(m)
	if err != nil {
		return err
	}
	t, err := template.New("page").Parse(page)
	if err != nil {
		return err
	}
	return t.Execute(w, map[string]any{
		"Number": meta.Number, "Title": term.Safe(meta.Title), "Set": term.Safe(set.Name), "By": term.Safe(meta.By), "When": meta.When.Local().Format("2 January 2006, 15:04"),
		"Snapshot": term.Safe(meta.Snapshot.Name), "Edited": term.Safe(edited), "Seal": m.Set(), "Key": term.Safe(strings.Join(m.Header.Key, ", ")),
		"Records": fmt.Sprintf("%s in the snapshot; %s to amend, %s to add, %s to delete", term.Plural(set.Records.Snapshot, "record"), term.Count(set.Changes.Amend), term.Count(set.Changes.Add), term.Count(set.Changes.Delete)),
		"Counts":  "", "Sampled": sampled, "Findings": summary(m),
		"Pictures": pictures,
		"Style":    template.CSS(style), "Script": template.JS(script), "StyleHash": hashOf(style), "ScriptHash": hashOf(script), "Data": template.JS(b),
	})
}

// figure is a picture in both themes, with a text for those who do not see it.
type figure struct {
	Title, Text string
	Light       template.URL
	Dark        template.Srcset
}

// drawn are the pictures of the summary.
func drawn(m *desk.Contents) ([]figure, error) {
	light, text, err := picture.Bars(m, picture.Light)
	if err != nil {
		return nil, err
	}
	dark, _, err := picture.Bars(m, picture.Dark)
	if err != nil {
		return nil, err
	}
	all := []figure{{"Changes by field", text, inline(light), template.Srcset(inline(dark))}}
	light, field, text, err := picture.Moves(m, picture.Light)
	if err != nil || field == "" {
		return all, err
	}
	dark, _, _, err = picture.Moves(m, picture.Dark)
	return append(all, figure{term.Safe(field) + ", from against to", text, inline(light), template.Srcset(inline(dark))}), err
}

// inline is an SVG picture as a URL that holds it.
func inline(svg []byte) template.URL {
	return template.URL("data:image/svg+xml;base64," + base64.StdEncoding.EncodeToString(svg))
}

// hashOf is the digest by which a policy allows a text (Content Security
// Policy Level 3).
func hashOf(text string) template.HTMLAttr {
	sum := sha256.Sum256([]byte(text))
	return template.HTMLAttr("sha256-" + base64.StdEncoding.EncodeToString(sum[:]))
}

// summary is the findings that weigh most.
func summary(m *desk.Contents) []finding {
	var all []finding
	for _, g := range changeset.Groups(m.Findings) {
		if g.Level == changeset.Note || len(all) == mostFindings {
			continue
		}
		place := g.Column
		if g.Row > 0 {
			place = strings.TrimSpace(fmt.Sprintf("%s row %d", g.Column, g.Row))
		}
		if len(m.Dossier.Meta.Edited) > 1 {
			place = strings.TrimSpace(g.File + " " + place)
		}
		all = append(all, finding{term.Safe(place), term.Safe(g.Text)})
	}
	return all
}

// collect takes the units in, all or a sample, and says so.
func collect(m *desk.Contents) (*data, string, error) {
	d := &data{Number: m.Dossier.Meta.Number, Set: m.Set(), Changes: []changeJSON{}, Units: []unitJSON{}}
	for _, f := range m.Header.Fields {
		d.Fields = append(d.Fields, term.Safe(f))
	}
	all := 0
	for _, s := range m.Changes {
		all += len(s.States)
	}
	take := chooser(m, all)
	texts := changeset.NewSentences(m.Findings)
	for i, s := range m.Changes {
		at := -1
		for u := range s.States {
			if !take(i, u) {
				continue
			}
			if at < 0 {
				at = len(d.Changes)
				c, err := change(m, s)
				if err != nil {
					return nil, "", err
				}
				d.Changes = append(d.Changes, c)
			}
			d.Units = append(d.Units, unit(m, s, u, at, texts))
		}
	}
	said := ""
	if len(d.Units) < all {
		said = fmt.Sprintf("There are %s field changes and records. This page holds %s: those with a finding, and every so many of the others. The counts below are of these; decide on the rest with the tool.",
			term.Count(all), term.Count(len(d.Units)))
	}
	return d, said, nil
}

// chooser says which units a page takes in.
func chooser(m *desk.Contents, all int) func(change, unit int) bool {
	if all <= MostUnits {
		return func(int, int) bool { return true }
	}
	special := 0
	for _, s := range m.Changes {
		for u := range s.States {
			if s.States[u].Found() {
				special++
			}
		}
	}
	room := MostUnits - min(special, MostUnits*3/4)
	others := max(all-special, 1)
	room = min(room, others)
	seen, taken := 0, 0
	return func(change, unit int) bool {
		if m.Changes[change].States[unit].Found() {
			taken++
			return taken <= MostUnits*3/4
		}
		seen++
		return seen*room/others > (seen-1)*room/others
	}
}

// change is a change's record: as it is, or, of an add, as it would be.
func change(m *desk.Contents, s *desk.DecidedChange) (changeJSON, error) {
	r, err := m.Before(s)
	if err != nil {
		return changeJSON{}, err
	}
	if s.Act == changeset.Add {
		r = s.Chosen(s.States[0].Of)
	}
	c := changeJSON{ID: s.ID.String()[:8], Act: s.Act.String(), Key: term.Safe(s.Key.String()), About: term.Safe(strings.Join(m.About(r, 2), " · ")), Record: make([]*string, len(m.Header.Fields))}
	get := r.Finder()
	for i, f := range m.Header.Fields {
		if v, there := get(f); there {
			c.Record[i] = text(v)
		}
	}
	return c, nil
}

// text is a value as the page shows it, nil for null.
func text(v record.Value) *string {
	if v.IsNull() {
		return nil
	}
	s := term.Safe(v.String())
	return &s
}

func unit(m *desk.Contents, s *desk.DecidedChange, u, at int, say *changeset.Sentences) unitJSON {
	st := &s.States[u]
	j := unitJSON{Ref: m.Ref(s, u), Change: at, Field: -1, Codes: append([]string{}, slices.Concat(st.Stop, st.Held, st.Noted)...), Stop: st.Barred(), Note: st.Note, In: term.Safe(s.In(st.Field))}
	if d := m.Prefill(st); d != "" {
		j.Decision = string(d)
	}
	j.Finding = term.Safe(say.Of(st))
	if s.Act == changeset.Amend {
		f := &s.Fields[u]
		j.Field, j.From, j.To = slices.Index(m.Header.Fields, f.Field), text(f.From), text(st.Wanted(f))
		return j
	}
	all := term.Safe(m.Whole(s.Chosen(st.Of)))
	j.To = &all
	return j
}
