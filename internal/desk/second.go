package desk

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/changeset"
)

// Review says who has to look at changes before they are carried out.
type Review struct {
	Second string `yaml:"second"` // deletes, all, a number of changes, or several of these with commas between
	By     string `yaml:"by"`     // ByOther or ByTwo; "" is ByOther
	Names  string `yaml:"names"`  // Claimed, or ""
}

// Whose second look it is, and whether names may be claimed.
const (
	ByOther = "other"
	ByTwo   = "two"
	Claimed = "claimed"
)

func (r *Review) check() error {
	for _, word := range r.words() {
		if n, err := strconv.Atoi(word); word != "deletes" && word != "all" && (err != nil || n < 1) {
			return fmt.Errorf("review: second is deletes, all, or a number of changes, not %q", word)
		}
	}
	if !slices.Contains([]string{"", ByOther, ByTwo}, r.By) {
		return fmt.Errorf("review: by is other or two, not %q", r.By)
	}
	if r.Names != "" && r.Names != Claimed {
		return fmt.Errorf("review: names is claimed, or left out, not %q", r.Names)
	}
	return nil
}

func (r *Review) words() []string {
	if r.Second == "" {
		return nil
	}
	words := strings.Split(r.Second, ",")
	for i := range words {
		words[i] = strings.TrimSpace(words[i])
	}
	return words
}

// needs reports whether a change of an act needs a second look, of so many
// approved changes.
func (r *Review) needs(act changeset.Act, approved int) bool {
	return slices.ContainsFunc(r.words(), func(word string) bool {
		n, err := strconv.Atoi(word)
		return word == "all" || word == "deletes" && act == changeset.Delete || err == nil && approved > n
	})
}

// Unlooked are approved changes that somebody else has to approve, too.
type Unlooked struct {
	Changes int
	Deletes int
	First   string   // the key of the first
	By      []string // who approved it so far
	// Claimed are those who looked, as others who recorded it say, where nobody else did: each once, in order.
	Claimed []changeset.Person
}

// looked reports whether those who approved a unit are enough, and whose names of them had to be claimed for that.
func (t *Dossier) looked(who []changeset.Person) (enough bool, claimed []changeset.Person) {
	compared := changeset.Person{Name: t.Meta.By, Account: t.Meta.Account}
	two := t.desk.Settings.Review.By == ByTwo
	suffice := func(who []changeset.Person) bool {
		if two {
			return len(who) >= 2
		}
		return slices.ContainsFunc(who, func(p changeset.Person) bool { return !p.Same(compared) })
	}
	if !suffice(who) {
		return false, nil
	}
	own := slices.DeleteFunc(slices.Clone(who), func(p changeset.Person) bool { return p.Via != "" })
	if suffice(own) {
		return true, nil
	}
	return true, slices.DeleteFunc(slices.Clone(who), func(p changeset.Person) bool { return p.Via == "" })
}

// Unlooked counts the approved changes of the dossier that want for a second
// look.
func (t *Dossier) Unlooked() (Unlooked, error) {
	if !t.WantsSecond() {
		return Unlooked{}, nil
	}
	c, err := t.Changes()
	if err != nil {
		return Unlooked{}, err
	}
	defer c.Close()
	approved := map[changeset.ID][]string{}
	for line := range c.Lines() {
		if !c.Ledger.Has(line.ID()) {
			continue
		}
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return Unlooked{}, err
		}
		for _, s := range c.Ledger.States(line, ch) {
			if s.Decision == changeset.Approve {
				approved[ch.ID] = append(approved[ch.ID], s.Field)
			}
		}
	}
	return t.SecondLook(c, approved)
}

// WantsSecond reports whether the desk asks for a second look at a dossier's
// changes: at those that undo others, too, for that is what a dossier says of itself.
func (t *Dossier) WantsSecond() bool {
	return t.desk.Settings.Review.Second != ""
}

// SecondLook counts the approved changes among those given that want for a
// second look. approved says which units a run would carry out.
func (t *Dossier) SecondLook(c *Changes, approved map[changeset.ID][]string) (Unlooked, error) {
	var u Unlooked
	r := &t.desk.Settings.Review
	if !t.WantsSecond() {
		return u, nil
	}
	for line := range c.Lines() {
		fields, there := approved[line.ID()]
		if !there || !r.needs(line.Act(), len(approved)) {
			continue
		}
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return u, err
		}
		for _, f := range fields {
			who := c.Ledger.Approvers(line, ch, f, r.Names == Claimed)
			enough, claimed := t.looked(who)
			for _, p := range claimed {
				if !slices.Contains(u.Claimed, p) {
					u.Claimed = append(u.Claimed, p)
				}
			}
			if enough {
				continue
			}
			if u.Changes == 0 {
				u.First, u.By = ch.Key.String(), nil
				for _, p := range who {
					u.By = append(u.By, p.Name)
				}
			}
			u.Changes++
			if ch.Act == changeset.Delete {
				u.Deletes++
			}
			break
		}
	}
	return u, nil
}
