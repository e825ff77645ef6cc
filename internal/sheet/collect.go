package sheet

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"paletwin/core/changeset"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
)

// Said is a decision as a file has it.
type Said struct {
	Ref      string
	Decision changeset.Decision
	Note     string
	Set      string // of the change set it was made on, if the file says so
	Place    string // "row 18", for messages
}

// A Problem is something of a file that cannot be read as decisions.
type Problem struct{ Place, Text string }

// Read reads the decisions of one table of a sheet. ok is false where it is
// none.
func Read(m *table.Image) (all []Said, problems []Problem, ok bool, err error) {
	change, decision, note, set := m.ColumnLike(changeColumn), m.ColumnLike(decisionColumn), m.ColumnLike(noteColumn), m.ColumnLike(setColumn)
	if change < 0 || decision < 0 {
		return nil, nil, false, nil
	}
	err = csv.Each(context.Background(), m, func(r *csv.Line) error {
		cell := func(i int) string { return strings.TrimSpace(r.Text(i)) }
		place := fmt.Sprintf("row %d", r.Number())
		if m.Found.Sheet != "" {
			place = fmt.Sprintf("%s, row %d", m.Found.Sheet, r.Number())
		}
		s := Said{Ref: cell(change), Note: unguard(cell(note)), Set: cell(set), Place: place}
		word := strings.ToLower(cell(decision))
		if word == "" {
			return nil
		}
		var bad error
		if s.Decision, bad = decisionOf(word); bad != nil {
			problems = append(problems, Problem{place, bad.Error()})
			return nil
		}
		if _, known := desk.ParseRef(s.Ref); !known {
			problems = append(problems, Problem{place, fmt.Sprintf("%q names no change", s.Ref)})
			return nil
		}
		all = append(all, s)
		return nil
	})
	return all, problems, true, err
}

// FileError is a file from which no decision is taken: it is no review sheet,
// is of another change set, or says what cannot be read.
type FileError struct {
	File     string
	Text     string
	Foreign  bool // it was made on another dossier
	Problems []Problem
}

func (e *FileError) Error() string { return e.File + ": " + e.Text }

// decisionOf reads a decision's word: as it is offered, or as people write it.
func decisionOf(word string) (changeset.Decision, error) {
	switch word {
	case "approve", "approved":
		return changeset.Approve, nil
	case "hold", "held":
		return changeset.Hold, nil
	case "reject", "rejected":
		return changeset.Reject, nil
	}
	return "", fmt.Errorf("%q is no decision: approve, hold or reject", word)
}

// pageFile is the file that the review page gives out.
type pageFile struct {
	Form      string `json:"paletwin"`
	Version   int    `json:"version"`
	Set       string `json:"set"`
	Decisions []struct {
		Change   string `json:"change"`
		Decision string `json:"decision"`
		Note     string `json:"note"`
	} `json:"decisions"`
}

// ReadPage reads the decisions that were made in the review page. ok is false
// where it is no such file.
func ReadPage(data []byte) (all []Said, problems []Problem, ok bool) {
	var f pageFile
	if err := json.Unmarshal(data, &f); err != nil || f.Form != "decisions" || f.Version != 1 {
		return nil, nil, false
	}
	if !jsontext.Value(data).IsValid() { // which asks for more than encoding/json: no name twice, and texts that are UTF-8
		return nil, []Problem{{"the file", "has a member twice in an object, or bytes that are no text"}}, true
	}
	for i, d := range f.Decisions {
		place := fmt.Sprintf("decision %d", i+1)
		word, err := decisionOf(strings.ToLower(d.Decision))
		_, known := desk.ParseRef(d.Change)
		switch {
		case err != nil:
			problems = append(problems, Problem{place, err.Error()})
		case !known:
			problems = append(problems, Problem{place, fmt.Sprintf("%q names no change", d.Change)})
		default:
			all = append(all, Said{d.Change, word, d.Note, f.Set, place})
		}
	}
	return all, problems, true
}

// Collected is what a file's decisions come to.
type Collected struct {
	Groups  []Group
	Same    int       // units that stand so already
	Stopped []string  // places of approvals of what cannot be approved
	Changed []string  // places of decisions on what is no more as it was
	Theirs  []Problem // what somebody else decided otherwise, and stays so
	Twice   []Problem
	Other   int      // rows of another change set than the dossier's
	Old     int      // rows that do not say which dossier they are of, as sheets of before did
	Foreign []string // places of decisions that were made on another dossier
}

// Group is units that get one decision with one note.
type Group struct {
	Decision changeset.Decision
	Note     string
	Units    map[changeset.ID][]string
	Count    int
}

// Match holds the decisions of a file, made by somebody, against what the
// dossier has now. What somebody else decided otherwise stays so, unless decided says that it is overruled: a file may be older
// than that.
func Match(m *desk.Contents, said []Said, by string, decided bool) *Collected {
	at := map[changeset.ID]*desk.DecidedChange{}
	for _, s := range m.Changes {
		at[s.ID] = s
	}
	c := new(Collected)
	groups := map[Said]int{}
	seen := map[string]Said{}
	for _, d := range said {
		if d.Set != "" && !strings.EqualFold(d.Set, m.Set()) {
			c.Other++
		}
		r, _ := desk.ParseRef(d.Ref)
		unitOf := r.ID.String() + r.Field
		if before, twice := seen[unitOf]; twice {
			if before.Decision != d.Decision {
				c.Twice = append(c.Twice, Problem{d.Place, fmt.Sprintf("says %s, and %s says %s of the same", d.Decision, before.Place, before.Decision)})
			}
			continue
		}
		seen[unitOf] = d
		if m.Foreign(&r) {
			c.Foreign = append(c.Foreign, d.Place)
			continue
		}
		if r.Old() {
			c.Old++
		}
		s, unit := at[r.ID], -1
		if s != nil {
			unit = m.Unit(s, &r)
		}
		if unit < 0 {
			c.Changed = append(c.Changed, d.Place)
			continue
		}
		st := &s.States[unit]
		switch {
		case m.Stands(st, d.Decision, d.Note, by):
			c.Same++
		case d.Decision == changeset.Approve && st.Barred():
			c.Stopped = append(c.Stopped, d.Place)
		case !decided && overrules(st, d.Decision, by):
			c.Theirs = append(c.Theirs, Problem{d.Place, fmt.Sprintf("%s decided %s", st.By, st.Decision)})
		default:
			k := Said{Decision: d.Decision, Note: d.Note}
			g, there := groups[k]
			if !there {
				g = len(c.Groups)
				groups[k] = g
				c.Groups = append(c.Groups, Group{d.Decision, d.Note, map[changeset.ID][]string{}, 0})
			}
			c.Groups[g].Units[s.ID] = append(c.Groups[g].Units[s.ID], st.Field)
			c.Groups[g].Count++
		}
	}
	return c
}

// overrules reports whether a decision is another than somebody else's.
func overrules(st *changeset.State, d changeset.Decision, by string) bool {
	return st.Decision != "" && st.Decision != changeset.Open && !st.ToolHeld() && st.By != by && st.Decision != d
}
