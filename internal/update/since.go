package update

import (
	"context"
	"errors"
	"slices"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

// cheap is how large a place may be to be read for a word about it, in bytes; a workbook,
// which is packed and slow to read, a sixteenth of it.
const cheap = 64 << 20

// patience is how long is waited for that word.
const patience = 2 * time.Second

// Since is what became of the records of a snapshot where they live.
type Since struct {
	Written time.Time `json:"written,omitzero"` // when the snapshot was, or was taken; zero is unknown
	Target  string    `json:"target,omitempty"` // where the records live; "" is unknown, or not read
	Amended int       `json:"amended"`          // records that are there with other values
	Added   int       `json:"added"`            // that are there, and not in the snapshot
	Gone    int       `json:"gone"`             // that are in the snapshot, and not there
	These   int       `json:"these"`            // of all these, the ones that the dossier changes, too
	Only    bool      `json:"only_these"`       // the place is large, or the snapshot a part of it, and no others were looked at
	Failed  error     `json:"-"`                // why it could not be read; nil where it was, or was not to be
	sc      *schema.Schema
	keys    map[record.Key]bool // of the dossier's changes
}

// Since says how old a dossier's snapshot is, and what moved since where its records
// live, where that is known from what was taken or from earlier runs, and is read in no
// time. It is told before anybody decides on anything, and fails nothing.
func (o *Office) Since(ctx context.Context, t *desk.Dossier) *Since {
	s := new(Since)
	place := o.lives(t, s)
	s.Only = s.Only || t.Meta.Snapshot.Partial()
	if place.Target == "" || place.Target == t.Meta.Snapshot.Path || comparedThere(t, place.Target) || t.Desk().Settings.Trial(place.Target) {
		return s
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	s.Failed = o.moved(ctx, t, &place, s)
	return s
}

// comparedThere reports whether a place is a table that was compared itself: what it has is what was compared.
func comparedThere(t *desk.Dossier, place string) bool {
	return slices.Contains(append(t.Meta.Edited.Names(), t.Meta.Snapshot.Name), place)
}

// lives finds out where the records of a dossier live: where they were taken, or went to last.
func (o *Office) lives(t *desk.Dossier, s *Since) run.Head {
	place := o.written(t, s)
	if place.Target == "" {
		if last := run.LastPlace(t); last != nil {
			place = *last
		}
	}
	return place
}

// written finds out when the snapshot was made, and of what.
func (o *Office) written(t *desk.Dossier, s *Since) (place run.Head) {
	path := t.Meta.Snapshot.Path
	if path == "" {
		return place
	}
	if k := t.Taken(); k != nil {
		s.Written, place.Target, s.Only = k.When, k.Target, k.Where != ""
	} else if info, err := o.FS.Stat(path); err == nil {
		s.Written = info.ModTime()
	}
	return place
}

// moved compares the snapshot with the place.
func (o *Office) moved(ctx context.Context, t *desk.Dossier, place *run.Head, s *Since) error {
	sc, err := t.Schema()
	if err != nil {
		return err
	}
	s.sc, s.keys = sc, map[record.Key]bool{}
	c, err := t.Changes()
	if err != nil {
		return err
	}
	defer c.Close()
	var keys []record.Key
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return err
		}
		keys = append(keys, ch.Key)
		s.keys[sc.Key(ch.Key)] = true
	}
	now, release, err := o.glance(ctx, t, place, keys, s)
	if err != nil || now == nil {
		return err
	}
	defer release()
	snapshot, err := t.OpenInput(t.Meta.Snapshot)
	if err != nil {
		return err
	}
	defer snapshot.Close()
	l, err := t.Layout()
	if err != nil {
		return err
	}
	set := t.Set()
	_, err = compare.Run(ctx, snapshot.Image, now, compare.Options{Unencoded: true, RecordSet: set.Name, Key: set.Key, Layout: l, SameOnly: true,
		Proposals: compare.Proposals{Missing: compare.Asked, AllMissing: true, Blank: compare.Clear, Untouched: l.Schema().System()}, OtherRegister: true}, s)
	if err == nil {
		s.Target = place.Target
	}
	return err
}

// glance opens a place to be read, where that is cheap; of a large table the records with some keys.
func (o *Office) glance(ctx context.Context, t *desk.Dossier, place *run.Head, keys []record.Key, s *Since) (*table.Image, func() error, error) {
	if target.Scheme(place.Target) == "" {
		most := int64(cheap)
		if place.Found.Format == "xlsx" || place.Found.Format == "ods" {
			most /= 16
		}
		info, err := o.FS.Stat(place.Target)
		if err != nil || info.Size() > most {
			return nil, nil, err
		}
		if sum, err := disk.Sum(o.FS, place.Target); err == nil && sum == t.Meta.Snapshot.SHA256 {
			s.Target = place.Target // as it was
			return nil, nil, nil
		}
		return o.fresh(ctx, t, place, nil, nil)
	}
	quiet := *o
	quiet.Secret = nil // nobody is asked for a password for this
	tgt, _, err := quiet.Target(ctx, t, Where{To: place.Target})
	if err != nil {
		return nil, nil, err
	}
	traits := tgt.Traits()
	if n, ok := tgt.(target.Narrower); ok && (s.Only || traits.Size > cheap) {
		s.Only = true
		err = n.Only(keys)
	} else if traits.Size > cheap || traits.Size == 0 {
		return nil, nil, tgt.Close()
	}
	if err != nil {
		return nil, nil, errors.Join(err, tgt.Close())
	}
	img, release, err := tgt.Table(ctx)
	if err != nil {
		return nil, nil, errors.Join(err, tgt.Close())
	}
	return img, func() error { return errors.Join(release(), tgt.Close()) }, nil
}

// WriteEncoded counts what moved.
func (s *Since) WriteEncoded(_ []byte, changes []*changeset.Change) error {
	for _, ch := range changes {
		these := s.keys[s.sc.Key(ch.Key)]
		if s.Only && !these {
			continue
		}
		*[]*int{&s.Amended, &s.Added, &s.Gone}[slices.Index([]changeset.Act{changeset.Amend, changeset.Add, changeset.Delete}, ch.Act)]++
		if these {
			s.These++
		}
	}
	return nil
}
