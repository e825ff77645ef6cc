package desk

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// dossier.json is input: whoever can write a folder can write one whose digest fits. This file says what of it is believed: nothing
// that leads out of the dossier's folder, and nothing that the program could not have written.

var (
	dossierName = regexp.MustCompile(`^[0-9]{4,9}-`)
	numbered    = regexp.MustCompile(`^[0-9]{4,9}$`)
	idForm      = regexp.MustCompile(`^[0-9a-f]{32}$`)
)

// ErrForged says that a dossier's description is none that the program writes.
var ErrForged = errors.New("it was not written by paletwin")

// errElsewhere says that a dossier's number is another folder's: it is a copy of that one, or forged.
var errElsewhere = errors.New("it is another dossier's description")

// copied reports whether the dossier of which a description is a copy stands beside it.
func (d *Desk) copied(m *Meta) bool {
	_, err := d.FS.Stat(filepath.Join(d.dossiers(), m.Number+"-"+m.Slug))
	return err == nil
}

// believe refuses a description that says what the program never does. folder is the dossier's, from the folder of dossiers.
func (m *Meta) believe(folder string) error {
	number := m.believeNumber(filepath.ToSlash(folder))
	if number != nil && !errors.Is(number, errElsewhere) {
		return number
	}
	if m.ID != "" && !idForm.MatchString(m.ID) {
		return forged("the id %q", m.ID)
	}
	part := strings.Contains(filepath.ToSlash(folder), "/")
	for _, in := range m.inputs() {
		name := in.File
		if part { // which has the whole's
			name = strings.TrimPrefix(name, "../../")
		}
		if !isName(name) {
			return forged("the name %q of a file in it", in.File)
		}
	}
	for name := range m.Files {
		if !filepath.IsLocal(filepath.FromSlash(name)) || strings.ContainsFunc(name, unprintable) || strings.Contains(name, `\`) {
			return forged("the name %q of a file in it", name)
		}
	}
	if m.Undoes != nil && !m.follows(m.Undoes.Dossier) { // else ways through what undoes what would not end
		return forged("that it undoes the dossier %q", m.Undoes.Dossier)
	}
	if m.CatchesUp != "" && m.CatchesUp != m.Number && !m.follows(m.CatchesUp) {
		return forged("that it catches up with the dossier %q", m.CatchesUp)
	}
	if len(m.Sets) > 0 {
		return cmp.Or(m.believeMembers(), number)
	}
	if len(m.RecordSets) == 0 {
		return forged("that it has no record set")
	}
	for i := range m.RecordSets {
		s := &m.RecordSets[i]
		if s.Name == "" || !utf8.ValidString(s.Name) {
			return forged("a record set without a name")
		}
		if len(s.Key) == 0 || slices.Contains(s.Key, "") {
			return forged("a record set without a key")
		}
	}
	if m.Snapshot == nil {
		return forged("no snapshot")
	}
	return number
}

func forged(format string, args ...any) error {
	return fmt.Errorf("%w: it says %s", ErrForged, fmt.Sprintf(format, args...))
}

// inputs are the files that the dossier keeps, as its description lists them.
func (m *Meta) inputs() (all []*Input) {
	for _, in := range slices.Concat([]*Input{m.Snapshot}, m.Edited, []*Input{m.DeleteList}) {
		if in != nil {
			all = append(all, in)
		}
	}
	return all
}

// believeNumber holds the number against the folder's: 0007-slug, or for a part 0007-slug/sets/visits.
func (m *Meta) believeNumber(folder string) error {
	whole, rest, part := strings.Cut(folder, "/")
	digits, _, _ := strings.Cut(whole, "-")
	number, set, named := strings.Cut(m.Number, PartMark)
	switch {
	case !part && !named && numbered.MatchString(number) && number != digits && m.Slug == Slug(m.Slug):
		return fmt.Errorf("%w: %w", errElsewhere, forged("that it is number %q", m.Number))
	case !numbered.MatchString(number), number != digits, part != named:
		return forged("that it is number %q", m.Number)
	case part && (set == "" || rest != "sets/"+Slug(set)):
		return forged("that it is number %q", m.Number)
	case m.Slug != Slug(m.Slug):
		return forged("the name %q", m.Slug)
	}
	return nil
}

func (m *Meta) believeMembers() error {
	seen := map[string]bool{}
	for _, x := range m.Sets {
		if x.Set == "" || seen[Slug(x.Set)] || !utf8.ValidString(x.Set) {
			return forged("the record set %q", x.Set)
		}
		seen[Slug(x.Set)] = true
	}
	return nil
}

// follows reports whether a text is the number of a dossier, or of a record set of one, that was made before.
func (m *Meta) follows(text string) bool {
	number, set, part := strings.Cut(text, PartMark)
	own, _, _ := strings.Cut(m.Number, PartMark)
	return numbered.MatchString(number) && (!part || set != "") && numberOf(number) < numberOf(own)
}

// isName reports whether a text is a file's name in a folder, and leads nowhere else.
func isName(s string) bool {
	return s != "" && s != "." && s != ".." && !strings.ContainsAny(s, `/\:`) && utf8.ValidString(s) && !strings.ContainsFunc(s, unprintable)
}

func unprintable(r rune) bool { return unicode.IsControl(r) }

// empty reports whether a folder that is called as a dossier's is has nothing in it: it never was one.
func (d *Desk) empty(name string) bool {
	entries, err := d.FS.ReadDir(filepath.Join(d.dossiers(), name))
	return err == nil && len(entries) == 0 || errors.Is(err, fs.ErrNotExist)
}
