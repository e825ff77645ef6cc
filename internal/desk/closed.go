package desk

import (
	"encoding/json"
	"errors"
	"io/fs"
	"time"

	"paletwin/core/forms"
	"paletwin/internal/disk"
)

const closedName = "closed.json"

// Closed says that a dossier was put away: it is not carried out, and "-" is another one.
type Closed struct {
	Form    string    `json:"paletwin"`
	Version int       `json:"version"`
	By      string    `json:"by"`
	Account string    `json:"account,omitempty"`
	When    time.Time `json:"when"`
	Note    string    `json:"note,omitempty"`
}

// Closed returns who put the dossier away, and when; nil where nobody did.
func (t *Dossier) Closed() (*Closed, error) {
	file := t.Whole().Path(closedName)
	b, err := disk.ReadFile(t.desk.FS, file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	c := new(Closed)
	if err := json.Unmarshal(b, c); err != nil || c.Form != forms.Closed.Name {
		return nil, &DamageError{file, errors.New("the file does not say who closed the dossier")}
	}
	if err := forms.Closed.Check(c.Version); err != nil {
		return nil, &DamageError{file, err}
	}
	return c, nil
}

// Close puts the dossier away, under its lock.
func (t *Dossier) Close(c *Closed) error {
	lock, err := t.Whole().Lock()
	if err != nil {
		return err
	}
	defer lock.Unlock()
	c.Form, c.Version, c.Account, c.When = forms.Closed.Name, forms.Closed.Version, t.desk.Account.String(), c.When.UTC()
	b, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return disk.WriteBytes(t.desk.FS, t.Whole().Path(closedName), append(b, '\n'))
}

// Reopen brings a dossier back that was put away.
func (t *Dossier) Reopen() error {
	lock, err := t.Whole().Lock()
	if err != nil {
		return err
	}
	defer lock.Unlock()
	err = t.desk.FS.Remove(t.Whole().Path(closedName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return errors.Join(err, t.desk.FS.SyncDir(t.Whole().Dir))
}
