package desk

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/forms"
	"paletwin/core/layout"
	"paletwin/core/slip"
	"paletwin/core/table"
	"paletwin/core/table/open"
	"paletwin/internal/disk"
)

// Meta is dossier.json.
type Meta struct {
	Form       string      `json:"paletwin"`
	Version    int         `json:"version"`
	Number     string      `json:"number"`
	Slug       string      `json:"slug"`
	Title      string      `json:"title"`
	By         string      `json:"by"`
	Account    string      `json:"account,omitempty"` // of who made it, as account.Account has it
	ID         string      `json:"id,omitempty"`      // random, hexadecimal: which dossier it is, wherever it stands
	When       time.Time   `json:"when"`
	Tool       string      `json:"tool"` // the version of paletwin that made it
	RecordSets []RecordSet `json:"record_sets"`
	Snapshot   *Input      `json:"snapshot"`
	Edited     Copies      `json:"edited,omitempty"` // one, or several by their digests
	DeleteList *Input      `json:"delete_list,omitempty"`
	Options    *Options    `json:"options"`
	Findings   string      `json:"findings_sha256"`
	// Files are the digests of the copies of the layout and its lists, and of the
	// change sets that this one took the place of, by name.
	Files  map[string]string `json:"files,omitempty"`
	Undoes *Undoes           `json:"undoes,omitempty"`
	// CatchesUp is the number of the dossier whose changes were laid on newer records, its own
	// or an earlier one's.
	CatchesUp string `json:"catches_up,omitempty"`
	Round     int    `json:"round,omitempty"` // how often it was compared anew
	// Of a dossier of several record sets: these, those that are referred to first, and how they
	// refer to each other. Each has a dossier of its own below it; then RecordSets is empty.
	Sets       []Member    `json:"sets,omitempty"`
	References []Reference `json:"references,omitempty"`
	Joined     string      `json:"joined,omitempty"` // the name of the layout of the sheet that they stand in
	Digest     string      `json:"digest"`           // SHA-256 of this file with digest empty
}

// Options are what a comparison, a derivation or a rollback was told, as a dossier
// keeps it. The members are in the order of their names, as they always were.
type Options struct {
	Allow         []string `json:"allow,omitempty"` // acts; none are all
	Blank         string   `json:"blank,omitempty"`
	DayOrder      string   `json:"day_order,omitempty"`
	Derive        any      `json:"derive,omitempty"` // how an edited state was derived
	Fields        []string `json:"fields,omitempty"` // of a rollback: only these
	Missing       string   `json:"missing,omitempty"`
	OtherRegister bool     `json:"other_register,omitempty"`
	Records       []string `json:"records,omitempty"` // of a rollback: only these
	Run           int      `json:"run,omitempty"`     // of a rollback: only this one
	SavedIn       string   `json:"saved_in,omitempty"`
	Slips         string   `json:"slips,omitempty"` // where they are not held
	System        []string `json:"system_fields,omitempty"`
	Wear          string   `json:"wear,omitempty"` // "off", where it was not told
}

// RecordSet is one record set of a dossier and what comparing it found.
type RecordSet struct {
	Name    string                 `json:"name"`
	Key     []string               `json:"key"`
	Seal    string                 `json:"seal"`
	Records compare.Records        `json:"records"`
	Copies  []compare.CopyFound    `json:"copies,omitempty"` // what each of several copies has by itself
	Changes changeset.Tally        `json:"changes"`
	Fields  []changeset.FieldCount `json:"fields"`
	Totals  []compare.Total        `json:"totals"`
	// DeletesHeld says why deletes are held although they were asked for.
	DeletesHeld string `json:"deletes_held,omitempty"`
	// Sample stands for the snapshot where other dossiers are compared with it.
	Sample *slip.Sample `json:"sample,omitempty"`
}

// Input is a file that the dossier keeps as it came.
type Input struct {
	File    string        `json:"file"` // its name in the dossier
	Name    string        `json:"name"` // what it was called
	Path    string        `json:"path"` // where it was, absolute, with slashes; "" for standard input
	SHA256  string        `json:"sha256"`
	Size    int64         `json:"size"`
	Records int           `json:"records"`
	Found   table.Found   `json:"found"`
	Options table.Options `json:"options,omitzero"` // how it was said to be
	// Of a table that was compared where it is: when, and how many of its records are not in the file, since
	// the other table has them byte for byte alike.
	At    *time.Time `json:"at,omitempty"`
	Alike int        `json:"alike,omitempty"`
}

