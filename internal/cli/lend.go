package cli

import (
	"context"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/lend"
	"paletwin/core/table"
	"paletwin/internal/disk"
	screen "paletwin/internal/term"
)

type lendFlags struct {
	key, fields []string
	out         string
	files       fileFlags
}

func newLend(a *app) *cobra.Command {
	var f lendFlags
	cmd := &cobra.Command{
		Use:   "lend SNAPSHOT",
		Short: "Make a copy to edit in which ids, codes and dates cannot wear",
		Long: `Make a workbook to edit from a snapshot.

All its cells are text, so that no program rounds an id or takes a code for a date,
and the key is locked. It says inside from which snapshot it was made: compare
recognises it with certainty when it comes back. With --fields it holds the key and
these fields alone, and a row that is taken out of it deletes nothing.`,
		Example: `  paletwin lend aids.csv -o edit.xlsx
  paletwin lend aids.csv --fields depot,service_fee -o fees.xlsx`,
		Args: exactly(1, 1, "SNAPSHOT"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.lend(cmd.Context(), args[0], &f) },
	}
	fl := cmd.Flags()
	fl.StringSliceVar(&f.key, "key", nil, "the `fields` that identify a record: a or a,b")
	fl.StringSliceVar(&f.fields, "fields", nil, "the `fields` to lend beside the key (default: all)")
	fl.StringVarP(&f.out, "output", "o", "", "the `file` to write (default: the snapshot's name with -lent.xlsx)")
	f.files.flags(cmd)
	return cmd
}

func (a *app) lend(ctx context.Context, name string, f *lendFlags) error {
	if err := f.files.check(); err != nil {
		return err
	}
	out := f.out
	if out == "" {
		if name == "-" {
			return usage("lend needs -o FILE where the snapshot is standard input")
		}
		out = stem(name) + "-lent.xlsx"
	}
	if !strings.EqualFold(filepath.Ext(out), ".xlsx") {
		return usage("lend writes an .xlsx workbook, which keeps texts as texts; %q is none", out)
	}
	if _, err := a.fs.Lstat(a.path(out)); err == nil {
		return usage("%s is there already; name another file with -o", out)
	}
	s := a.source(name)
	s.Options = f.files.options(0, a.password())
	t, err := a.open(&s)
	if err != nil {
		return err
	}
	defer t.Close()
	if len(f.key) == 0 {
		if f.key, err = a.chooseKey(ctx, t.Image, nil); err != nil {
			return err
		}
	}
	c := &lend.Copy{Snapshot: t.Image, Key: f.key, Fields: f.fields}
	if c.SHA256, err = t.SHA256(); err != nil {
		return err
	}
	lent, err := a.writeLent(ctx, c, a.path(out))
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"file": out, "snapshot": map[string]any{"name": lent.Name, "sha256": lent.Snapshot, "records": lent.All},
			"key": lent.Key, "fields": lent.Fields, "records": lent.Records, "narrow": lent.Narrow()})
	}
	a.out.Line("%s  %s of %s, %s of %d", screen.Strong(screen.Safe(out)), screen.Plural(lent.Records, "record"), screen.Safe(lent.Name),
		screen.Plural(len(lent.Fields), "field"), lent.Of)
	if lent.Narrow() {
		a.hint("%s", screen.Dim("a narrow copy: what it lacks stays as it is, and a row taken out of it deletes nothing"))
	}
	a.next("edit " + out + ", then: paletwin compare " + name + " " + out)
	return nil
}

// writeLent writes the copy whole, or not at all.
func (a *app) writeLent(ctx context.Context, c *lend.Copy, path string) (lent *table.Lent, err error) {
	_, err = disk.WriteFile(a.fs, path, 0o600, func(w io.Writer) (err error) {
		lent, err = c.Write(ctx, w)
		return err
	})
	return lent, err
}
