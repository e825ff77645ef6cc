package run

import (
	"slices"

	"paletwin/core/table"
	"paletwin/internal/desk"
)

// This file finds out where runs went.

// LastTarget returns the heading of a dossier's last run, which says what the
// target was; for a dossier that has not run and undoes runs of another, that of
// these. Without one it is nil.
func LastTarget(t *desk.Dossier) (*Head, error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	if len(runs) == 0 {
		if t.Meta.Undoes == nil {
			return nil, nil
		}
		from, err := t.Desk().Dossier(t.Meta.Undoes.Dossier, "")
		if err != nil {
			return nil, err
		}
		if undone := t.Meta.Undoes.Runs; len(undone) > 0 {
			return ReadHead(from, undone[0])
		}
		return LastTarget(from)
	}
	return ReadHead(t, runs[len(runs)-1])
}

// LastPlace returns the heading of the newest run of any dossier of the same records that
// went to a target which is not for trying; nil where none did, or that cannot be read.
func LastPlace(t *desk.Dossier) *Head {
	all, err := t.Desk().Dossiers()
	if err != nil {
		return nil
	}
	for _, x := range slices.Backward(all) {
		if x.Damage != nil || x.Set().Name != t.Set().Name || !slices.Equal(x.Set().Key, t.Set().Key) {
			continue
		}
		runs, err := Runs(x)
		if err != nil {
			continue
		}
		for _, n := range slices.Backward(runs) {
			h, err := ReadHead(x, n)
			if err == nil && !h.Handoff && !t.Desk().Settings.Trial(h.Target) {
				return h
			}
		}
	}
	return nil
}

// LastRunAt returns the heading of a dossier's last run that went to a target,
// nil if none did.
func LastRunAt(t *desk.Dossier, target string) (*Head, error) {
	h, _, err := newestHead(t, func(h *Head) bool { return h.Target == target })
	return h, err
}

// KnownOf returns what is known of a target that a dossier goes to: as the
// last run, if it went there, found it, else as the snapshot was found.
func KnownOf(t *desk.Dossier, last *Head, target string) (table.Found, error) {
	if last == nil || last.Target != target || last.Handoff {
		return t.Meta.Snapshot.Found, nil
	}
	if last.Found != (table.Found{}) {
		return last.Found, nil
	}
	from := t // an older journal: its backup tells
	if n := last.Dossier; n != t.Meta.Number {
		var err error
		if from, err = t.Desk().Dossier(n, ""); err != nil {
			return table.Found{}, err
		}
	}
	b, err := OpenBackup(from, &Record{Head: *last, Dir: Dir(from, last.Run)})
	if err != nil {
		return table.Found{}, err
	}
	return b.Found, b.Close()
}
