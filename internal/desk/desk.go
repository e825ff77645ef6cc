// Package desk keeps a desk: the folder that holds dossiers and settings.
// It writes whole files or none, appends what may only grow, and checks
// what it reads back against the digests that stand beside it.
package desk

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"

	"paletwin/core/yamltext"
	"paletwin/internal/account"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// SettingsName is the file that makes a folder a desk.
const SettingsName = "desk.yaml"

// Desk is a folder with dossiers.
type Desk struct {
	FS       disk.FS
	Dir      string // absolute
	Settings Settings
	Account  account.Account // who works on it
	Password string          // of workbooks that have one; nowhere kept
	Command  string          // the command line, for whoever asks later what failed
	Copies   []*CopyError    // found by Dossiers
	isNew    bool
	group    int    // of a shared desk; -1
	foreign  string // why whose files are here is not looked at; "" where it is
	way      Way
	unsaid   []string // notes that are to be kept as said, with the next line of the book
	undoing  undoing
	steady   bool // no dossier is looked for that was made meanwhile
}

// Settings is what desk.yaml says.
type Settings struct {
	Name   string `yaml:"name"`
	Review Review `yaml:"review"`
	// Shared is the group, by its name or number, whose members work on the desk; "" where it is one user's.
	Shared  string            `yaml:"shared"`
	Targets map[string]Target `yaml:"targets"`
	// Handoff are the settings of hand-offs, and of the collecting of what is answered.
	Handoff map[string]string `yaml:"handoff"`
	// Lists are folders beside the desk in which lists of layouts may be; absolute once the desk is open.
	Lists []string `yaml:"lists"`
}

// Target is a place that has a name on the desk.
type Target struct {
	To    string `yaml:"to"`    // a URL, or a path from the desk's folder; absolute once the desk is open
	At    string `yaml:"at"`    // the same, in another word
	Trial bool   `yaml:"trial"` // it is for trying: nothing is asked before something is done again there
	// Tickets is false of a database in which no table of tickets may be made.
	Tickets *bool `yaml:"tickets"`
	// Slow says of a database that it lies behind a slow line.
	Slow bool `yaml:"slow"`
	// Of a service: how many records go together, how many times at once, and in which form; zero is as it can.
	Batch    int    `yaml:"batch"`
	Requests int    `yaml:"requests"`
	Batches  string `yaml:"batches"`
	InFlight int    `yaml:"in_flight"` // the same as Requests, in other words
	// Of a workbook, what becomes of the rows of records that are deleted: "rows" takes them out, as "" does, "cells" empties them.
	Deletes string `yaml:"deletes"`
	// Settings are those of commands that go there, by their names: what --with says on the command line.
	Settings map[string]string `yaml:"settings"`
}

// With is the name of a target, by its name or place, with its settings; "" where it has none.
func (s *Settings) With(place string) (name string, settings map[string]string) {
	if t, is := s.Targets[place]; is {
		return place, t.Settings
	}
	if name = s.Named(place); name == "" {
		return "", nil
	}
	return name, s.Targets[name].Settings
}

// Trial reports whether a target, by its name, is for trying.
func (s *Settings) Trial(name string) bool {
	return s.any(name, func(t *Target) bool { return t.Trial })
}

// NoTickets reports whether no table of tickets may be made in a database.
func (s *Settings) NoTickets(name string) bool {
	return s.any(name, func(t *Target) bool { return t.Tickets != nil && !*t.Tickets })
}

// Slow reports whether a database lies behind a slow line.
func (s *Settings) Slow(name string) bool {
	return s.any(name, func(t *Target) bool { return t.Slow })
}

// KeepRows reports whether a workbook keeps the rows of records that are deleted.
func (s *Settings) KeepRows(name string) bool {
	return s.any(name, func(t *Target) bool { return t.Deletes == "cells" })
}

// Requests says how a service is to be asked, by the set's name: how many records go together, how many times at once, and in which form
// ("json", "multipart", or "alone" for not together). Zero and "" are as the service can.
func (s *Settings) Requests(name string) (batch, requests int, form string) {
	s.any(name, func(t *Target) bool { batch, requests, form = t.Batch, t.Requests, t.Batches; return false })
	return batch, requests, form
}

