// Package target says what a place is where records live and can be
// written. A run works on any Target; the kinds live in packages below, and
// targettest proves that they keep the rules.
//
// A target only does as it is told. Whether a record may be written (the
// three states), what is kept for going back, and what is said about it is
// the run's business.
package target

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
)

// Target is a place with the records of one record set, to be read and written.
// It is used by one goroutine at a time.
type Target interface {
	Reader
	Writer
}

// Reader is a place whose records can be read. What it gives is one state of it,
// whoever writes meanwhile, until Refresh.
type Reader interface {
	// Name says where it is, for people and for finding it again: for a file its
	// absolute path. It holds no password.
	Name() string
	// Traits say what this kind of place can do. They stay what they are.
	Traits() Traits
	// Fields lists the fields it has, in its order.
	Fields() []string
	// Current reads the records with the given keys, in the same order.
	Current(ctx context.Context, keys []record.Key) ([]State, error)
	// Backup writes the whole state in a form from which it can be opened as a
	// table, whose file name ends in Traits.Ext.
	Backup(ctx context.Context, w io.Writer) error
	// Table gives the whole state. The function lets it go.
	Table(ctx context.Context) (*table.Image, func() error, error)
	// Refresh lets the next Current, Backup and Table see what is there then.
	Refresh(ctx context.Context) error
	// Close ends the use and lets go of the lock.
	Close() error
}

// Writer is a place whose records can be written.
type Writer interface {
	// Writable says early why nothing can be written: a file that is read-only,
	// a right that is missing.
	Writable(ctx context.Context) error
	// Check says in words why a step cannot be carried out, as far as that can
	// be known before anything is written; "" where it can. An error means that
	// none of them can.
	Check(ctx context.Context, steps []Step) ([]string, error)
	// Write carries out the steps and returns the result of each. A record
	// that is no longer as the step says it was is left alone. Steps with the
	// same link are carried out all or not at all. An error means that it is
	// not known which steps were carried out, unless it is ErrMoved or an
	// Unwritten: then none was.
	Write(ctx context.Context, steps []Step) ([]Result, error)
}

// Steps are steps that are made when they are asked for, so that nobody holds a million of them.
type Steps interface {
	Len() int
	// At returns step i, which holds until another is asked for. Its Form is not to be relied on.
	At(i int) *Step
	// Form returns the Form of step i.
	Form(i int) Form
}

// List is steps that are there.
type List []Step

func (l List) Len() int        { return len(l) }
func (l List) At(i int) *Step  { return &l[i] }
func (l List) Form(i int) Form { return l[i].Form }

// All returns steps as a list.
func All(steps Steps) []Step {
	if l, ok := steps.(List); ok {
		return l
	}
	all := make([]Step, steps.Len())
	for i := range all {
		all[i] = *steps.At(i)
		all[i].Fields, all[i].Form = slices.Clone(all[i].Fields), steps.Form(i)
	}
	return all
}

// Whole is a Target that takes all steps of a run at once, and holds none of them.
type Whole interface {
	Target
	// CheckAll is Check; no reasons at all mean that every step can be carried out.
	CheckAll(ctx context.Context, steps Steps) ([]string, error)
	// WriteAll is Write; no results at all mean that every step was carried out.
	WriteAll(ctx context.Context, steps Steps) ([]Result, error)
}

// Refiller is a Target that can be read again and again, and gives states in the place of others.
type Refiller interface {
	Target
	// Refill is Current; of the states that were given before, and are needed no more, it takes the room.
	Refill(ctx context.Context, keys []record.Key, room []State) ([]State, error)
	// LetGo gives back the memory in which it keeps where records stand. Who asks for states again pays for finding that out again.
	LetGo()
}

// Summer is a target that knows beforehand what its backup's SHA-256 will be.
type Summer interface {
	// Summing begins to make it, beside whatever is done next.
	Summing()
	// Summed returns it, in hexadecimal digits, of the state that Backup writes; ErrMoved where that was written to meanwhile.
	Summed(ctx context.Context) (string, error)
}

// Traits are what a kind of target can do, as values.
type Traits struct {
	Ext    string // the ending of a backup's file name: ".csv"
	Size   int64  // of a backup in bytes, about; 0 is unknown
	Reread int    // how many of its records are best read at a time, since they can be read again and again and are the same; 0 is all that are asked for
	Batch  int    // how many steps Write takes at once; 0 means all of a run, and that either all or none are written
	// Unread means that records are not looked up: they are taken to be as the
	// steps say they were, and nothing more of them is needed.
	Unread bool
	// KeyChanges means that Write gives a record another key where it stands,
	// and keeps what no step names; else it deletes it and adds another.
	KeyChanges bool
	// Assigns means that a new record whose key is one of schema.NewKey gets one
	// from the target, which its Result says.
	Assigns bool
	Links   int // of a file, how many names it has
	// Narrow means that it is a Narrower.
	Narrow bool
	// Nulls means that it tells null from the empty text.
	Nulls bool
	// System are fields that the target writes itself, as far as it says so.
	System []string
	Notes  []string // what is to be known before it is written, in words
	Owner  string   // of a file, whose it is, where writing it would make it ours; else ""
}