// Partial reports whether the file holds only the records that differ.
func (in *Input) Partial() bool { return in != nil && in.At != nil }

// Copies are the edited copies that a dossier was made from. Of one there is an object in JSON,
// as there always was, of several a list.
type Copies []*Input

func (c Copies) MarshalJSON() ([]byte, error) {
	if len(c) == 1 {
		return json.Marshal(c[0])
	}
	return json.Marshal([]*Input(c))
}

func (c *Copies) UnmarshalJSON(b []byte) error {
	if len(b) > 0 && b[0] == '{' {
		*c = Copies{new(Input)}
		return json.Unmarshal(b, (*c)[0])
	}
	return json.Unmarshal(b, (*[]*Input)(c))
}

// Names are what the copies were called.
func (c Copies) Names() []string {
	var all []string
	for _, in := range c {
		all = append(all, in.Name)
	}
	return all
}

// Undoes says which runs a dossier undoes, or to which backup it returns.
type Undoes struct {
	Dossier string `json:"dossier"`
	Runs    []int  `json:"runs"`
	Restore bool   `json:"restore,omitempty"`
}

// DamageError says that a file of a dossier is not what was written.
type DamageError struct {
	File string
	Err  error
}

func (e *DamageError) Error() string { return e.File + ": " + e.Err.Error() }
func (e *DamageError) Unwrap() error { return e.Err }

// ErrAltered says that a file's bytes are not those that were written.
var ErrAltered = errors.New("the file was altered: its digest does not fit")

func (m *Meta) digest() (string, error) {
	c := *m
	c.Digest = ""
	b, err := json.Marshal(&c)
	return changeset.Checksum(b), err
}

func (m *Meta) write(fsys disk.FS, dir string) (err error) {
	m.Form, m.Version = forms.Dossier.Name, 5 // from 5 on dossiers have ids
	if m.Snapshot.Partial() {
		m.Version = forms.Dossier.Version
	}
	if m.Digest, err = m.digest(); err != nil {
		return err
	}
	b, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	return disk.WriteBytes(fsys, filepath.Join(dir, "dossier.json"), append(b, '\n'))
}

// Dossier is the folder of one bulk update.
type Dossier struct {
	desk   *Desk
	Dir    string // absolute
	Meta   *Meta
	Damage error // why it could not be opened; Meta is then nil

	layout     *layout.Layout
	layoutRead bool
	whole      *Dossier   // of a record set of several, the dossier that it is a part of
	held       *disk.Lock // its lock, once it was taken
}

func (d *Desk) open(name string) (*Dossier, error) {
	t := &Dossier{desk: d, Dir: filepath.Join(d.dossiers(), name)}
	file := filepath.Join(t.Dir, "dossier.json")
	b, err := disk.ReadFile(d.FS, file)
	if err != nil {
		return nil, err
	}
	m := new(Meta)
	if err := json.Unmarshal(b, m); err != nil || m.Form != forms.Dossier.Name {
		return nil, &DamageError{file, errors.New("the file is not a dossier's description, or is cut short")}
	}
	if err := forms.Dossier.Check(m.Version); err != nil {
		return nil, &DamageError{file, err}
	}
	if want, err := m.digest(); err != nil || want != m.Digest {
		return nil, &DamageError{file, ErrAltered}
	}
	if err := m.believe(name); err != nil && !(errors.Is(err, errElsewhere) && d.copied(m)) {
		return nil, &DamageError{file, err}
	}
	t.Meta = m
	return t, nil
}

// FS returns the file system that the dossier is on.
func (t *Dossier) FS() disk.FS { return t.desk.FS }

// Desk returns the dossier's desk.
func (t *Dossier) Desk() *Desk { return t.desk }

// Path returns the name of a file in the dossier.
func (t *Dossier) Path(elem ...string) string {
	return filepath.Join(append([]string{t.Dir}, elem...)...)
}

// Rel returns a file's name as a person at the desk would type it.
func (t *Dossier) Rel(name string) string {
	if r, err := filepath.Rel(t.desk.Dir, name); err == nil {
		return r
	}
	return name
}

