package layout

import (
	"fmt"
	"strings"

	"paletwin/core/schema"
)

// Says lists in words what the layout asks for beyond its fields and rules.
func (l *Layout) Says() []string {
	var all []string
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	if k := l.schema.KeyForm; !l.schema.OneForm() {
		var parts []string
		if k.Trim {
			parts = append(parts, "outer spaces")
		}
		if k.FoldCase {
			parts = append(parts, "case")
		}
		if k.Zeros > 0 {
			parts = append(parts, fmt.Sprintf("leading zeros up to %d digits", k.Zeros))
		}
		if k.Prefix > 0 {
			parts = append(parts, fmt.Sprintf("what follows the first %d characters", k.Prefix))
		}
		say("keys are the same but for %s", strings.Join(parts, ", "))
	}
	if l.Blank != "" {
		say("an emptied cell: %s", l.Blank)
	}
	if l.Missing != "" {
		say("a record that the copy lacks: %s", l.Missing)
	}
	l.sayShape(say)
	if len(l.Ignore) > 0 {
		say("columns without a field: %s", strings.Join(l.Ignore, ", "))
	}
	for _, x := range []struct {
		act string
		l   *Limit
	}{{"amend", &l.Limits.Amend}, {"add", &l.Limits.Add}, {"delete", &l.Limits.Delete}} {
		if x.l.Set {
			say("more than %s to %s: held", x.l.Text, x.act)
		}
	}
	return all
}

// sayKind says what the values of the field's kind are.
func (f *Field) sayKind(say func(format string, args ...any)) {
	switch f.Kind {
	case schema.Choice:
		say("one of %s", strings.Join(f.Values, ", "))
	case schema.Reference:
		if say("%s of %s (%d)", f.List.By, f.List.Name, f.List.Len()); f.List.As != "" {
			say("or its %s", f.List.As)
		}
	case schema.Decimal:
		if f.Scale >= 0 {
			say("%d decimals", f.Scale)
		}
	case schema.Percent:
		say("as %s", f.kindWords())
	case schema.Money:
		say("as %s", f.Amount.Text)
	case schema.Date, schema.Datetime:
		for i, x := range f.Forms {
			if i == 0 {
				say("as %s", x.Text)
			} else {
				say("read as %s, too", x.Text)
			}
		}
	case schema.Boolean:
		say("%s or %s", f.True, f.False)
	}
}

// Says says in words what is asked of the field's values.
func (f *Field) Says() string {
	var all []string
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	if f.Access != schema.Free {
		say("%s", f.Access)
	}
	if f.Assigned {
		say("given by the system")
	}
	if f.Required {
		say("needs a value")
	}
	if f.Unique {
		say("a value of its own in each record")
	}
	f.sayKind(say)
	if f.Length.Set() {
		say("%s characters", f.Length.Text)
	}
	if f.Range.Set() {
		say("within %s", f.Range.Text)
	}
	if f.Pattern != nil {
		say("fits %s", strings.TrimSuffix(strings.TrimPrefix(f.Pattern.String(), "^(?:"), ")$"))
	}
	if f.Null != "" {
		say("%q is empty", f.Null)
	}
	if f.Compare != (schema.Leniency{}) {
		var alike []string
		for _, x := range []struct {
			on   bool
			word string
		}{{f.Compare.Case, "case"}, {f.Compare.Spaces, "spaces"}, {f.Compare.Breaks, "line breaks"}} {
			if x.on {
				alike = append(alike, x.word)
			}
		}
		say("the same but for %s", strings.Join(alike, ", "))
	}
	if f.Translate != nil {
		say("%d values are translated", f.Translate.Len())
	}
	if f.Move.Text != "" {
		say("moves of more than %s are held", f.Move.Text)
	}
	if f.Blank != "" {
		say("emptied: %s", f.Blank)
	}
	if len(f.Aliases) > 0 {
		say("also headed %s", strings.Join(f.Aliases, ", "))
	}
	return strings.Join(all, "; ")
}