// State is one record as the target has it.
type State struct {
	Count  int           // how many records have the key: 0, 1 or more
	Record record.Record // of the first
	Form   Form
}

// Form is how the target keeps a record, beyond its values, so that it can
// be put back to the letter. Targets other than files leave it empty.
type Form struct {
	Row   string     // the row's bytes without its line end
	After record.Key // the key of the record before; no parts if it is the first
	Gap   string     // what stands between that record's line and the row: blank rows
	End   string     // the row's line end; "" if it ended the file without one
	Lead  string     // the line end before the row, where that one would be the file's last
	Age   int        // of forms kept at different times, the lower is the older
	Kept  bool       // whether the form is given
}

// Step is one record to be written.
type Step struct {
	ID      changeset.ID
	Act     changeset.Act
	Key     record.Key
	Fields  []changeset.Edit // of an amend: the fields to write
	Record  record.Record    // of an add; of a delete as it is now; of an amend with Was as it is to be, in the fields that are known
	Form    Form             // how the record is to look, if it fits its values
	Linked  string           // steps with the same link go together; "" is alone
	Cascade bool             // of a delete: what refers to the record may go, or change, along with it
	Bring   []Dependent      // of an add: what went along with the record when it was deleted, and comes back with it
	Was     record.Key       // of an amend or add that is part of a key change: the key that this record has until then
	Anew    bool             // of a key change: the record may be deleted, and added under its new key, where it cannot be changed
}

// Fate is what became of a step at the target.
type Fate uint8

const (
	Done    Fate = iota // carried out
	Refused             // the target would not take it
	Moved               // the record was no longer as the step says it was; it was left alone
	Unknown             // it cannot be told
	Waiting             // of a Requester whose Request ended with an error: nothing was sent of it
	Asked               // of such a one, too: it was sent, or may have been; Again finds out what became of it
)

// Result is what became of one step. The zero Result is a step carried out.
type Result struct {
	Fate   Fate
	Reason string     // in words
	Key    record.Key // of an add: the key that the target gave the record
	// Before and After are what a Committer read of a step's record in the
	// transaction that wrote it: under the lock, and once it was written. Where a
	// record was or is no more they are nil.
	Before, After record.Record
	Left          []string    // of an amend that was done in part: fields that are as they were, although the target said that it wrote them; Reason says so
	Along         []Dependent // of a delete: what went, or changed, along with it
}

// Dependent are rows of a table that refer to a record, and go or change with it when
// it is deleted. Values are the database's own texts; nil is null.
type Dependent struct {
	Table   string      `json:"table"` // with its schema
	Columns []string    `json:"columns"`
	Rows    [][]*string `json:"rows"`
	// Key are the columns that identify rows which stay, and lose or change their
	// reference; of rows that go there are none.
	Key []string `json:"key,omitempty"`
}

// Together refuses what is linked with a step that was not carried out, so
// that a link is not torn. It changes nothing of the steps' results that are.
func Together(steps []Step, results []Result) {
	torn := map[string]int{}
	for i := range steps {
		if steps[i].Linked != "" && results[i].Fate != Done {
			torn[steps[i].Linked] = i
		}
	}
	for i := range steps {
		by, ok := torn[steps[i].Linked]
		if r := &results[i]; ok && r.Fate == Done {
			*r = results[by]
			r.Reason = fmt.Sprintf("linked with %s, which was not written: %s", steps[by].Key, r.Reason)
		}
	}
}

// Doubted makes unknown what is linked with a step of which it cannot be told
// whether it was carried out: a link has one fate.
func Doubted(steps []Step, results []Result) {
	doubt := map[string]int{}
	for i := range steps {
		if steps[i].Linked != "" && results[i].Fate == Unknown {
			doubt[steps[i].Linked] = i
		}
	}
	for i := range steps {
		if by, ok := doubt[steps[i].Linked]; ok && results[i].Fate == Done {
			results[i].Fate = Unknown
			results[i].Reason = fmt.Sprintf("linked with %s: %s", steps[by].Key, results[by].Reason)
		}
	}
}

// Part is steps of one of several targets.
type Part struct {
	Target Committer
	Steps  []Step
}

// Joint is a Committer that can be written in one transaction with others of its database.
type Joint interface {
	Committer
	// Database names the database; targets with the same can be written together.
	Database() string
	// CommitJoint is Commit for steps of several targets of this database, this one's among them. All have a
	// link, and what has the same, of whatever target, is written together or not at all, in the order of the
	// parts. Results, and what is promised, are in that order.
	CommitJoint(ctx context.Context, parts []Part, promise func(ticket json.RawMessage, results [][]Result) error) ([][]Result, error)
}

