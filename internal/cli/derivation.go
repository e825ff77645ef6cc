package cli

import (
	"bufio"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"paletwin/core/compare"
	"paletwin/core/derive"
	"paletwin/core/expr"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// compileDerivation checks everything before anything runs.
func (a *app) compileDerivation(c *desk.Comparison, snapshot *table.Image, f *deriveFlags) (*derive.Derivation, []expr.Field, error) {
	x := &derive.Derivation{Key: c.Options.Key, Delete: f.del}
	var fields []expr.Field
	var err error
	if c.Layout != nil {
		x.Layout, x.Env = c.Layout.Layout, c.Layout.Env()
		for i := range c.Layout.Fields {
			fields = append(fields, expr.Field{Name: c.Layout.Fields[i].Name})
		}
	} else {
		fields = expr.Texts(snapshot.Heading)
		if x.Env, err = expr.NewEnv(fields, nil); err != nil {
			return nil, nil, err
		}
	}
	if f.where != "" {
		if x.Where, err = x.Env.CompileBool(f.where); err != nil {
			return nil, nil, err
		}
	}
	if x.Ops, err = f.ops(x, snapshot); err != nil {
		return nil, nil, err
	}
	if err := a.selectRecords(x, f); err != nil {
		return nil, nil, err
	}
	rename := func(*table.Image) {}
	if c.Layout != nil {
		rename = c.Layout.Rename
	}
	if f.setFrom != "" {
		err = a.beside(f.setFrom, rename, func(m *table.Image) (err error) {
			x.From, err = derive.ReadOverlay(m, c.Options.Key, snapshot, x.Layout.Schema())
			return err
		})
		if err != nil {
			return nil, nil, err
		}
	}
	if f.add != "" {
		err = a.beside(f.add, rename, func(m *table.Image) (err error) {
			x.Adds, c.Options.AddFields, err = derive.ReadAdds(m, snapshot)
			return err
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return x, fields, nil
}

var assignment = regexp.MustCompile("^\\s*(`[^`]+`|[^=\\s`][^=`]*?)\\s*=([^=].*)$")

// ops compiles what is set, filled, cleared and moved.
func (f *deriveFlags) ops(x *derive.Derivation, snapshot *table.Image) ([]derive.Op, error) {
	var ops []derive.Op
	given := map[string]bool{}
	add := func(op derive.Op) error {
		if snapshot.Column(op.Field) < 0 {
			return noField(op.Field, snapshot)
		}
		if slices.Contains(x.Key, op.Field) {
			return usage("%s is the key; a record is not given another one here", op.Field)
		}
		if given[op.Field] {
			return usage("%s is given two values", op.Field)
		}
		given[op.Field] = true
		ops = append(ops, op)
		return nil
	}
	for i, text := range slices.Concat(f.set, f.fill) {
		m := assignment.FindStringSubmatch(strings.ReplaceAll(text, "\n", " "))
		if m == nil {
			return nil, usage("%q is no 'field = expression'", text)
		}
		op := derive.Op{Field: strings.Trim(m[1], "`"), OnlyEmpty: i >= len(f.set)}
		if source := strings.TrimSpace(m[2]); source != "null" {
			p, err := x.Env.Compile(source)
			if err != nil {
				return nil, err
			}
			if err := fits(x, op.Field, p); err != nil {
				return nil, err
			}
			op.Program = p
		}
		if err := add(op); err != nil {
			return nil, err
		}
	}
	for _, name := range f.clear {
		if err := add(derive.Op{Field: name}); err != nil {
			return nil, err
		}
	}
	for _, text := range f.move {
		from, to, ok := strings.Cut(text, "=")
		if !ok {
			return nil, usage("--move takes from=to, not %q", text)
		}
		if snapshot.Column(from) < 0 {
			return nil, noField(from, snapshot)
		}
		if err := add(derive.Op{Field: to, From: from}); err != nil {
			return nil, err
		}
		if err := add(derive.Op{Field: from}); err != nil {
			return nil, err
		}
	}
	return ops, nil
}

func noField(name string, snapshot *table.Image) error {
	text := fmt.Sprintf("there is no field %q", name)
	if near := expr.Near(name, snapshot.Heading); len(near) > 0 {
		text += " (do you mean " + near[0] + "?)"
	}
	return usage("%s; the fields are %s", text, strings.Join(snapshot.Heading, ", "))
}

// fits refuses an expression whose value is none of the field's.
func fits(x *derive.Derivation, field string, p *expr.Program) error {
	if x.Layout.Field(field) == nil {
		return nil
	}
	own, err := x.Env.Compile("old.`" + field + "`")
	if err != nil || own.Type == p.Type || own.Type == expr.Text && p.Type == expr.Text {
		return nil
	}
	do := ""
	if own.Type == expr.Text {
		do = "; text(…) writes it as one"
	}
	return usage("%s is %s, and the expression gives %s%s: %s", field, own.Type, p.Type, do, p.Source)
}

// selectRecords reads the list of records.
func (a *app) selectRecords(x *derive.Derivation, f *deriveFlags) error {
	if f.records == "" && len(f.record) == 0 {
		return nil
	}
	list := compare.NewKeyList("the command line", x.Layout.Schema())
	if f.records != "" {
		b, name, err := a.readAll(f.records)
		if err != nil {
			return err
		}
		if list, err = compare.ReadKeyList(name, b, x.Key, x.Layout); err != nil {
			return err
		}
	}
	for _, text := range f.record {
		k, err := parseKey(text, x.Key)
		if err != nil {
			return err
		}
		list.Named(k)
	}
	x.Keys, x.List = list, list.Name
	return nil
}

// readAll reads a file, or standard input.
func (a *app) readAll(name string) ([]byte, string, error) {
	if name == "-" {
		b, err := io.ReadAll(bufio.NewReader(a.stdin))
		return b, "standard input", err
	}
	file, sheet := a.sheetOf(name)
	b, err := disk.ReadFile(a.fs, a.path(file))
	if name = filepath.Base(file); sheet != "" {
		name += "#" + sheet
	}
	return b, name, err
}
