package cli

import (
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"paletwin/core/words"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/update"
)

// targetFlags are how the command line names a target.
type targetFlags struct {
	tos                        []string // one, or of several record sets one each, as SET=TARGET
	sheet, encoding, delimiter string

	current  string // of what was handed off: a fresh export
	withdraw bool   // of a service: Ctrl-C drops what it is at
}

// currentFlag adds the flag for what the target has, where that was handed off.
func (p *targetFlags) currentFlag(fl *pflag.FlagSet) {
	fl.StringVar(&p.current, "current", "", "after a hand-off: a fresh `export` of the system, or the table or set where its records can be read")
}

// carries is the command that carries the dossier out.
func (p *targetFlags) carries() string {
	if p.current != "" {
		return "handoff"
	}
	return "apply"
}

func (p *targetFlags) flags(fl *pflag.FlagSet) {
	fl.StringArrayVar(&p.tos, "to", nil, "the `target`: a CSV, JSON, JSON Lines, XLSX or ODS file, a table of a database, as postgresql://user@host/db#table, mariadb://… or sqlite:file.db#table, or a name from desk.yaml (default: where the last run went, or the snapshot was taken); of several record sets SET=TARGET, repeated, or a folder or database for all")
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

// wheres reads the flags for several record sets: SET=TARGET, or a folder or a database for all.
func (a *app) wheres(t *desk.Dossier, p targetFlags) (map[string]update.Where, error) {
	all, sets := map[string]update.Where{}, t.SetNames()
	for _, said := range p.tos {
		set, to, named := strings.Cut(said, "=")
		if named && slices.Contains(sets, set) {
			one := p
			one.tos = []string{to}
			w, err := a.where(t, one)
			if err != nil {
				return nil, err
			}
			all[set] = w
			continue
		}
		for _, set := range sets {
			to, err := a.within(t, said, set)
			if err != nil {
				return nil, err
			}
			one := p
			one.tos = []string{to}
			w, err := a.where(t, one)
			if err != nil {
				return nil, err
			}
			if _, named := all[set]; !named && to != "" {
				all[set] = w
			}
		}
	}
	return all, nil
}

// within is the target of a record set in a folder, by its name, or in a database; "" where a folder
// has none of it.
func (a *app) within(t *desk.Dossier, to, set string) (string, error) {
	name := a.targetName(t, to)
	if named, ok := t.Desk().Settings.Targets[name]; ok {
		name = named.To
	}
	if target.Scheme(name) != "" {
		if name = strings.TrimSuffix(name, "#"); strings.Contains(name, "#") {
			return "", usage("--to %s is a table, and dossier %s has several record sets: name the database, or SET=TARGET for each", to, t.Meta.Number)
		}
		return a.targetName(t, name+"#"+set), nil
	}
	entries, err := a.fs.ReadDir(name)
	if err != nil {
		return "", usage("--to %s is no folder, and dossier %s has several record sets: name the folder or the database with all of them, or SET=TARGET for each (%s)", to, t.Meta.Number, strings.Join(t.SetNames(), ", "))
	}
	var found []string
	for _, e := range entries {
		if !e.IsDir() && stem(e.Name()) == set && slices.Contains([]string{".csv", ".tsv", ".txt", ".jsonl", ".ndjson", ".xlsx"}, strings.ToLower(filepath.Ext(e.Name()))) {
			found = append(found, filepath.Join(name, e.Name()))
		}
	}
	if len(found) > 1 {
		return "", usage("--to %s: the %s may be in %s: say which, %s=FILE", to, set, words.List(found), set)
	}
	return strings.Join(found, ""), nil
}

// where reads the flags.
func (a *app) where(t *desk.Dossier, p targetFlags) (update.Where, error) {
	delimiter, ok := delimiters[p.delimiter]
	if !ok {
		return update.Where{}, usage("--with delimiter is comma, semicolon, tab or pipe, not %q", p.delimiter)
	}
	if len(p.tos) > 1 {
		return update.Where{}, usage("--to names one target, and several were named")
	}
	w := update.Where{To: a.targetName(t, strings.Join(p.tos, "")), Sheet: p.sheet, Encoding: p.encoding, Delimiter: delimiter, Withdraw: p.withdraw}
	if p.current != "" {
		var err error
		if w.Current, err = a.export(p.current); err != nil {
			return w, err
		}
	}
	return w, nil
}

// export is the file of a fresh export. Of a table of a database, or a set of a service, one is taken, which goes when the command
// has ended.
func (a *app) export(name string) (string, error) {
	d, err := a.desk()
	if err != nil || !a.isTable(d, name) {
		return a.path(name), err
	}
	s, err := a.source(name)
	if err != nil {
		return "", err
	}
	dir, err := os.MkdirTemp("", "paletwin-")
	if err != nil {
		return "", err
	}
	a.ends = append(a.ends, func() { _ = os.RemoveAll(dir) })
	path := filepath.Join(dir, stem(a.named(name))+".csv")
	_, err = disk.WriteUnsummed(a.fs, path, 0o600, func(w io.Writer) error { _, err := io.Copy(w, s.Stream); return err })
	return path, err
}
