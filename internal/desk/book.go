package desk

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/forms"
	"paletwin/internal/disk"
)

// The desk's book has a line for each dossier that is made, with its id, and one for whoever works on the desk, once an hour. A dossier
// that was exchanged for another is told by it, and two machines that write in copies of one folder. It may be lost: then nothing of the
// sort is told.

const bookName = "book.jsonl"

// BookName is the book's name from the desk's folder.
const BookName = "dossiers/" + bookName

// Deed is what a line of the book is about.
type Deed string

const (
	Made     Deed = "made"     // a dossier
	Accepted Deed = "accepted" // a dossier in the place of another
	Worked   Deed = "worked"   // on the desk
	Moved    Deed = "moved"    // to this machine, from the others so far
)

// Entry is a line of the book.
type Entry struct {
	Form    string    `json:"paletwin"`
	Version int       `json:"version"`
	Deed    Deed      `json:"deed"`
	When    time.Time `json:"when"`
	By      string    `json:"by"`
	Account string    `json:"account,omitempty"` // as account.Account has it
	Host    string    `json:"host,omitempty"`    // what the machine is called
	System  string    `json:"system,omitempty"`  // what its system calls it, as account.Account has it
	Dossier string    `json:"dossier,omitempty"` // its number
	ID      string    `json:"id,omitempty"`      // and its id
	Said    []string  `json:"said,omitempty"`    // notes that were said, and are not said again to this account
	Digest  string    `json:"digest"`            // SHA-256 of this line with digest empty
}

// aDay is for how long another machine's line counts, anHour how often one is written for who works on.
const (
	aDay   = 24 * time.Hour
	anHour = time.Hour
)

func (d *Desk) bookFile() string { return filepath.Join(d.dossiers(), bookName) }

func (e *Entry) digest() (string, error) {
	c := *e
	c.Digest = ""
	b, err := json.Marshal(&c)
	return changeset.Checksum(b), err
}

// book reads the lines that are whole and as they were written. size is where the next one goes, bad how many are not.
func (d *Desk) book() (all []Entry, size int64, bad int, err error) {
	b, err := disk.ReadFile(d.FS, d.bookFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, 0, nil
	}
	if err != nil {
		return nil, 0, 0, err
	}
	b = b[:bytes.LastIndexByte(b, '\n')+1]
	for line := range bytes.Lines(b) {
		var e Entry
		if err := json.Unmarshal(line, &e); err != nil {
			bad++
			continue
		}
		if err := forms.Book.Check(e.Version); err != nil && e.Form == forms.Book.Name {
			return nil, 0, 0, &DamageError{d.bookFile(), err}
		}
		if sum, err := e.digest(); err != nil || e.Form != forms.Book.Name || sum != e.Digest {
			bad++
			continue
		}
		all = append(all, e)
	}
	return all, int64(len(b)), bad, nil
}

// note appends a line to the book, where anything is written at all. The caller holds the lock of the dossiers' folder.
func (d *Desk) note(e Entry, now time.Time) error {
	if d.way.Dry {
		return nil
	}
	_, size, _, err := d.book()
	if err != nil {
		return err
	}
	e.Form, e.Version, e.When = forms.Book.Name, forms.Book.Version, now.UTC()
	e.By, e.Account, e.Host, e.System = cmp.Or(e.By, d.Account.Name), d.Account.String(), d.Account.Host, d.Account.System
	e.Said, d.unsaid = slices.Concat(e.Said, d.unsaid), nil
	if e.Digest, err = e.digest(); err != nil {
		return err
	}
	b, err := json.Marshal(&e)
	if err != nil {
		return err
	}
	return disk.Append(d.FS, d.bookFile(), size, append(b, '\n'))
}

// noteNow is note under the lock.
func (d *Desk) noteNow(e Entry, now time.Time) error {
	lock, err := disk.AcquireSoon(d.FS, filepath.Join(d.dossiers(), ".lock"))
	if err != nil {
		return err
	}
	defer lock.Unlock()
	return d.note(e, now)
}

// newID is the id of a new dossier.
func newID() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails
	return hex.EncodeToString(b[:])
}

// ExchangedError says that a dossier is not the one that was made under its number.
type ExchangedError struct {
	Number string
	Title  string
	Made   Entry // the line of the one that was
}

func (e *ExchangedError) Error() string {
	return fmt.Sprintf("dossier %s, %s, is not the one that %s made here under this number on %s", e.Number, e.Title, e.Made.By, e.Made.When.Local().Format("2 January 2006 at 15:04"))
}

