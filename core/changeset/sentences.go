package changeset

import (
	"slices"
	"strings"
)

// Sentences say in words why changes wait, for people who do not know codes.
type Sentences struct {
	means map[string]string    // of codes
	said  map[[2]string]string // by code and column, where one thing is said of all
}

// NewSentences takes the words of findings where they fit every change that they are about, and else what their code means.
func NewSentences(findings []Finding) *Sentences {
	s := &Sentences{map[string]string{}, map[[2]string]string{}}
	for _, c := range Codes() {
		s.means[c.Name] = c.Means
	}
	for i := range findings {
		f := &findings[i]
		at := [2]string{f.Code, f.Column}
		_, twice := s.said[at]
		if s.said[at] = f.Text; twice || f.Key != "" || f.Scope == OfFile || f.Count > 1 && f.Code != BrokenRule.Name {
			s.said[at] = ""
		}
	}
	return s
}

// Of says what was found about a unit of a change, in sentences; "" is nothing.
func (s *Sentences) Of(st *State) string {
	var all []string
	for _, code := range slices.Concat(st.Stop, st.Held, st.Noted) {
		text := s.said[[2]string{code, st.Field}]
		if text == "" {
			text = s.means[code]
		}
		if text == "" {
			text = code
		}
		if text = strings.ToUpper(text[:1]) + text[1:] + "."; !slices.Contains(all, text) {
			all = append(all, text)
		}
	}
	return strings.Join(all, " ")
}