// Lock takes the dossier's lock, and clears what killed commands left.
func (t *Dossier) Lock() (*disk.Lock, error) {
	lock, err := disk.Acquire(t.desk.FS, t.Path(".lock"), false)
	if err != nil {
		return nil, err
	}
	runs, _ := t.desk.FS.ReadDir(t.Path("runs")) // there need not be any
	dirs := []string{t.Dir, t.Path("load")}
	for _, r := range runs {
		dirs = append(dirs, t.Path("runs", r.Name()))
	}
	for _, dir := range dirs {
		disk.Sweep(t.desk.FS, dir)
	}
	t.held = lock
	return lock, nil
}

// Set returns the dossier's first record set.
func (t *Dossier) Set() *RecordSet { return &t.Meta.RecordSets[0] }

// Tells reports whether everything that the dossier was made from tells null from the
// empty text.
func (t *Dossier) Tells() bool {
	m := t.Meta
	return m.Snapshot != nil && m.Snapshot.Found.Nulls && !slices.ContainsFunc(m.Edited, func(in *Input) bool { return !in.Found.Nulls })
}

// ChangesName returns the name of the file of a record set's change set.
func ChangesName(set string) string { return "changes." + Slug(set) + ".jsonl" }

// Changes is a change set with its decisions, open for reading.
type Changes struct {
	*changeset.Reader
	Ledger *changeset.Ledger
	m      *disk.Mapping
	file   string
}

// CopyNames are the names of the copies that the changes come from, where there are several: those
// of the heading, or, of changes that were laid on newer records, those that they name.
func (c *Changes) CopyNames() ([]string, error) {
	var all []string
	if len(c.Header.Edited) > 1 {
		for _, s := range c.Header.Edited {
			all = append(all, s.Name)
		}
		return all, nil
	}
	for line := range c.Lines() {
		if !line.OfCopies() {
			continue
		}
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return nil, err
		}
		for _, name := range ch.Sources() {
			if !slices.Contains(all, name) {
				all = append(all, name)
			}
		}
	}
	return all, nil
}

// check compares the change set's bytes with its seal.
func (c *Changes) check() error {
	if err := c.CheckSeal(); err != nil {
		return &DamageError{c.file, err}
	}
	return nil
}

// Close lets the file go.
func (c *Changes) Close() error { return c.m.Close() }

// Changes opens the change set of the dossier's record set and the decisions
// on it; seal, digest and chain are checked.
func (t *Dossier) Changes() (*Changes, error) {
	c, err := t.changesUnchecked()
	if err != nil {
		return nil, err
	}
	if err := c.check(); err != nil {
		_ = c.Close() // the first error counts
		return nil, err
	}
	return c, nil
}

// changesUnchecked is Changes without the check of the seal's bytes, which
// check makes up for.
func (t *Dossier) changesUnchecked() (*Changes, error) {
	file := t.Path(ChangesName(t.Set().Name))
	m, err := t.desk.FS.Map(file)
	if err != nil {
		return nil, &DamageError{file, err}
	}
	r, err := changeset.ParseUnchecked(m.Data)
	if err == nil && (r.Seal.Seal != t.Set().Seal || r.Seal.Counts != t.Set().Changes.Counts) {
		err = changeset.ErrSeal
	}
	if err != nil {
		_ = m.Close() // the first error counts
		return nil, &DamageError{file, err}
	}
	c := &Changes{Reader: r, m: m, file: file}
	if c.Ledger, err = t.ledger(); err != nil {
		_ = m.Close() // the first error counts
		return nil, err
	}
	return c, nil
}

const decisionsName = "decisions.jsonl"

func (t *Dossier) ledger() (*changeset.Ledger, error) {
	var l *changeset.Ledger
	open := func(lines []byte, last string) (err error) {
		if l, err = changeset.OpenLedger(lines, t.Set().Name, last); err != nil {
			return &DamageError{t.Path(decisionsName), err}
		}
		return nil
	}
	err := t.withChain(decisionsName, open)
	if errors.Is(err, fs.ErrNotExist) && !errors.As(err, new(*DamageError)) {
		err = open(nil, "")
	}
	if err == nil && slices.ContainsFunc(l.Acts(), func(a changeset.DecisionAct) bool { return a.Dossier != "" && a.Dossier != t.Meta.ID }) {
		err = &DamageError{t.Path(decisionsName), errAnothers}
	}
	return l, err
}

// append writes an act behind those of the ledger, and takes it in if more
// are to follow.
func (t *Dossier) append(l *changeset.Ledger, a *changeset.DecisionAct, more bool) error {
	line := a.AppendLine(nil, l.Last())
	sum, err := t.AppendTo(decisionsName, int64(l.Size()), line)
	if err != nil {
		return err
	}
	if more {
		l.Take(a, len(line), sum)
	}
	return nil
}

