package desk

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/table"
	"paletwin/internal/disk"
)

// Comparison is a comparison to be made into a dossier.
type Comparison struct {
	Title      string
	By, Tool   string
	Now        time.Time
	Snapshot   Source
	Edited     *Source
	More       []*Source // further copies of the snapshot
	DeleteList *Source
	Keep       bool // DeleteList has the records that stay, and all others are to be deleted
	Options    compare.Options
	Layout     *Layout  // or nil
	Sender     *Sender  // who sent the copies, or nil
	Headings   []string // of the first copy, as the file has them, once it was compared
	Inputs     []*Input // what was read, where no dossier is made of it
	// ChooseKey, if the options name no key, names it.
	ChooseKey func(ctx context.Context, snapshot, edited *table.Image) ([]string, error)
	// Undoes says what the dossier returns to, for one that restores.
	Undoes *Undoes
	// Derive, if not nil, writes the edited state as CSV, of the snapshot as it
	// is kept, and says what it noticed; Edited only gives it a name then.
	Derive func(ctx context.Context, snapshot *table.Image, w io.Writer) ([]changeset.Finding, error)
	// Derivation is kept with the options: how the edited state was made.
	Derivation any
	// CatchesUp is the number of the dossier whose changes are laid on newer records; ""
	// is none.
	CatchesUp string
	// InPlace tells of two tables that are compared where they are, or is nil: the sources hold what differs then.
	InPlace *InPlace
	// Sink, if not nil, takes the changes of a preview.
	Sink compare.Sink
	// DropEmpty is that no dossier is made where nothing differs, and nothing was found that has to be looked at or
	// that a program did: then Compare returns none.
	DropEmpty bool
	// Into is the dossier whose place the new one takes, or nil.
	Into *Dossier
}

// InPlace is what is known of two tables that are compared where they are.
type InPlace struct {
	At    time.Time // when their states were looked at
	Alike compare.Alike
}

// Copies lists the sources of the edited copies.
func (c *Comparison) Copies() []*Source {
	if c.Edited == nil {
		return nil
	}
	return append([]*Source{c.Edited}, c.More...)
}

// Source is a file to be read: one with a path, or a stream.
type Source struct {
	Path    string    // absolute; "" for a stream
	Name    string    // for messages
	Stream  io.Reader // read when Path is ""
	Options table.Options
	Taken   bool     // it is what was taken of a database, which says how it is read
	Key     []string // of what was taken
}

// options say how the source is read.
func (s *Source) options() table.Options {
	if !s.Taken {
		return s.Options
	}
	o := table.Taken
	o.Rename, o.Reshape = s.Options.Rename, s.Options.Reshape
	return o
}

// Compare compares two files and makes a dossier of the result. Nothing is
// left behind where it fails.
func (d *Desk) Compare(ctx context.Context, c *Comparison) (*Dossier, *compare.Result, error) {
	draft, err := d.Draft(c.By)
	if err != nil {
		return nil, nil, err
	}
	t, res, err := d.compareInto(ctx, c, draft)
	if err != nil {
		return nil, nil, errors.Join(err, draft.Discard())
	}
	return t, res, nil
}

func (d *Desk) compareInto(ctx context.Context, c *Comparison, draft *Draft) (*Dossier, *compare.Result, error) {
	in := &inputs{fsys: d.FS, dir: draft.Dir, hashed: make(chan struct{})}
	defer in.close()
	if err := in.ready(ctx, c); err != nil {
		return nil, nil, err
	}
	m, res, err := d.compareReady(ctx, c, in)
	if err != nil {
		return nil, nil, err
	}
	if c.Into != nil {
		return c.Into, res, c.Into.Replace(draft, m)
	}
	if c.DropEmpty && res.Nothing() {
		c.Inputs = m.inputs()
		return nil, res, draft.Discard()
	}
	t, err := draft.Keep(m)
	return t, res, err
}

