package cli

import (
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/words"
	"paletwin/internal/desk"
)

// selection is the flags that select changes.
type selection struct {
	records, acts, fields, decisions, finding []string
	where                                     string
	of                                        string
}

func (s *selection) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&s.records, "record", nil, "only this `key`: 00417, or aid_no=00417,due=2026-03-01")
	f.StringSliceVar(&s.acts, "act", nil, "only these acts: `amend|add|delete`")
	f.StringSliceVar(&s.fields, "field", nil, "only changes of this `field`")
	f.StringArrayVar(&s.finding, "finding", nil, "only what a finding with this `code` holds")
	f.StringVar(&s.where, "where", "", "only records for which this `expression` holds: 'new.service_fee > old.service_fee * 1.1'")
}

// filter turns the flags into a filter on a dossier's change set.
func (s *selection) filter(t *desk.Dossier, c *desk.Changes) (changeset.Filter, error) {
	fields := c.Header.Fields
	f := changeset.Filter{Fields: s.fields, Findings: s.finding}
	var err error
	if s.of != "" {
		if f.Of, err = copyNamed(c, s.of); err != nil {
			return f, err
		}
	}
	for _, w := range s.acts {
		act, err := changeset.ParseAct(w)
		if err != nil {
			return f, usage("--act: %v", err)
		}
		f.Acts = append(f.Acts, act)
	}
	for _, w := range s.decisions {
		d, err := changeset.ParseDecision(w)
		if err != nil {
			return f, usage("--decision: %v", err)
		}
		f.Decisions = append(f.Decisions, d)
	}
	for _, name := range s.fields {
		if !slices.Contains(fields, name) {
			return f, usage("there is no field %q; the fields are %s", name, strings.Join(fields, ", "))
		}
	}
	for _, code := range s.finding {
		if !slices.ContainsFunc(changeset.Codes(), func(c changeset.Code) bool { return c.Name == code }) {
			return f, usage("there is no finding code %q; show --findings lists those of the dossier", code)
		}
	}
	l, err := t.Layout()
	if err != nil {
		return f, err
	}
	f.One = l.Schema().Key
	for _, text := range s.records {
		k, err := parseKey(text, t.Set().Key)
		if err != nil {
			return f, err
		}
		f.Keys = append(f.Keys, l.Schema().Key(k).Encoding())
	}
	if s.where == "" {
		return f, nil
	}
	f.Where, err = t.Where(s.where, c)
	return f, err
}

// copyNamed is the copy that is meant by its name, or by the path that it was named by.
func copyNamed(c *desk.Changes, name string) (string, error) {
	all, err := c.CopyNames()
	if err != nil {
		return "", err
	}
	var fit []string
	for _, known := range all {
		if known == name {
			return name, nil
		}
		if strings.HasSuffix(filepath.ToSlash(name), "/"+known) || strings.HasSuffix(known, "/"+filepath.ToSlash(name)) {
			fit = append(fit, known)
		}
	}
	switch {
	case len(all) == 0:
		return "", usage("--of names one of several copies, and this dossier was made from one")
	case len(fit) == 1:
		return fit[0], nil
	}
	return "", usage("--of names a copy, and %q is none; the copies are %s", name, words.List(all))
}

// parseKey reads a record's key from the command line: its value, or, for a
// key of several fields, name=value pairs with commas between.
func parseKey(text string, key []string) (record.Key, error) {
	if len(key) == 1 {
		return record.NewKey(strings.TrimPrefix(text, key[0]+"=")), nil
	}
	parts := make([]string, len(key))
	given := make([]bool, len(key))
	for _, pair := range strings.Split(text, ",") {
		name, value, ok := strings.Cut(pair, "=")
		i := slices.Index(key, name)
		if !ok || i < 0 {
			return record.Key{}, usage("--record %s: this record set's key has several fields: --record %s=…", text, strings.Join(key, "=…,"))
		}
		parts[i], given[i] = value, true
	}
	if i := slices.Index(given, false); i >= 0 {
		return record.Key{}, usage("--record %s: the key field %s is missing", text, key[i])
	}
	return record.NewKey(parts...), nil
}