// Findings reads the dossier's findings.
func (t *Dossier) Findings() ([]changeset.Finding, error) {
	file := t.Path("findings.jsonl")
	b, err := disk.ReadFile(t.desk.FS, file)
	if err != nil {
		return nil, &DamageError{file, err}
	}
	if sum := sha256.Sum256(b); hex.EncodeToString(sum[:]) != t.Meta.Findings {
		return nil, &DamageError{file, ErrAltered}
	}
	var all []changeset.Finding
	for line := range bytes.Lines(b) {
		var f changeset.Finding
		if err := json.Unmarshal(line, &f); err != nil {
			return nil, &DamageError{file, err}
		}
		all = append(all, f)
	}
	return all, nil
}

// WriteFindings writes findings.jsonl into a folder and returns its digest.
func WriteFindings(fsys disk.FS, dir string, all []changeset.Finding) (string, error) {
	w, err := disk.WriteFile(fsys, filepath.Join(dir, "findings.jsonl"), 0o600, func(w io.Writer) error {
		e := json.NewEncoder(w)
		e.SetEscapeHTML(false)
		for _, f := range all {
			if err := e.Encode(f); err != nil {
				return err
			}
		}
		return nil
	})
	return w.SHA256, err
}

// Table is an input or a backup, open for reading.
type Table struct {
	*table.Image
	m *disk.Mapping
}

// SHA256 returns the digest of the file's bytes, hexadecimal.
func (t *Table) SHA256() (string, error) {
	var sum [sha256.Size]byte
	err := table.Guard(func() error { sum = sha256.Sum256(t.m.Data); return nil })
	return hex.EncodeToString(sum[:]), err
}

// Unchanged reports whether the file is still what was opened, as far as its
// identity, size and time tell.
func (t *Table) Unchanged(fsys disk.FS, file string) bool {
	if t.m == nil {
		return true // it was made of one that is asked for itself
	}
	now, err := fsys.Stat(file)
	return err == nil && disk.Same(now, t.m.Info)
}

// Bytes returns the file's bytes, for as long as it is open. They are read
// within a table.Guard.
func (t *Table) Bytes() []byte { return t.m.Data }

// Close lets the file go.
func (t *Table) Close() error {
	if t == nil || t.m == nil {
		return nil
	}
	return t.m.Close()
}

// OpenTable opens a file as a table; shown is its name in messages.
func OpenTable(fsys disk.FS, file, shown string, o table.Options) (*Table, error) {
	m, err := fsys.Map(file)
	if err != nil {
		return nil, err
	}
	var img *table.Image
	err = table.Guard(func() (err error) {
		img, err = open.Open(shown, m.Data, o)
		return err
	})
	if err != nil {
		_ = m.Close() // the first error counts
		return nil, err
	}
	return &Table{img, m}, nil
}

// openBytes opens a table that is in memory.
func openBytes(shown string, data []byte, o table.Options) (*table.Image, error) {
	return open.Open(shown, data, o)
}

// OpenInput opens one of the dossier's inputs and checks its digest.
func (t *Dossier) OpenInput(in *Input) (*Table, error) {
	o := in.Options
	o.Known = in.Found
	k, err := t.openTable(t.Path(in.File), in.Name, o, in == t.Meta.Snapshot)
	if err != nil {
		return nil, err
	}
	if sum, err := k.SHA256(); err != nil || sum != in.SHA256 {
		_ = k.Close() // only read
		if err == nil {
			err = &DamageError{t.Path(in.File), ErrAltered}
		}
		return nil, err
	}
	return k, nil
}

// InputSource is one of the dossier's inputs as a source.
func (t *Dossier) InputSource(in *Input) *Source {
	s := &Source{Path: t.Path(in.File), Name: in.Name, Options: in.Options}
	s.Options.Known, s.Options.Password = in.Found, t.desk.Password
	return s
}

// OpenTable opens a file as a table, as OpenTable does, with the desk's
// password where it needs one.
func (t *Dossier) OpenTable(file, shown string, o table.Options) (*Table, error) {
	return t.openTable(file, shown, o, false)
}

