// Package forms knows which versions of its own file forms this program reads and writes. docs/formats.md says what each form is; every
// version that was ever written stays readable.
package forms

import "fmt"

// Form is one of the program's own file forms.
type Form struct {
	Name    string `json:"name"`    // as files say it: "paletwin":"journal"
	Version int    `json:"version"` // the highest that is read, and written where what is written needs it
}

// The forms of what stands on a desk.
var (
	Dossier   = Form{"dossier", 6} // 6 where the files hold but the records that differ; else 5
	Head      = Form{"head", 1}
	ChangeSet = Form{"change-set", 2}
	Decision  = Form{"decision", 2}
	// Journal is the form of runs. From 3 on each line holds the digest of the line before, and the proofs that were made are in it; 4
	// are runs whose batches are promised before they are committed; 5 are runs of several record sets, in which steps may be undone;
	// 6 are runs whose batches are requests, of which tickets are kept. Before, hand-offs had 2 and other runs 1.
	Journal  = Form{"journal", 6}
	Rollback = Form{"rollback", 1}
	Book     = Form{"book", 1}
	Closed   = Form{"closed", 1}
)

// All lists the forms, in the order in which an update comes to have them.
func All() []Form { return []Form{Dossier, Head, ChangeSet, Decision, Journal, Rollback, Book, Closed} }

// String is the form with its version: "journal 6".
func (f Form) String() string { return fmt.Sprintf("%s %d", f.Name, f.Version) }

// NewerError says that something is in a newer version of a form than this program knows.
type NewerError struct {
	Form    Form
	Version int
}

func (e *NewerError) Error() string {
	return fmt.Sprintf("a newer paletwin wrote it: its form is %s %d, and this one knows %s", e.Form.Name, e.Version, e.Form)
}

// Check returns a *NewerError for a version that is not known yet.
func (f Form) Check(version int) error {
	if version > f.Version {
		return &NewerError{f, version}
	}
	return nil
}
