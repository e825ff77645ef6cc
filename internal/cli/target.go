package cli

import (
	"cmp"
	"context"
	"fmt"

	"github.com/spf13/pflag"

	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
	"paletwin/internal/target"
	"paletwin/internal/target/open"
)

// targetFlags are how the command line names a target.
type targetFlags struct {
	to, sheet, encoding, delimiter string

	current string // of what was handed off: a fresh export
}

// currentFlag adds the flag for what the target has, where that was handed off.
func (p *targetFlags) currentFlag(fl *pflag.FlagSet) {
	fl.StringVar(&p.current, "current", "", "after a hand-off: a fresh `export` of the system")
}

// carries is the command that carries the dossier out.
func (p *targetFlags) carries() string {
	if p.current != "" {
		return "handoff"
	}
	return "apply"
}

// state opens what is to be undone, or returned to a backup: the target, with
// the sheet that was named, or for a hand-off the fresh export that tells what
// the system has.
func (a *app) state(ctx context.Context, t *desk.Dossier, p targetFlags) (_ target.Target, sheet string, err error) {
	last, err := run.LastTarget(t)
	if err != nil {
		return nil, "", err
	}
	if p.to != "" || last == nil || !last.Handoff {
		if p.current != "" {
			return nil, "", usage("--current is for what was handed off; this dossier's target is read directly")
		}
		f, o, err := a.target(ctx, t, p)
		return f, o.Sheet, err
	}
	if p.current == "" {
		return nil, "", &handoff.Error{Code: handoff.NeedsCurrent, Text: "dossier " + t.Meta.Number + " was handed off, and what the system has now only a fresh export tells"}
	}
	s, done, err := a.system(t, handoff.Options{Form: handoff.CSV}, p.current)
	if err != nil {
		return nil, "", err
	}
	return &closing{s, done}, "", nil
}

// closing is a system whose export is let go with it.
type closing struct {
	*system
	done func()
}

func (c *closing) Close() error { c.done(); return nil }

func (p *targetFlags) flags(fl *pflag.FlagSet) {
	fl.StringVar(&p.to, "to", "", "the `target`: a CSV, JSON Lines or XLSX file, or a name from desk.yaml (default: where the last run went)")
	fl.StringVar(&p.sheet, "sheet", "", "the `sheet` of a workbook (default: the first that is not hidden)")
	fl.StringVar(&p.encoding, "encoding", "", "the `encoding` of a CSV file (default: found, or as the dossier knows it)")
	fl.StringVar(&p.delimiter, "delimiter", "", "the delimiter of a CSV file: `comma`, semicolon, tab (default: found)")
}

// targetPath is the path of a target that is named, by its path or by its name
// on the desk.
func (a *app) targetPath(t *desk.Dossier, to string) string {
	if named, ok := t.Desk().Settings.Targets[to]; ok {
		to = named.To
	}
	if open.Scheme(to) == "" {
		to = a.path(to)
	}
	return open.Name(to)
}

// target opens the target that was named, or the last run's, and says how it
// was said to be.
func (a *app) target(ctx context.Context, t *desk.Dossier, p targetFlags) (target.Target, table.Options, error) {
	delimiter, ok := delimiters[p.delimiter]
	if !ok {
		return nil, table.Options{}, usage("--delimiter is comma, semicolon or tab, not %q", p.delimiter)
	}
	o := table.Options{Sheet: p.sheet, Encoding: p.encoding, Delimiter: delimiter}
	last, err := run.LastTarget(t)
	if err != nil {
		return nil, o, err
	}
	if p.to == "" {
		if last == nil {
			return nil, o, &run.Refusal{Code: run.NoTarget, Text: fmt.Sprintf("dossier %s has no target yet", t.Meta.Number)}
		}
		if last.Handoff {
			return nil, o, &run.Refusal{Code: run.WasHanded, Text: fmt.Sprintf("dossier %s goes to a system that takes files", t.Meta.Number)}
		}
		p.to = last.Target
	}
	path := a.targetPath(t, p.to)
	if there, err := run.LastRunAt(t, path); err != nil {
		return nil, o, err
	} else if there != nil {
		last = there
	}
	if last != nil && last.Target == path {
		o.Sheet, o.Encoding, o.Delimiter = cmp.Or(o.Sheet, last.Read.Sheet), cmp.Or(o.Encoding, last.Read.Encoding), cmp.Or(o.Delimiter, last.Read.Delimiter)
	}
	if o.Known, err = run.KnownOf(t, last, path); err != nil {
		return nil, o, err
	}
	l, err := t.Layout()
	if err != nil {
		return nil, o, err
	}
	o.Password, o.Rename = a.password(), func(m *table.Image) { l.Rename(m) }
	f, err := open.Open(ctx, a.fs, open.Place{Name: path, Key: t.Set().Key, Of: l.Schema(), Read: o})
	return f, o, err
}
