package cli

import (
	"github.com/spf13/pflag"

	"paletwin/internal/desk"
	"paletwin/internal/target"
	"paletwin/internal/update"
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

func (p *targetFlags) flags(fl *pflag.FlagSet) {
	fl.StringVar(&p.to, "to", "", "the `target`: a CSV, JSON Lines or XLSX file, a table of a database, as postgresql://user@host/db#table, mariadb://… or sqlite:file.db#table, or a name from desk.yaml (default: where the last run went)")
	fl.StringVar(&p.sheet, "sheet", "", "the `sheet` of a workbook (default: the first that is not hidden)")
	fl.StringVar(&p.encoding, "encoding", "", "the `encoding` of a CSV file (default: found, or as the dossier knows it)")
	fl.StringVar(&p.delimiter, "delimiter", "", "the delimiter of a CSV file: `comma`, semicolon, tab (default: found)")
}

// office is who works here.
func (a *app) office() *update.Office {
	return &update.Office{FS: a.fs, By: a.user, Now: a.now, Tool: Version, Password: a.password(), Env: a.env, Secret: a.secret()}
}

// targetName is a target as a request names it: a name on the desk, a URL, or an
// absolute path.
func (a *app) targetName(t *desk.Dossier, to string) string {
	if _, named := t.Desk().Settings.Targets[to]; to == "" || named {
		return to
	}
	return target.In(a.wd, to)
}

// where reads the flags.
func (a *app) where(t *desk.Dossier, p targetFlags) (update.Where, error) {
	delimiter, ok := delimiters[p.delimiter]
	if !ok {
		return update.Where{}, usage("--delimiter is comma, semicolon or tab, not %q", p.delimiter)
	}
	w := update.Where{To: a.targetName(t, p.to), Sheet: p.sheet, Encoding: p.encoding, Delimiter: delimiter}
	if p.current != "" {
		w.Current = a.path(p.current)
	}
	return w, nil
}
