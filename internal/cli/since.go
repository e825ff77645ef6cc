package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"paletwin/internal/desk"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

// since finds out what became of a new dossier's snapshot where its records live; nil
// where nothing is to be said.
func (a *app) since(ctx context.Context, t *desk.Dossier) *update.Since {
	if t.Set().Changes.Changes() == 0 {
		return nil
	}
	s := a.office().Since(ctx, t)
	if s.Written.IsZero() && s.Target == "" && s.Failed == nil {
		return nil
	}
	return s
}

// sinceWords says it to people.
func (a *app) sinceWords(t *desk.Dossier, s *update.Since) {
	if s == nil {
		return
	}
	snapshot, where := screen.Safe(filepath.Base(t.Meta.Snapshot.Name)), a.shown(s.Target)
	age := ""
	if days := int(a.now().Sub(s.Written) / (24 * time.Hour)); !s.Written.IsZero() && days > 0 {
		age = snapshot + " is " + screen.Plural(days, "day") + " old"
	}
	moved := ""
	switch n := s.Amended + s.Added + s.Gone; {
	case s.Failed != nil:
		moved = "whether its records moved since is not known: " + screen.Safe(explain(s.Failed).Text)
	case s.Target == "" || n == 0 && age == "":
	case n == 0 && s.Only:
		moved = "in " + where + " the records that are changed here are as it has them"
	case n == 0:
		moved = where + " is as it has it"
	case s.Only:
		moved = fmt.Sprintf("%s has moved on since: %s of those that are changed here", where, screen.Plural(s.These, "record"))
	default:
		moved = fmt.Sprintf("%s has moved on since: %s amended, %s added, %s gone, %s of them changed here", where, screen.Plural(s.Amended, "record"), screen.Count(s.Added), screen.Count(s.Gone), screen.Count(s.These))
	}
	switch {
	case age != "" && moved != "":
		a.hint("%s; %s", age, moved)
	case moved != "" && s.Failed == nil:
		a.hint("%s: %s", snapshot, moved)
	case age != "":
		a.hint("%s", age)
	}
}