// Named is the name that a place has on the desk, the first of several; "" is none.
func (s *Settings) Named(place string) string {
	for _, name := range slices.Sorted(maps.Keys(s.Targets)) {
		if s.Targets[name].To == place {
			return name
		}
	}
	return ""
}

// Only is the one target that has a name and is not for trying; "" where there are several, or none.
func (s *Settings) Only() (name string) {
	for n, t := range s.Targets {
		switch {
		case t.Trial:
		case name != "":
			return ""
		default:
			name = n
		}
	}
	return name
}

// any reports whether something holds of a target, by its name.
func (s *Settings) any(name string, holds func(*Target) bool) bool {
	for _, t := range s.Targets {
		if holds(&t) && (t.To == name || target.Scheme(t.To) != "" && target.Public(t.To) == name || disk.SameFile(t.To, name)) {
			return true
		}
	}
	return false
}

const firstSettings = `# This folder is a Pale Twin desk: it holds the dossiers of bulk updates.
# Every command run here or below finds it by this file.

# What the desk is called in the history, for example the name of the office.
name: ""

# Who may approve. "second" says what needs a second look: deletes, all, or a number of changes (50) from which on all
# do; several with commas between. "by" says whose look that is: other (anyone but the one who compared), or two
# (two people). "names: claimed" lets approve --by NAME say who decided; otherwise it is who is logged in.
# review: {second: deletes, by: other, names: claimed}

# The group that shares this desk. Its members may then read and write everything on it, and nobody else.
# shared: harbour

# Names for where records live, for apply --to NAME. One that is marked as a trial is for trying: an update may go there
# first, and again, and then to the real one, without --other-target and --again.
# targets:
#   test: {at: test-register.csv, trial: true}
#   register: {at: /srv/register/aids.csv, settings: {batch: 500, pause: 2s}}

# How the system that takes load files wants them: what handoff --with NAME=VALUE says.
# handoff: {max-records: 500, line-ends: crlf}
`

// ErrSettings says that a desk.yaml cannot be read.
var ErrSettings = errors.New("the desk's settings cannot be read")

// Find returns the desk in the folder given, which may not exist yet, or,
// with given empty, the nearest desk upward from the folder from; if there
// is none, from becomes one with its first dossier. who is who works there; the zero account is
// the process's. One that was not given is followed only where nobody else could have written it: *UntrustedError.
func Find(fsys disk.FS, who account.Account, given, from string) (*Desk, error) {
	if given != "" {
		dir, err := filepath.Abs(given)
		if err != nil {
			return nil, err
		}
		return load(fsys, who, dir, true)
	}
	for dir := from; ; dir = filepath.Dir(dir) {
		if _, err := fsys.Stat(filepath.Join(dir, SettingsName)); err == nil {
			return load(fsys, who, dir, false)
		}
		if filepath.Dir(dir) == dir {
			return load(fsys, who, from, false)
		}
	}
}

// load opens the desk in a folder; named says that it is meant, whoever could have written it.
func load(fsys disk.FS, who account.Account, dir string, named bool) (*Desk, error) {
	d := &Desk{FS: fsys, Dir: dir, Account: who, group: -1}
	d.fenceIn()
	if err := d.settings(); err != nil {
		return nil, err
	}
	d.fenceIn() // whose files are is known now
	if err := d.believed(); err != nil && !named {
		return nil, err
	}
	return d, nil
}

