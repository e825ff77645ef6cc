package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"github.com/spf13/pflag"

	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	"paletwin/internal/target/file"
)

// targetFlags are how the command line names a target.
type targetFlags struct {
	to, sheet, encoding string
}

func (p *targetFlags) flags(fl *pflag.FlagSet) {
	fl.StringVar(&p.to, "to", "", "the `target`: a CSV, JSON Lines or XLSX file (default: where the last run went)")
	fl.StringVar(&p.sheet, "sheet", "", "the `sheet` of a workbook (default: the first that is not hidden)")
	fl.StringVar(&p.encoding, "encoding", "", "the `encoding` of a CSV file (default: found)")
}

// target opens the target that was named, or the last run's, and says how it
// was said to be.
func (a *app) target(t *desk.Dossier, p targetFlags) (*file.File, table.Options, error) {
	o := table.Options{Sheet: p.sheet, Encoding: p.encoding}
	if p.to == "" {
		last, err := run.LastTarget(t)
		if err != nil {
			return nil, o, err
		}
		if last == nil {
			return nil, o, &run.Refusal{Code: run.NoTarget, Text: fmt.Sprintf("dossier %s has no target yet", t.Meta.Number)}
		}
		p.to = last.Target
		o.Sheet, o.Encoding = cmp.Or(o.Sheet, last.Read.Sheet), cmp.Or(o.Encoding, last.Read.Encoding)
	}
	o.Password = a.password()
	f, err := file.Open(a.fs, a.path(p.to), t.Set().Key, o)
	if errors.Is(err, fs.ErrPermission) {
		return nil, o, &fs.PathError{Op: "lock", Path: filepath.Dir(a.path(p.to)), Err: fs.ErrPermission}
	}
	return f, o, err
}