func (t *Dossier) openTable(file, shown string, o table.Options, snapshot bool) (*Table, error) {
	if !snapshot && t.whole != nil && t.whole.Meta.Joined != "" && filepath.Dir(file) == t.whole.Dir {
		return t.whole.splitAgain(t.Set().Name)
	}
	l, err := t.Layout()
	if err != nil {
		return nil, err
	}
	o = Reading(l, o, snapshot)
	o.Password = t.desk.Password
	return OpenTable(t.desk.FS, file, shown, o)
}

// CheckInput compares an input's bytes with its digest.
func (t *Dossier) CheckInput(in *Input) error {
	sum, err := disk.Sum(t.desk.FS, t.Path(in.File))
	if err == nil && sum != in.SHA256 {
		err = ErrAltered
	}
	if err != nil {
		return &DamageError{t.Path(in.File), err}
	}
	return nil
}

// Inputs lists the inputs there are.
func (t *Dossier) Inputs() []*Input {
	return t.Meta.inputs()
}

// Replace puts a draft in the dossier's place: its number, slug, title and
// decisions stay, and the old change set stays beside the new one under a
// numbered name. The folder changes as a whole; what a crash leaves between
// the two renames is put right by the next command. The caller holds the
// dossier's lock.
func (t *Dossier) Replace(draft *Draft, m *Meta) error {
	fsys := t.desk.FS
	old := t.Meta
	m.Number, m.Slug, m.Title, m.Round = old.Number, old.Slug, old.Title, old.Round+1
	m.Account, m.ID = t.desk.Account.String(), old.ID
	name := ChangesName(old.RecordSets[0].Name)
	stem := strings.TrimSuffix(name, "jsonl")
	entries, err := fsys.ReadDir(t.Dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		to := e.Name()
		switch {
		case to == name:
			to = fmt.Sprintf("%s%d.jsonl", stem, m.Round)
		case to != decisionsName && to != headName && !strings.HasPrefix(to, stem):
			continue
		}
		if err := disk.Copy(fsys, t.Path(e.Name()), filepath.Join(draft.Dir, to)); err != nil {
			return err
		}
		if strings.HasPrefix(to, stem) && strings.HasSuffix(to, ".jsonl") {
			if m.Files == nil {
				m.Files = map[string]string{}
			}
			if m.Files[to], err = disk.Sum(fsys, filepath.Join(draft.Dir, to)); err != nil {
				return err
			}
		}
	}
	if !t.Covered() {
		if err := t.coverNow(draft.Dir); err != nil {
			return err
		}
	}
	if err := m.write(fsys, draft.Dir); err != nil {
		return err
	}
	if err := fsys.SyncDir(draft.Dir); err != nil {
		return err
	}
	aside, err := t.setAside()
	if err != nil {
		return err
	}
	if err := disk.Replace(fsys, draft.Dir, t.Dir); err != nil {
		return err
	}
	draft.made()
	t.Meta = m
	t.desk.undoing = undoing{}
	return fsys.RemoveAll(aside)
}

// setAside gives the dossier's folder the name of one that is replaced. Where it cannot have another name while its lock is held, it is
// looked at that nobody wrote in it in between.
func (t *Dossier) setAside() (aside string, err error) {
	fsys := t.desk.FS
	aside = filepath.Join(filepath.Dir(t.Dir), replaced+filepath.Base(t.Dir))
	before, err := markOf(fsys, t.Dir)
	if err != nil {
		return "", err
	}
	free := t.held.LetGo()
	if err := fsys.Rename(t.Dir, aside); err != nil || !free {
		return aside, err
	}
	if after, err := markOf(fsys, aside); err == nil && after == before {
		return aside, nil
	}
	return "", errors.Join(fmt.Errorf("%s: %w", t.Path(".lock"), disk.ErrLocked), fsys.Rename(aside, t.Dir))
}

// coverNow writes the heads of a dossier of before there were any into a draft
// that takes its place.
func (t *Dossier) coverNow(dir string) error {
	h, _, err := t.heads()
	if err != nil {
		return err
	}
	switch data, err := t.ReadChain(decisionsName); {
	case err == nil && len(data) > 0:
		h.Chains[decisionsName] = chainHead{Size: int64(len(data)), First: LineDigest(firstLine(data)), Last: LineDigest(lastLine(data))}
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	file := filepath.Join(dir, headName)
	if err := t.desk.FS.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return h.write(t.desk.FS, file)
}

// replaced starts the name of a dossier's folder while a new one takes its
// place.
const replaced = ".replaced-"