// settings reads desk.yaml.
func (d *Desk) settings() error {
	dir := d.Dir
	b, err := disk.ReadFile(d.FS, filepath.Join(dir, SettingsName))
	if errors.Is(err, fs.ErrNotExist) {
		d.isNew = true
		return nil
	}
	if err != nil {
		return err
	}
	if err := yamltext.Unmarshal(b, &d.Settings, yaml.Strict()); err != nil && !errors.Is(err, io.EOF) {
		return fmt.Errorf("%s: %w: %v", filepath.Join(dir, SettingsName), ErrSettings, strings.TrimSpace(yaml.FormatError(err, false, false)))
	}
	for name, x := range d.Settings.Targets {
		x.To, x.Requests = cmp.Or(x.To, x.At), cmp.Or(x.Requests, x.InFlight)
		if x.To == "" {
			return fmt.Errorf("%s: %w: the target %s has no \"to\"", filepath.Join(dir, SettingsName), ErrSettings, name)
		}
		if x.Batch < 0 || x.Requests < 0 || !slices.Contains([]string{"", "json", "multipart", "alone"}, x.Batches) {
			return fmt.Errorf("%s: %w: of the target %s, batch and requests are numbers from 1 on, and batches is json, multipart or alone", filepath.Join(dir, SettingsName), ErrSettings, name)
		}
		if !slices.Contains([]string{"", "rows", "cells"}, x.Deletes) {
			return fmt.Errorf("%s: %w: of the target %s, deletes is rows or cells", filepath.Join(dir, SettingsName), ErrSettings, name)
		}
		x.To = target.In(dir, x.To)
		d.Settings.Targets[name] = x
	}
	for i, l := range d.Settings.Lists {
		if !filepath.IsAbs(l) {
			d.Settings.Lists[i] = filepath.Join(dir, l)
		}
	}
	if err := cmp.Or(d.Settings.Review.check(), d.shared()); err != nil {
		return fmt.Errorf("%s: %w: %v", filepath.Join(dir, SettingsName), ErrSettings, err)
	}
	return nil
}

func (d *Desk) dossiers() string { return filepath.Join(d.Dir, "dossiers") }

// New reports whether the folder is no desk yet; its first dossier makes it
// one.
func (d *Desk) New() bool { return d.isNew }

// settle writes the commented settings of a new desk.
func (d *Desk) settle() error {
	if !d.isNew {
		return nil
	}
	_, err := disk.WriteUnsummed(d.FS, filepath.Join(d.Dir, SettingsName), 0o600, func(w io.Writer) error {
		_, err := io.WriteString(w, firstSettings)
		return err
	})
	d.isNew = err != nil
	return err
}

// Draft is a dossier that is being made: a folder that is none yet.
type Draft struct {
	desk *Desk
	Dir  string
	by   string
	lock *disk.Lock // tells it from one whose process is gone
}

const drafted = ".draft-"

// Draft makes the folder of a new dossier under a name of its own, for
// somebody. Discard or Keep ends it.
func (d *Desk) Draft(by string) (*Draft, error) {
	d.Attempt(by)
	if err := d.FS.MkdirAll(d.Dir); err != nil {
		return nil, err
	}
	if err := d.FS.Mkdir(d.dossiers()); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	for n := os.Getpid(); ; n++ {
		dir := filepath.Join(d.dossiers(), fmt.Sprintf("%s%d", drafted, n))
		lock, err := disk.Acquire(d.FS, dir+lockExt, true)
		if errors.Is(err, disk.ErrLocked) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if err := d.FS.Mkdir(dir); err != nil {
			_ = lock.Unlock() // the first error counts
			if errors.Is(err, fs.ErrExist) {
				continue
			}
			return nil, err
		}
		return &Draft{d, dir, by, lock}, nil
	}
}

// lockExt ends the name of a draft's lock file, which stands beside it.
const lockExt = ".lock"

// sweep removes a draft that a killed command left, or its lock file.
func (d *Desk) sweep(name string) {
	dir := filepath.Join(d.dossiers(), strings.TrimSuffix(name, lockExt))
	lock, err := disk.Acquire(d.FS, dir+lockExt, true)
	if err != nil {
		return // somebody works on it, or nothing can be removed here
	}
	_ = d.FS.RemoveAll(dir)
	_ = lock.Unlock()
}

// Discard removes the draft, and the folder for dossiers where it would be
// the only thing in it.
func (t *Draft) Discard() error {
	err := t.desk.FS.RemoveAll(t.Dir)
	_ = t.lock.Unlock()
	if t.desk.isNew {
		_ = t.desk.FS.Remove(t.desk.dossiers()) // it is kept where it is not empty
	}
	return err
}

// found writes what makes a folder a dossier's.
func (m *Meta) found(fsys disk.FS, dir string) error {
	if err := (&heads{Dossier: m.ID, Chains: map[string]chainHead{}}).write(fsys, filepath.Join(dir, headName)); err != nil {
		return err
	}
	if err := m.write(fsys, dir); err != nil {
		return err
	}
	return fsys.SyncDir(dir)
}