// Recognise holds a dossier against the book: *ExchangedError if another was made under its number. accept takes it in the other's place.
func (t *Dossier) Recognise(accept bool, now time.Time) error {
	d, w := t.desk, t.Whole()
	all, _, _, err := d.book()
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(all) {
		switch {
		case e.Dossier != w.Meta.Number || e.ID == "":
			continue
		case e.ID == w.Meta.ID:
			return nil
		case accept:
			return d.noteNow(Entry{Deed: Accepted, Dossier: w.Meta.Number, ID: w.Meta.ID}, now)
		}
		return &ExchangedError{w.Meta.Number, w.Meta.Title, e}
	}
	return nil
}

// MachineError says that another machine wrote on the desk not long ago, which is in a folder that this one cannot lock against it.
type MachineError struct{ Last Entry }

func (e *MachineError) Error() string {
	host := "another machine"
	if e.Last.Host != "" {
		host += ", " + e.Last.Host + ","
	}
	return fmt.Sprintf("%s worked on this desk on %s on %s at %s", e.Last.By, host, e.Last.When.Local().Format("2 January 2006"), e.Last.When.Local().Format("15:04"))
}

// passing are names of containers, which are machines for as long as a command runs in them, on a folder of their host's.
var passing = regexp.MustCompile(`^[0-9a-f]{12}$`)

// elsewhere reports whether a line was written on another machine than this one: the ids of accounts of one number differ only there, or
// where one has another home for a while; and of others the machines' names tell.
func (d *Desk) elsewhere(e *Entry) bool {
	if e.Account == "" || e.Account == d.Account.String() || e.Host == d.Account.Host && e.System != "" && e.System == d.Account.System {
		return false
	}
	if passing.MatchString(e.Host) || passing.MatchString(d.Account.Host) {
		return false
	}
	id, _, _ := strings.Cut(e.Account, "@")
	return id == d.Account.ID || e.Host != d.Account.Host
}

// Way is how work on a desk is begun.
type Way struct {
	Moved bool // another machine worked on it, and that is meant
	Dry   bool // everything is as if it were written, and nothing is
	Quiet bool // nobody is there to be told anything
}

// Enter begins work that writes on a desk: it says what there is to be said of it (each note once to an account), and refuses where
// another machine wrote on it within a day: *MachineError.
func (d *Desk) Enter(way Way, now time.Time) (notes []string, err error) {
	d.way = way
	all, _, _, err := d.book()
	if err != nil {
		return nil, err
	}
	mine, seen := d.read(all, now)
	synced := syncedFolder(d.Dir)
	say := func(code, text string) {
		if way.Quiet || slices.Contains(mine.said, code) {
			return
		}
		notes = append(notes, text)
		d.unsaid = append(d.unsaid, code)
	}
	if d.foreign != "" {
		say("owners", fmt.Sprintf("%s is %s: whose files are there does not say who could have written them, and is not looked at", d.Dir, d.foreign))
	}
	if synced != "" {
		say("synced", fmt.Sprintf("%s is kept alike with other machines (%s): work on it from one machine at a time, and let it catch up before", d.Dir, synced))
	}
	if _, err := d.FS.Stat(d.dossiers()); d.isNew || err != nil {
		return notes, nil // there is no book yet
	}
	opened, err := d.openUp()
	if err != nil {
		return notes, err
	}
	if opened > 0 {
		notes = append(notes, fmt.Sprintf("the desk is shared with the group %s: %d files and folders of yours on it are the group's now", d.Settings.Shared, opened))
	}
	switch {
	case seen != nil && !way.Moved:
		return notes, &MachineError{*seen}
	case seen != nil:
		return notes, d.noteNow(Entry{Deed: Moved}, now)
	case len(d.unsaid) > 0 || now.Sub(mine.last) > anHour || now.Before(mine.last.Add(-anHour)):
		return notes, d.noteNow(Entry{Deed: Worked}, now)
	}
	return notes, nil
}

// page is what the book says of an account: its last line, and what was said to it.
type page struct {
	last time.Time
	said []string
}

// read gives what the book says of this account, and the last line of another machine within a day, since this account last moved.
func (d *Desk) read(all []Entry, now time.Time) (mine page, other *Entry) {
	for i := range all {
		e := &all[i]
		switch {
		case e.Account != "" && e.Account == d.Account.String():
			mine.last, mine.said = e.When, append(mine.said, e.Said...)
			if e.Deed == Moved {
				other = nil
			}
		case d.elsewhere(e) && now.Sub(e.When) < aDay:
			other = e
		}
	}
	if d.foreign != "" || d.Account.ID == "" { // locks hold across the machines of a network mount
		other = nil
	}
	return mine, other
}

// openUp gives what this user has on a shared desk to its group.
func (d *Desk) openUp() (int, error) {
	f, is := d.FS.(*disk.Fence)
	if !is || !f.To.Group || d.way.Dry {
		return 0, nil
	}
	return f.OpenUp()
}

// CheckBook says how many lines of the book are not as they were written.
func (d *Desk) CheckBook() (bad int, err error) {
	_, _, bad, err = d.book()
	return bad, err
}
