package cli

import (
	"cmp"
	"strings"

	"paletwin/core/layout"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

// sourceFlags say from whom the copy comes, and what its headings mean.
type sourceFlags struct {
	source, as string
	columns    []string // Their heading=field
	replace    bool
}

// sender is what is known of who sent the copy: what the source says, and what the command line says instead.
func (a *app) sender(d *desk.Desk, f *compareFlags) (*desk.Sender, error) {
	s := &desk.Sender{Sender: &layout.Sender{Columns: map[string]string{}}}
	if f.from.source != "" {
		var err error
		if s, err = d.Sender(f.from.source); err != nil {
			return nil, err
		}
	}
	if f.from.as != "" && !f.from.replace {
		if err := d.MayKeepSender(f.from.as); err != nil {
			return nil, err
		}
	}
	if f.from.replace && f.from.as == "" {
		return nil, usage("--replace goes with --as NAME")
	}
	said := map[string]string{} // headings by the field that they are said to be
	for _, text := range f.from.columns {
		i := strings.LastIndexByte(text, '=')
		if i <= 0 || i == len(text)-1 {
			return nil, usage("--map takes a heading of the copy and the field that it is, 'Their heading=field', not %q", text)
		}
		heading, field := text[:i], text[i+1:]
		if was, twice := said[field]; twice && was != heading {
			return nil, usage("--map says of two headings that they are %s: %q and %q", field, was, heading)
		}
		said[field] = heading
		s.Map(heading, field)
	}
	s.Sheet, s.Encoding = cmp.Or(f.files.sheet, s.Sheet), cmp.Or(f.files.encoding, s.Encoding)
	s.Delimiter, s.HeadingRow = cmp.Or(f.files.delimiter, s.Delimiter), cmp.Or(f.files.headingRow, s.HeadingRow)
	s.SavedIn, s.DayOrder = cmp.Or(f.savedIn, s.SavedIn), cmp.Or(f.dayOrder, s.DayOrder)
	if f.missingSaid {
		s.Missing = f.missing
	}
	if f.blankSaid {
		s.Blank = f.blank
	}
	if f.allowSaid {
		s.Allow = strings.Split(f.allow, ",")
	}
	if len(f.key) > 0 {
		s.Key = f.key
	}
	together := *f
	together.files = fileFlags{s.Sheet, s.Encoding, s.Delimiter, s.HeadingRow}
	together.savedIn, together.dayOrder = s.SavedIn, s.DayOrder
	together.missing, together.blank = cmp.Or(s.Missing, f.missing), cmp.Or(s.Blank, f.blank)
	return s, together.checkValues()
}

// sends has a comparison's copies read as their sender writes them.
func (a *app) sends(c *desk.Comparison, s *desk.Sender) error {
	files := fileFlags{s.Sheet, s.Encoding, s.Delimiter, s.HeadingRow}
	for _, e := range c.Copies() {
		if files.reading(e, a.password()); len(s.Columns) > 0 {
			e.Options.Columns = s.Columns
		}
	}
	c.Sender = s
	o := &c.Options
	o.Key, o.SavedIn, o.DayOrder, o.Missing, o.Blank = s.Key, s.SavedIn, s.DayOrder, s.Missing, s.Blank
	var err error
	if len(s.Allow) > 0 {
		o.Allow, err = parseActs(s.Allow)
	}
	return err
}

// keepSender keeps what was said of the copy as a source.
func (a *app) keepSender(d *desk.Desk, c *desk.Comparison, as string) error {
	if as == "" {
		return nil
	}
	s := *c.Sender.Sender
	s.Headings = c.Headings
	path, err := d.KeepSender(as, &s)
	if err == nil {
		a.hint("%s", screen.Dim("kept in "+a.shown(path)+": --source "+shellWord(as)+" reads the next one so"))
	}
	return err
}