// Committer is a Target whose batches are transactions, so that what became of
// one can be asked for even where the answer was lost.
type Committer interface {
	Target
	// Commit does what Write does. Once everything is written and read back, and
	// before it is committed, promise is given what becomes of the steps if it is,
	// and a ticket by which Fate finds out whether it was; it has to be kept before
	// promise returns, and its error ends the batch with nothing written. promise is
	// called again where a batch had to be done anew: the last ticket counts. It is
	// not called where there is nothing to commit: what was promised before is void where
	// nothing was done.
	Commit(ctx context.Context, steps []Step, promise func(ticket json.RawMessage, results []Result) error) ([]Result, error)
	// Fate finds out what became of a ticket's transaction: Done, Refused where it
	// is not committed and never will be, or Unknown, with the reason in words.
	Fate(ctx context.Context, ticket json.RawMessage) (Fate, string, error)
	// Prepare makes in the target what its batches need beside the records, of which
	// its Traits' notes say that it will be made.
	Prepare(ctx context.Context) error
	// Settled says that every outcome is kept, so that none of a run's tickets is asked
	// for again.
	Settled(ctx context.Context, tickets []json.RawMessage) error
}

// Divided is a Committer whose records may stand in several places, so that no batch is of two.
type Divided interface {
	Committer
	// Divide says by numbers in which of them the records with some keys are, or would be; nil is all in one.
	Divide(ctx context.Context, keys []record.Key) ([]int, error)
}

// Requester is a Target whose steps are requests, of each of which the answer may be lost.
type Requester interface {
	Target
	// Request does what Write does, and reads each record before and after, as Results of Committers have it. keep is given what Again
	// needs to find out what became of the steps, before the first of it is sent and whenever it becomes another;
	// it has to be kept before keep returns, and its error ends the use. Where Request returns an error, the results are there none the
	// less: steps that have none are Waiting or Asked.
	Request(ctx context.Context, steps []Step, keep func(ticket json.RawMessage) error) ([]Result, error)
	// Again finds out what became of steps of a batch that was interrupted, by the tickets that were kept of it, in their order, and carries
	// those out that were not.
	Again(ctx context.Context, steps []Step, tickets []json.RawMessage, keep func(ticket json.RawMessage) error) ([]Result, error)
	// Waited says how often, and how long in all, it had to wait since it was busy.
	Waited() (times int, in time.Duration)
}

// Narrower is a Target that can be asked for some of its records alone, in a time that
// does not grow with the others.
type Narrower interface {
	Target
	// Only has Current, Backup and Table look at the records with some keys alone, from
	// the next look on; nil is all. Current of another key is an error.
	Only(keys []record.Key) error
}

// Definer is a Target whose backups hold records alone.
type Definer interface {
	// Definition is what makes anew what they stand in, as SQL, and what of it cannot be
	// brought back so, in words.
	Definition(ctx context.Context) (sql []byte, lacking []string, err error)
}

// Loader is a Target that cannot be written directly: it makes files that
// somebody loads into it, so that what became of a step is known only later.
// Its Write refuses nothing: Check did.
type Loader interface {
	Target
	// Run says under which run's number the files are to be kept.
	Run(n int)
	// Loads lists the files that Write made, in the order in which they are to
	// be loaded, those that undo it after the others.
	Loads() []Load
	// Beside lists what Write made besides: how to load the files, and what no
	// file can undo.
	Beside() []Load
	// From is what the export is called that says what the system has.
	From() string
	// Kept names a file that holds the state as Backup would write it, with its
	// SHA-256, where there is one that stays; else it is "".
	Kept() (file, sha256 string)
}

// Load is a load file.
type Load struct {
	Name    string   `json:"name"` // in the hand-off's folder, with slashes
	Acts    string   `json:"acts"` // "amend", "add", "delete", or several with commas between
	Fields  []string `json:"fields,omitempty"`
	Records int      `json:"records"`
	SHA256  string   `json:"sha256"`
}

// Folders of a hand-off.
const (
	Forward = "forward" // what carries the changes out
	Back    = "back"    // what undoes it
)

// Forward reports whether the file carries changes out, and does not undo them.
func (l *Load) Forward() bool { return strings.HasPrefix(l.Name, Forward+"/") }

// ErrMoved says that the target changed after it was read, and that nothing
// was written.
var ErrMoved = errors.New("the target changed after it was read")

// Unwritten is an error of Write after which it is known that nothing was
// written.
type Unwritten struct{ Err error }

func (e *Unwritten) Error() string { return e.Err.Error() }
func (e *Unwritten) Unwrap() error { return e.Err }

// MissingColumn says that a target lacks a column that is needed.
type MissingColumn struct{ Target, Column string }

func (e *MissingColumn) Error() string { return fmt.Sprintf("%s has no column %q", e.Target, e.Column) }

// BusyError says that a target cannot be used just now, and why.
type BusyError struct {
	Name string
	Why  string
}

func (e *BusyError) Error() string { return fmt.Sprintf("%s: %s", e.Name, e.Why) }