// compareReady compares what is open and writes all of the dossier but its description, which it
// returns.
func (d *Desk) compareReady(ctx context.Context, c *Comparison, in *inputs) (*Meta, *compare.Result, error) {
	d.lookBack(c, in.snapshot.Table, in.snapshotDigest)
	m := &Meta{Title: c.Title, By: c.By, When: c.Now.UTC(), Tool: c.Tool, Options: c.told(), Undoes: c.Undoes, CatchesUp: c.CatchesUp}
	set := RecordSet{Name: c.Options.RecordSet, Key: c.Options.Key}
	var res *compare.Result
	_, err := disk.WriteUnsummed(d.FS, filepath.Join(in.dir, ChangesName(set.Name)), 0o600, func(w io.Writer) (err error) {
		res, set.Seal, err = in.compare(ctx, c, w)
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	if len(res.Sample.Rows) > 0 {
		set.Sample = &res.Sample
	}
	set.Copies = res.Copies
	set.Records, set.Changes, set.Fields, set.Totals, set.DeletesHeld = res.Records, res.Changes, res.Changes.ByField, res.Totals, res.DeletesHeld
	if m.Files, err = keepLayout(d.FS, in.dir, set.Name, c.Layout); err != nil {
		return nil, nil, err
	}
	if err = c.Sender.keep(d.FS, in.dir, &m.Files); err != nil {
		return nil, nil, err
	}
	m.RecordSets = []RecordSet{set}
	m.Snapshot, m.Edited, m.DeleteList = in.snapshot.input, in.copies(), in.list
	m.Snapshot.Records = res.Records.Snapshot
	for _, k := range m.inputs() {
		c.InPlace.partial(k)
	}
	for i, e := range m.Edited {
		if e.Records = res.Records.Edited; len(res.Copies) > 0 {
			e.Records = res.Copies[i].Records.Edited
		}
	}
	m.Findings, err = WriteFindings(d.FS, in.dir, res.Findings)
	return m, res, err
}

// partial notes what of a table is in its file.
func (p *InPlace) partial(in *Input) {
	if p != nil {
		at := p.At.UTC()
		in.At, in.Alike = &at, p.Alike.Records
	}
}

// source is what a change set says of an input.
func (p *InPlace) source(in *Input, s *changeset.Source) {
	if s.SHA256 = in.SHA256; p != nil {
		s.SHA256, s.At = "", p.At.UTC().Format(time.RFC3339)
	}
}

// told is what the comparison was told, as the dossier keeps it.
func (c *Comparison) told() *Options {
	o := &c.Options
	m := &Options{Missing: orDefault(o.Missing), Blank: orDefault(o.Blank), SavedIn: o.SavedIn, DayOrder: o.DayOrder, OtherRegister: o.OtherRegister, Derive: c.Derivation}
	for _, a := range o.Allow {
		m.Allow = append(m.Allow, a.String())
	}
	if !o.Wear {
		m.Wear = "off"
	}
	if o.Slips != compare.SlipsHold {
		m.Slips = o.Slips
	}
	return m
}

func orDefault(s string) string {
	if s == "" {
		return compare.Held
	}
	return s
}

// Preview compares two files and keeps nothing of them. It is the comparison
// that Compare makes, on the files where they are.
func (d *Desk) Preview(ctx context.Context, c *Comparison) (*compare.Result, error) {
	in := &inputs{fsys: d.FS}
	defer in.close()
	if err := in.ready(ctx, c); err != nil {
		return nil, err
	}
	sum := sync.OnceValues(in.snapshot.SHA256)
	return d.previewReady(ctx, c, in, sum)
}

// previewReady compares what is open, and keeps nothing.
func (d *Desk) previewReady(ctx context.Context, c *Comparison, in *inputs, sum func() (string, error)) (*compare.Result, error) {
	d.lookBack(c, in.snapshot.Table, func() string { s, _ := sum(); return s }) // a file that cannot be read fails the comparison
	o := c.Options
	o.Digest = sum
	res, err := compare.RunCopies(ctx, in.snapshot.image(), in.images(), o, c.Sink)
	if err != nil {
		return nil, err
	}
	for _, k := range in.kept() {
		if k.input.Path != "" && !k.Unchanged(d.FS, k.input.Path) {
			return nil, &fs.PathError{Op: "read", Path: k.input.Path, Err: disk.ErrChanged}
		}
	}
	return res, nil
}

// OpenSource opens a source without keeping it.
func OpenSource(fsys disk.FS, s *Source) (*Table, error) {
	if s.Path != "" {
		return OpenTable(fsys, s.Path, s.Name, s.options())
	}
	tmp, err := os.CreateTemp("", "paletwin-")
	if err != nil {
		return nil, err
	}
	defer os.Remove(tmp.Name()) // once mapped, its name is not needed
	if _, err := tmp.ReadFrom(s.Stream); err != nil {
		_ = tmp.Close() // the first error counts
		return nil, err
	}
	if err := tmp.Close(); err != nil {
		return nil, err
	}
	return OpenTable(fsys, tmp.Name(), s.Name, s.options())
}

// inputs are the files of a comparison, kept in the draft.
type inputs struct {
	fsys     disk.FS
	dir      string // the draft's; "" keeps nothing
	snapshot *kept
	edited   []*kept // by their digests, where there are several
	list     *Input
	listed   []byte        // the list's bytes
	layout   *Layout       // or nil
	hashed   chan struct{} // closed when the inputs' digests are there
}

// ready opens what a comparison compares, and settles its options.
func (in *inputs) ready(ctx context.Context, c *Comparison) error {
	in.use(c)
	if err := in.take(ctx, c); err != nil {
		return err
	}
	if err := c.settle(ctx, in); err != nil {
		return err
	}
	return c.lost(in)
}

// use takes the comparison's layout.
func (in *inputs) use(c *Comparison) {
	if c.Layout != nil {
		c.Options.Layout = c.Layout.Layout
		in.layout = c.Layout
	}
	if c.Options.Alike = nil; c.InPlace != nil {
		c.Options.Alike = &c.InPlace.Alike
	}
}

// snapshotDigest waits for the snapshot's digest.
func (in *inputs) snapshotDigest() string {
	<-in.hashed
	return in.snapshot.input.SHA256
}

// kept is an input in the draft, open.
type kept struct {
	*Table
	input *Input
}

func (k *kept) image() *table.Image {
	if k == nil {
		return nil
	}
	return k.Image
}

// kept lists the tables that are open.
func (in *inputs) kept() []*kept {
	return slices.DeleteFunc(append([]*kept{in.snapshot}, in.edited...), func(k *kept) bool { return k == nil })
}

// copies are the edited copies, as the dossier has them.
func (in *inputs) copies() (all Copies) {
	for _, k := range in.edited {
		all = append(all, k.input)
	}
	return all
}

// images are the edited copies' tables.
func (in *inputs) images() (all []*table.Image) {
	for _, k := range in.edited {
		all = append(all, k.Image)
	}
	return all
}

func (in *inputs) close() {
	for _, k := range in.kept() {
		_ = k.Close() // only read
	}
}

// take copies the files into the draft and opens the copies, so that what is
// compared is what is kept.
func (in *inputs) take(ctx context.Context, c *Comparison) (err error) {
	if in.snapshot == nil {
		if in.snapshot, err = in.open(&c.Snapshot, "snapshot"); err != nil {
			return err
		}
	}
	switch {
	case len(in.edited) > 0: // they were opened before
	case c.Derive != nil:
		if err := in.derive(ctx, c); err != nil {
			return err
		}
	case c.Edited != nil:
		if err := in.takeCopies(c); err != nil {
			return err
		}
	}
	if c.DeleteList != nil {
		return in.takeList(c.DeleteList)
	}
	return nil
}

// takeCopies opens the copies. Several are put into the order of their digests, and those that
// are the same file are one.
func (in *inputs) takeCopies(c *Comparison) error {
	for n, s := range c.Copies() {
		stem := "edited"
		if len(c.More) > 0 {
			stem = fmt.Sprint("edited-", n+1)
		}
		k, err := in.open(s, stem)
		if err != nil {
			return err
		}
		in.edited = append(in.edited, k)
	}
	if len(in.edited) == 1 {
		return nil
	}
	if err := hash(in.edited); err != nil {
		return err
	}
	slices.SortFunc(in.edited, func(a, b *kept) int {
		return cmp.Or(strings.Compare(a.input.SHA256, b.input.SHA256), strings.Compare(a.input.Name, b.input.Name))
	})
	one := in.edited[:1]
	for _, k := range in.edited[1:] {
		first := one[len(one)-1]
		if k.input.SHA256 != first.input.SHA256 {
			one = append(one, k)
			continue
		}
		f := changeset.CopyTwice.Finding("%s is the same file as %s: it counts once", k.input.Name, first.input.Name)
		if k.input.Name == first.input.Name {
			f = changeset.CopyTwice.Finding("%s was named twice: it counts once", k.input.Name)
		}
		f.File = k.input.Name
		c.Options.Findings = append(c.Options.Findings, f)
		if err := in.drop(k); err != nil {
			return err
		}
	}
	in.edited = one
	return nil
}

// drop takes a file out of the draft again.
func (in *inputs) drop(k *kept) error {
	if err := k.Close(); err != nil || in.dir == "" {
		return err
	}
	return in.fsys.Remove(filepath.Join(in.dir, k.input.File))
}

// takeList reads the list of records to delete, and keeps it.
func (in *inputs) takeList(s *Source) (err error) {
	if in.dir != "" {
		if in.list, err = in.keep(s, "delete-list"); err == nil {
			in.listed, err = disk.ReadFile(in.fsys, filepath.Join(in.dir, in.list.File))
		}
		return err
	}
	in.list = &Input{Name: s.Name, Path: filepath.ToSlash(s.Path)}
	if s.Path != "" {
		in.listed, err = disk.ReadFile(in.fsys, s.Path)
	} else {
		in.listed, err = io.ReadAll(s.Stream)
	}
	return err
}

// derive has the edited state written, and opens it.
func (in *inputs) derive(ctx context.Context, c *Comparison) error {
	input := &Input{File: "edited.csv", Name: c.Edited.Name}
	_, err := disk.WriteUnsummed(in.fsys, filepath.Join(in.dir, input.File), 0o600, func(w io.Writer) (err error) {
		c.Options.Findings, err = c.Derive(ctx, in.snapshot.image(), w)
		return err
	})
	if err != nil {
		return err
	}
	t, err := OpenTable(in.fsys, filepath.Join(in.dir, input.File), input.Name, in.layout.Reading(table.Options{Known: table.Found{Nulls: in.snapshot.Found.Nulls}}, false))
	if err != nil {
		return err
	}
	input.Found, input.Size = t.Found, int64(len(t.m.Data))
	in.edited = []*kept{{t, input}}
	return nil
}

func (in *inputs) open(s *Source, stem string) (*kept, error) {
	o := in.layout.Reading(s.options(), stem == "snapshot")
	var of []string
	if in.snapshot != nil {
		of = in.snapshot.Heading
	}
	if in.layout == nil || in.layout.Shape == (layout.Shape{}) { // one in another shape has other headings
		o.Knows = in.layout.knows(o.Columns, of)
	}
	if in.dir == "" {
		from := *s
		from.Options = o
		t, err := OpenSource(in.fsys, &from)
		if err != nil {
			return nil, err
		}
		return &kept{t, &Input{Name: s.Name, Path: filepath.ToSlash(s.Path)}}, nil
	}
	input, err := in.keep(s, stem)
	if err != nil {
		return nil, err
	}
	t, err := OpenTable(in.fsys, filepath.Join(in.dir, input.File), s.Name, o)
	if err != nil {
		return nil, err
	}
	input.Found, input.Size, input.Options = t.Found, int64(len(t.m.Data)), s.Options.Kept()
	return &kept{t, input}, nil
}

// keep puts a file into the draft as it came.
func (in *inputs) keep(s *Source, stem string) (*Input, error) {
	ext := filepath.Ext(s.Path)
	if ext == "" {
		ext = ".csv"
	}
	input := &Input{File: stem + ext, Name: s.Name, Path: filepath.ToSlash(s.Path)}
	to := filepath.Join(in.dir, input.File)
	if s.Path != "" {
		return input, disk.Copy(in.fsys, s.Path, to)
	}
	_, err := disk.WriteUnsummed(in.fsys, to, 0o600, func(w io.Writer) error {
		_, err := io.Copy(w, s.Stream)
		return err
	})
	return input, err
}

// settle completes the options: the key, and the delete list.
func (c *Comparison) settle(ctx context.Context, in *inputs) (err error) {
	if len(c.Options.Key) == 0 {
		if c.Options.Key, err = c.ChooseKey(ctx, in.snapshot.image(), in.firstImage()); err != nil {
			return err
		}
	}
	if in.list == nil {
		return nil
	}
	b := in.listed
	name := c.DeleteList.Name
	if sheet := c.DeleteList.Options.Sheet; sheet != "" {
		name += "#" + sheet
	}
	list, err := compare.ReadKeyList(name, b, c.Options.Key, c.Options.Layout)
	if err != nil {
		return err
	}
	if c.Options.DeleteList = list; c.Keep {
		c.Options.DeleteList, c.Options.KeepList = nil, list
	}
	sum := sha256.Sum256(b)
	in.list.SHA256, in.list.Size, in.list.Records = hex.EncodeToString(sum[:]), int64(len(b)), list.Len()
	return nil
}

// compare compares the kept files and writes the change set to w, hashing
// the very bytes that are compared meanwhile.
func (in *inputs) compare(ctx context.Context, c *Comparison, w io.Writer) (*compare.Result, string, error) {
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(in.hashed)
		return hash(in.kept())
	})
	var res *compare.Result
	var seal string
	h := in.header(c)
	o := c.Options
	o.Digest = func() (string, error) { return in.snapshotDigest(), nil }
	o.Counted = func(snapshot int, edited []int) {
		h.Snapshot.Records = snapshot
		for i, n := range edited {
			h.Edited[i].Records = n
		}
	}
	g.Go(func() (err error) {
		s := &sink{hashed: in.hashed, open: func() (*changeset.Writer, error) {
			c.InPlace.source(in.snapshot.input, &h.Snapshot)
			for i, e := range in.changed() {
				c.InPlace.source(e, &h.Edited[i])
			}
			return changeset.NewWriter(w, h)
		}}
		if res, err = compare.RunCopies(ctx, in.snapshot.image(), in.images(), o, s); err != nil {
			return err
		}
		seal, err = s.close()
		return err
	})
	err := g.Wait()
	return res, seal, err
}

