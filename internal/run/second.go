package run

import (
	"fmt"
	"strings"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
)

// secondLook refuses steps that the desk wants somebody else to approve, too. It gives those whose look rests on a name that was claimed.
func (j *Job) secondLook(c *desk.Changes, steps []*Step) ([]changeset.Person, error) {
	if !j.Dossier.WantsSecond() {
		return nil, nil
	}
	approved := make(map[changeset.ID][]string, len(steps))
	for _, s := range steps {
		fields := []string{""}
		if s.Act == changeset.Amend {
			fields = nil
			for f := range s.Fields.All() {
				fields = append(fields, f.Field)
			}
		}
		approved[s.ID] = fields
	}
	u, err := j.Dossier.SecondLook(c, approved)
	if err != nil || u.Changes == 0 {
		return u.Claimed, err
	}
	return nil, refuse(SecondLook, "%s", MissingLook(j.Dossier, u))
}

// MissingLook says whose approval is missing, and of what.
func MissingLook(t *desk.Dossier, u desk.Unlooked) string {
	what := fmt.Sprintf("%d changes, the first of them of %s,", u.Changes, u.First)
	if u.Changes == 1 {
		what = "the change of " + u.First
	}
	who := "somebody other than " + t.Meta.By + ", who compared"
	if t.Desk().Settings.Review.By == desk.ByTwo {
		who = "two people"
		if len(u.By) > 0 {
			who += ", and so far only by " + strings.Join(u.By, ", ")
		}
	}
	return fmt.Sprintf("%s must be approved by %s: desk.yaml asks for a second look", what, who)
}
