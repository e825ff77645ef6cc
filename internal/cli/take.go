package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/expr"
	"paletwin/internal/desk"
	"paletwin/internal/target"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

type takeFlags struct {
	replace               bool // what is kept under the name of as
	key, fields           []string
	out, where, as, again string
	layout, recordSet     string
}

func newTake(a *app) *cobra.Command {
	var f takeFlags
	cmd := &cobra.Command{
		Use:   "take TARGET -o FILE",
		Short: "Read a snapshot from a database or a service",
		Long: `Read a snapshot from a table of a database, or an entity set of a service, as CSV.

It is in the order of the keys, and every value is the database's or service's own text
for it. Of a table it is one state, whoever writes meanwhile; a set whose records change
while its pages are read is read again. An empty cell is null; the empty text
stands in quotes. The desk remembers what the file was taken of, so that compare and
lend know it again. An account that may only read is enough.

--as keeps the choice of table, fields and records under a name on the desk; --again
takes the same once more.`,
		Example: `  paletwin take sqlite:register.db#aids -o aids.csv
  paletwin take postgresql://registrar@host/register#public.aids --where 'zone == "outer"' --as outer -o outer.csv
  paletwin take https://register.example/odata/Aids -o aids.csv
  paletwin take --again outer -o november.csv`,
		Args: func(cmd *cobra.Command, args []string) error {
			if f.again != "" {
				return exactly(0, 0, "")(cmd, args)
			}
			return exactly(1, 1, "TARGET")(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			return a.take(cmd.Context(), name, &f)
		},
	}
	fl := cmd.Flags()
	fl.StringVarP(&f.out, "output", "o", "", "the `file` to write (default: what is taken is printed)")
	fl.StringSliceVar(&f.key, "key", nil, "the `fields` that identify a record (default: the target's own key)")
	fl.StringSliceVar(&f.fields, "field", nil, "the `fields` to take beside the key (default: all)")
	fl.StringVar(&f.where, "where", "", "take only records for which this `expression` holds")
	fl.StringVar(&f.as, "as", "", "keep TARGET, --field and --where on the desk under this `name`")
	fl.BoolVar(&f.replace, "replace", false, "with --as: in the place of what is kept under that name")
	fl.StringVar(&f.again, "again", "", "take what was kept under this `name`")
	fl.StringVar(&f.layout, "layout", "", "the layout's `file` (default: layouts/RECORD-SET.yaml of the desk, if there is one)")
	fl.StringVar(&f.recordSet, "record-set", "", "the record set's `name` (default: the table's)")
	return cmd
}

func (a *app) take(ctx context.Context, name string, f *takeFlags) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	if f.again != "" {
		s, err := a.recalled(d, f.again, f.fields, f.where)
		if err != nil {
			return err
		}
		if s.Target == "" {
			return usage("%q was lent, and not taken: paletwin lend SNAPSHOT --again %s", f.again, f.again)
		}
		name, f.fields, f.where = s.Target, s.Fields, s.Where
		if f.recordSet == "" {
			f.recordSet = s.RecordSet
		}
	}
	if _, is := update.TargetOf(d, name); !is {
		return usage("%s is no table of a database and no set of a service: postgresql://…, mariadb://…, sqlite:FILE#TABLE, https://HOST/SERVICE/SET, or the name of one in desk.yaml", name)
	}
	url := target.In(a.wd, a.named(name))
	if f.recordSet == "" {
		f.recordSet = recordSetName(a.named(name))
	}
	r := &update.Take{Desk: d, Target: url, Key: f.key, Fields: f.fields, Out: a.data()}
	l, err := a.takeLayout(d, f)
	if err != nil {
		return err
	}
	if l != nil {
		if r.Layout = l.Layout; len(r.Key) == 0 {
			r.Key = l.Key
		}
	}
	if f.out != "" && f.out != "-" {
		r.Path = a.path(f.out)
		if _, err := a.fs.Lstat(r.Path); err == nil {
			return usage("%s is there already; name another file with -o", f.out)
		}
	}
	if f.where != "" {
		if r.Where, err = a.takeWhere(ctx, r, f.where, l); err != nil {
			return err
		}
	}
	if err := mayKeep(d, f.as, f.replace, &desk.Selection{RecordSet: f.recordSet, Fields: f.fields, Where: f.where}); err != nil {
		return err
	}
	got, err := a.office().Take(ctx, r)
	if err != nil {
		return err
	}
	if f.as != "" {
		kept, err := d.KeepSelection(f.as, &desk.Selection{RecordSet: f.recordSet, Target: got.Target, Fields: f.fields, Where: f.where})
		if err != nil {
			return err
		}
		defer a.hint("%s", screen.Dim("kept in "+a.shown(kept)))
	}
	return a.sayTaken(got, r.Path, f.out)
}

// takeLayout is the layout of what is taken, or nil.
func (a *app) takeLayout(d *desk.Desk, f *takeFlags) (*desk.Layout, error) {
	if f.layout == "" {
		return d.FindLayout(f.recordSet)
	}
	return a.namedLayout(f.layout)
}

// takeWhere compiles the condition: the layout says what the fields are; without one all
// are texts.
func (a *app) takeWhere(ctx context.Context, r *update.Take, where string, l *desk.Layout) (*expr.Program, error) {
	if l != nil {
		return l.Env().CompileBool(where)
	}
	names, err := a.office().Fields(ctx, r.Desk, r.Target)
	if err != nil {
		return nil, err
	}
	env, err := expr.NewEnv(expr.Texts(names), nil)
	if err != nil {
		return nil, err
	}
	return env.CompileBool(where)
}

func (a *app) sayTaken(t *update.Taken, path, out string) error {
	if path == "" {
		return nil
	}
	if a.json {
		return a.printJSON(map[string]any{"file": out, "target": t.Target, "sha256": t.Snapshot, "records": t.Records, "key": t.Key, "types": t.Types, "of_fields": t.Of})
	}
	fields := t.Of
	if len(t.Fields) > 0 {
		fields = len(t.Fields)
	}
	a.out.Line("%s  %s of %s, %s of %d; key %s", screen.Strong(screen.Safe(out)), screen.Plural(t.Records, "record"), a.shown(t.Target), screen.Plural(fields, "field"), t.Of, screen.Safe(strings.Join(t.Key, ", ")))
	a.next("paletwin lend "+out+" -o edit.xlsx", "paletwin help derive")
	return nil
}