// hash fills the digests of inputs that have none yet, all at once.
func hash(all []*kept) error {
	var g errgroup.Group
	for _, k := range all {
		if k.input.SHA256 != "" {
			continue
		}
		g.Go(func() error {
			var err error
			k.input.SHA256, err = k.Table.SHA256()
			return err
		})
	}
	return g.Wait()
}

// changed is what the snapshot is compared with: the copies, or the list
// of records to delete.
func (in *inputs) changed() []*Input {
	if len(in.edited) > 0 {
		return in.copies()
	}
	return []*Input{in.list}
}

// firstImage is the table of the first copy, or nil.
func (in *inputs) firstImage() *table.Image {
	if len(in.edited) > 0 {
		return in.edited[0].Image
	}
	return nil
}

// header is the change set's heading but for digests and counts.
func (in *inputs) header(c *Comparison) changeset.Header {
	h := changeset.Header{RecordSet: c.Options.RecordSet, Key: c.Options.Key, Fields: in.snapshot.Heading, Options: c.told(),
		Snapshot: changeset.Source{Name: in.snapshot.input.Name}}
	for _, e := range in.changed() {
		h.Edited = append(h.Edited, changeset.Source{Name: e.Name})
	}
	return h
}

// sink opens the change set's writer once the digests that its heading needs
// are there.
type sink struct {
	hashed <-chan struct{}
	open   func() (*changeset.Writer, error)
	w      *changeset.Writer
}

func (s *sink) writer() (_ *changeset.Writer, err error) {
	if s.w == nil {
		<-s.hashed
		s.w, err = s.open()
	}
	return s.w, err
}

func (s *sink) WriteEncoded(lines []byte, changes []*changeset.Change) error {
	w, err := s.writer()
	if err != nil {
		return err
	}
	return w.WriteEncoded(lines, changes)
}

func (s *sink) close() (string, error) {
	w, err := s.writer()
	if err != nil {
		return "", err
	}
	seal, err := w.Close()
	return seal.Seal, err
}