// Keep gives the draft the next number and makes it a dossier, of one record set or of those whose
// parts are given, in the order of m.Sets.
func (t *Draft) Keep(m *Meta, parts ...*Meta) (*Dossier, error) {
	d := t.desk
	lock, err := disk.AcquireSoon(d.FS, filepath.Join(d.dossiers(), ".lock"))
	if err != nil {
		return nil, err
	}
	defer lock.Unlock()
	names, err := d.names()
	if err != nil {
		return nil, err
	}
	next := 1
	for _, n := range slices.Backward(names) {
		if !d.empty(n) {
			next = numberOf(n) + 1
			break
		}
	}
	if next > maxNumber {
		return nil, fmt.Errorf("%s: there is no number after %d; move that dossier elsewhere", d.dossiers(), maxNumber)
	}
	if err := d.settle(); err != nil {
		return nil, err
	}
	m.Number = fmt.Sprintf("%04d", next)
	m.Slug = Slug(m.Title)
	m.Account, m.ID = d.Account.String(), newID()
	for i, p := range parts {
		p.Number, p.Slug = m.Number+PartMark+m.Sets[i].Set, m.Slug
		p.Account, p.ID = m.Account, newID()
		if err := p.found(d.FS, setDir(t.Dir, m.Sets[i].Set)); err != nil {
			return nil, err
		}
		m.Sets[i].Digest = p.Digest
	}
	if err := m.found(d.FS, t.Dir); err != nil {
		return nil, err
	}
	if err := d.note(Entry{Deed: Made, By: m.By, Dossier: m.Number, ID: m.ID}, m.When); err != nil {
		return nil, err
	}
	dir := filepath.Join(d.dossiers(), m.Number+"-"+m.Slug)
	if err := disk.Replace(d.FS, t.Dir, dir); err != nil {
		return nil, err
	}
	t.made()
	return &Dossier{desk: d, Dir: dir, Meta: m}, nil
}

// made ends a draft that has become a dossier.
func (t *Draft) made() {
	_ = t.lock.Unlock()
	t.desk.Named(t.by)
}

// Names are the dossiers' folders, by number: 0007-autumn-round.
func (d *Desk) Names() ([]string, error) { return d.names() }

// names returns the dossiers' folder names by number.
func (d *Desk) names() ([]string, error) {
	entries, err := d.FS.ReadDir(d.dossiers())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range entries {
		if name, ok := strings.CutPrefix(e.Name(), replaced); ok {
			// A crash came between two renames: put the old folder back.
			if _, err := d.FS.Stat(filepath.Join(d.dossiers(), name)); errors.Is(err, fs.ErrNotExist) {
				if err := d.FS.Rename(filepath.Join(d.dossiers(), e.Name()), filepath.Join(d.dossiers(), name)); err != nil {
					return nil, err
				}
				names = append(names, name)
			}
			continue
		}
		if strings.HasPrefix(e.Name(), drafted) {
			d.sweep(e.Name())
		} else if e.IsDir() && dossierName.MatchString(e.Name()) && utf8.ValidString(e.Name()) {
			names = append(names, e.Name())
		}
	}
	slices.SortFunc(names, func(a, b string) int { return numberOf(a) - numberOf(b) })
	return names, nil
}

// maxNumber is the last number that a dossier can have.
const maxNumber = 999_999_999

func numberOf(name string) int {
	digits, _, _ := strings.Cut(name, "-")
	n, err := strconv.Atoi(digits)
	if err != nil {
		return -1
	}
	return n
}

// NotFound says that no dossier has a name.
type NotFound struct {
	Name string
	Have []string // the dossiers there are
	Desk string
}

func (e *NotFound) Error() string { return fmt.Sprintf("no dossier %q in %s", e.Name, e.Desk) }

// Dossier opens a dossier by number, slug or folder name; "-" is the newest
// that the user by made.
func (d *Desk) Dossier(name, by string) (*Dossier, error) {
	if whole, set, ok := strings.Cut(name, PartMark); ok {
		t, err := d.Dossier(whole, by)
		if err != nil {
			return nil, err
		}
		return t.Part(set)
	}
	names, err := d.names()
	if err != nil {
		return nil, err
	}
	if name == "-" {
		return d.newest(names, by)
	}
	var refused error = &NotFound{name, names, d.Dir}
	for _, n := range slices.Backward(names) {
		_, rest, _ := strings.Cut(n, "-")
		if n != name && rest != name && !(isNumber(name) && numberOf(n) == numberOf(name)) {
			continue
		}
		t, err := d.open(n)
		if err != nil || !t.copyOf(names) {
			if err == nil && by != "" {
				d.Named(by)
			}
			return t, err
		}
		refused = &CopyError{n, t.Meta.Number}
	}
	return nil, refused
}

// undoing remembers which dossiers undo which, for as long as the desk has the
// same dossiers: whoever lists many asks for each.
type undoing struct {
	names   []string
	by      map[string][]*Dossier
	folders map[string][]string // which are still to be opened
}

// Undoing lists the dossiers that undo runs of the one with a number, in order.
func (d *Desk) Undoing(number string) ([]*Dossier, error) {
	if d.steady && d.undoing.by != nil {
		for _, folder := range d.undoing.folders[number] {
			for _, t := range d.In(folder, d.undoing.names) {
				if t.undoes() == number {
					d.undoing.by[number] = append(d.undoing.by[number], t)
				}
			}
		}
		delete(d.undoing.folders, number)
		return d.undoing.by[number], nil
	}
	names, err := d.names()
	if err != nil {
		return nil, err
	}
	if d.undoing.by == nil || !slices.Equal(names, d.undoing.names) {
		if _, err := d.Dossiers(); err != nil {
			return nil, err
		}
	}
	return d.undoing.by[number], nil
}

// noteUndoing notes which dossiers undo others, of all that there are.
func (d *Desk) noteUndoing(names []string, all []*Dossier) {
	d.undoing = undoing{names: names, by: map[string][]*Dossier{}}
	for _, t := range all {
		if n := t.undoes(); n != "" {
			d.undoing.by[n] = append(d.undoing.by[n], t)
		}
	}
}

// undoes is the number of the dossier of which this one undoes runs, "" where it undoes none.
func (t *Dossier) undoes() string {
	if t.Damage != nil {
		return ""
	}
	return t.Meta.Undoes.Of()
}

// Of is the number of the dossier of which runs are undone; "" where there is none, or a backup is returned to.
func (u *Undoes) Of() string {
	if u == nil || u.Restore {
		return ""
	}
	return u.Dossier
}

func isNumber(s string) bool {
	return s != "" && strings.Trim(s, "0123456789") == ""
}

// CopyError says that a folder is a copy of a dossier that stands beside it.
type CopyError struct {
	Folder string
	Of     string // the dossier's number
}

func (e *CopyError) Error() string {
	return fmt.Sprintf("dossiers/%s is a copy of dossier %s, which stands beside it", e.Folder, e.Of)
}

// copyOf reports whether the dossier's folder is a copy: it says of itself that
// it has another name, and the folder of that name is there.
func (t *Dossier) copyOf(names []string) bool {
	own := t.Meta.Number + "-" + t.Meta.Slug
	return filepath.Base(t.Dir) != own && slices.Contains(names, own)
}

// Dossiers opens all dossiers by number; of one of several record sets these, each as a dossier. One
// that cannot be opened is given with its error and its folder; Copies then holds those that are copies.
func (d *Desk) Dossiers() ([]*Dossier, error) {
	names, err := d.names()
	if err != nil {
		return nil, err
	}
	all := make([]*Dossier, 0, len(names))
	d.Copies = nil
	for _, n := range names {
		all = append(all, d.In(n, names)...)
	}
	d.noteUndoing(names, all)
	return all, nil
}

// Slug makes a title a folder name: letters and digits of any script, the
// rest one hyphen, at most 40 bytes.
func Slug(title string) string {
	s := strings.Trim(notWord.ReplaceAllString(strings.ToLower(title), "-"), "-")
	for i := range s {
		if i > 40 {
			s = strings.TrimRight(s[:i], "-")
			break
		}
	}
	if s == "" {
		return "update"
	}
	return s
}

// stem is what the file is called that keeps something under a name: its slug, unless Windows keeps that for a device.
func stem(name string) string {
	s := Slug(name)
	if device.MatchString(s) {
		s += "-1"
	}
	return s
}

// device are names that Windows keeps for devices, whatever ending they have: a desk may go there.
var device = regexp.MustCompile(`(?i)^(con|prn|aux|nul|(com|lpt)[0-9¹²³])(\..*)?$`)

var notWord = regexp.MustCompile(`[^\pL\pM\pN]+`)
