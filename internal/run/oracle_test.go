package run

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/open"
	"paletwin/internal/desk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/target/file"
	"paletwin/internal/thorough"
)

// rows are the records of the oracle: by key, their values by field, a field
// that is not there being empty.
type rows map[string]map[string]string

func (r rows) clone() rows {
	c := rows{}
	for k, v := range r {
		c[k] = maps.Clone(v)
	}
	return c
}

// world is one random case: a register as people have them, an edited copy of
// it, what was asked for, and what others did meanwhile.
type world struct {
	*rand.Rand
	fields   []string // k first
	order    []string // of the records
	records  rows
	json     bool
	comma    string
	ends     []string
	encoding string
}

var oracleValues = []string{"", "", "a", "b", "8.0", "12.50", "x,y", "x;y", `q"q`, "l1\nl2", " sp ", "é", "Å", "Ł", "0012", "NULL", "\t", "=1+2", "true", "5", "-0", "{}", "日本"}

func (w *world) value() string { return oracleValues[w.IntN(len(oracleValues))] }

func newWorld(seed uint64) *world {
	w := &world{Rand: rand.New(rand.NewPCG(seed, 1)), fields: []string{"k", "v", "w", "n"}, records: rows{}}
	w.json = w.IntN(3) == 0
	w.comma = []string{",", ";", "\t"}[w.IntN(3)]
	w.ends = [][]string{{"\n"}, {"\r\n"}, {"\n", "\r\n"}}[w.IntN(3)]
	w.encoding = []string{"utf-8", "utf-8", "bom", "windows-1252", "windows-1252", "utf-16le"}[w.IntN(6)]
	if w.json {
		w.encoding, w.ends = "utf-8", w.ends[:1]
	}
	for i := range 3 + w.IntN(10) {
		k := fmt.Sprintf("%03d", i*7+w.IntN(7))
		w.order = append(w.order, k)
		w.records[k] = map[string]string{"k": k}
		for _, f := range w.fields[1:] {
			if v := w.value(); w.fits(v) {
				w.records[k][f] = v
			}
		}
	}
	w.Shuffle(len(w.order), func(i, j int) { w.order[i], w.order[j] = w.order[j], w.order[i] })
	return w
}

// fits reports whether the register's encoding has all letters of a value.
func (w *world) fits(v string) bool {
	if w.encoding != "windows-1252" {
		return true
	}
	_, err := charmap.Windows1252.NewEncoder().String(v)
	return err == nil
}

func (w *world) cell(v string) string {
	if strings.ContainsAny(v, "\"\n\r"+w.comma) || w.IntN(4) == 0 && v != "" {
		return `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
	}
	return v
}

// line is a record on a line of the register, without its line end.
func (w *world) line(r map[string]string) string {
	var parts []string
	for _, f := range w.fields {
		if !w.json {
			parts = append(parts, w.cell(r[f]))
			continue
		}
		v, _ := json.Marshal(r[f])
		switch {
		case r[f] == "" && f != "k":
			if w.IntN(3) == 0 {
				continue
			}
			v = []byte([]string{`""`, "null"}[w.IntN(2)])
		case f == "n" && (r[f] == "5" || r[f] == "12.50" || r[f] == "8.0"):
			v = []byte(r[f])
		}
		parts = append(parts, fmt.Sprintf("%q:%s%s", f, []string{"", " "}[w.IntN(2)], v))
	}
	if w.json {
		return "{" + strings.Join(parts, ",") + "}"
	}
	return strings.Join(parts, w.comma)
}

// bytes writes the register.
func (w *world) bytes() []byte {
	var b strings.Builder
	end := func() { b.WriteString(w.ends[w.IntN(len(w.ends))]) }
	if !w.json {
		b.WriteString(strings.Join(w.fields, w.comma))
		end()
	}
	for i, k := range w.order {
		b.WriteString(w.line(w.records[k]))
		if i < len(w.order)-1 || w.IntN(3) > 0 {
			end()
		}
		if i < len(w.order)-1 && w.IntN(8) == 0 {
			end()
		}
	}
	return w.encode(b.String())
}

func (w *world) encode(s string) []byte {
	switch w.encoding {
	case "bom":
		return []byte("\ufeff" + s)
	case "windows-1252":
		out, err := charmap.Windows1252.NewEncoder().String(s)
		if err != nil {
			panic(err)
		}
		return []byte(out)
	case "utf-16le":
		out, _ := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(s)
		return []byte(out)
	}
	return []byte(s)
}

// edit makes the edited copy: the records with their fields, in the copy's
// order, and the fields that the copy has.
func (w *world) edit() (order []string, edited rows, fields []string) {
	edited = w.records.clone()
	order = slices.Clone(w.order)
	fields = slices.Clone(w.fields)
	if w.IntN(4) == 0 {
		fields = slices.Delete(fields, 2, 3)
	}
	for _, k := range w.order {
		switch w.IntN(4) {
		case 0:
			edited[k][w.fields[1+w.IntN(3)]] = w.value()
		case 1:
			if w.IntN(3) == 0 && len(edited) > 2 {
				delete(edited, k)
				order = slices.DeleteFunc(order, func(o string) bool { return o == k })
			}
		}
	}
	for i := range w.IntN(3) {
		k := "new" + strconv.Itoa(i)
		edited[k] = map[string]string{"k": k, "v": w.value(), "w": w.value(), "n": w.value()}
		order = append(order, k)
	}
	if w.IntN(2) == 0 {
		w.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
	}
	return order, edited, fields
}

// readRows reads a register with the tool's readers.
func readRows(t require.TestingT, data []byte) rows {
	m, err := open.Open("r", data, table.Options{})
	require.NoError(t, err)
	all := rows{}
	for sc := csv.Body(m); ; {
		ok, err := sc.Next()
		require.NoError(t, err)
		if !ok {
			return all
		}
		if csv.BlankRow(sc.Raw(), m.Comma) {
			continue
		}
		r := map[string]string{}
		for _, f := range csv.Record(m, sc.Raw()) {
			r[f.Name] = f.Value.String()
		}
		all[r["k"]] = r
	}
}

func alike(a, b map[string]string) bool {
	for _, f := range []string{"k", "v", "w", "n"} {
		if a[f] != b[f] {
			return false
		}
	}
	return true
}

func sameRows(a, b rows) string {
	for k := range a {
		if b[k] == nil || !alike(a[k], b[k]) {
			return fmt.Sprintf("%s: %q and %q", k, a[k], b[k])
		}
	}
	for k := range b {
		if a[k] == nil {
			return fmt.Sprintf("%s: nothing and %q", k, b[k])
		}
	}
	return ""
}

// wish is what the oracle makes of the copy: the change of each record.
type wish struct {
	act  changeset.Act
	to   map[string]string // of an amend the fields that change; of an add all
	from map[string]string
}

// wishes is the oracle: what follows from a copy, field by field.
func wishes(snapshot, edited rows, fields []string, o *compare.Options) map[string]wish {
	all := map[string]wish{}
	allows := func(a changeset.Act) bool { return len(o.Allow) == 0 || slices.Contains(o.Allow, a) }
	for k, was := range snapshot {
		is, there := edited[k]
		if !there {
			if o.Missing != compare.Ignore && allows(changeset.Delete) {
				all[k] = wish{act: changeset.Delete, from: was}
			}
			continue
		}
		to := map[string]string{}
		for _, f := range fields {
			if was[f] != is[f] && (is[f] != "" || o.Blank != compare.Ignore) {
				to[f] = is[f]
			}
		}
		if len(to) > 0 && allows(changeset.Amend) {
			all[k] = wish{act: changeset.Amend, to: to, from: was}
		}
	}
	for k, is := range edited {
		if snapshot[k] == nil && allows(changeset.Add) {
			to := map[string]string{}
			for _, f := range fields {
				to[f] = is[f]
			}
			all[k] = wish{act: changeset.Add, to: to}
		}
	}
	return all
}

// carry is the oracle of a run: what the target has afterwards, and what
// becomes of each record.
func (w *world) carry(target rows, all map[string]wish) (rows, map[string]Outcome) {
	after, outcome := target.clone(), map[string]Outcome{}
	for k, x := range all {
		now, there := target[k]
		settled, clean := true, true
		switch x.act {
		case changeset.Amend:
			for f, to := range x.to {
				settled = settled && now[f] == to
				clean = clean && (now[f] == to || now[f] == x.from[f])
			}
			clean = clean && there
		case changeset.Delete:
			settled, clean = !there, there && alike(now, x.from)
		case changeset.Add:
			settled = there
			for f, to := range x.to {
				settled = settled && now[f] == to
			}
			clean = !there
		}
		fits := true
		for f, to := range x.to {
			if x.act == changeset.Add || now[f] != to {
				fits = fits && w.fits(to)
			}
		}
		switch {
		case settled && (there || x.act == changeset.Delete):
			outcome[k] = Settled
		case !clean:
			outcome[k] = Conflict
		case !fits:
			outcome[k] = Refused
		default:
			outcome[k] = Done
			switch x.act {
			case changeset.Delete:
				delete(after, k)
			case changeset.Add:
				after[k] = maps.Clone(x.to)
			default:
				maps.Copy(after[k], x.to)
			}
		}
	}
	return after, outcome
}

// lines are the register's lines in UTF-8, by key, in order; blank ones and the
// heading are left out.
func (w *world) lines(t require.TestingT, data []byte) (order []string, byKey map[string]string) {
	byKey = map[string]string{}
	m, err := open.Open("r", data, table.Options{})
	require.NoError(t, err)
	if w.json {
		for line := range bytes.Lines(data) {
			r := map[string]any{}
			if text := bytes.TrimSpace(line); len(text) > 0 {
				require.NoError(t, json.Unmarshal(text, &r))
				order, byKey[r["k"].(string)] = append(order, r["k"].(string)), string(text)
			}
		}
		return order, byKey
	}
	for sc := csv.Body(m); ; {
		ok, err := sc.Next()
		require.NoError(t, err)
		if !ok {
			return order, byKey
		}
		if !csv.BlankRow(sc.Raw(), m.Comma) {
			k := record.KeyOf(csv.AppendKey(nil, sc.Raw(), []int{0}, m.Comma)).String()
			order, byKey[k] = append(order, k), string(sc.Raw())
		}
	}
}

// untouched checks that rows which were not written have their bytes, and in
// rows that were, the cells that do not change.
func (w *world) untouched(t require.TestingT, before, after []byte, all map[string]wish, outcome map[string]Outcome) {
	orderWas, was := w.lines(t, before)
	orderIs, is := w.lines(t, after)
	stay := func(order []string) []string {
		return slices.DeleteFunc(slices.Clone(order), func(k string) bool { return outcome[k] == Done && all[k].act != changeset.Amend })
	}
	require.Equal(t, stay(orderWas), stay(orderIs), "the order of rows")
	for k, line := range was {
		if outcome[k] != Done {
			require.Equal(t, line, is[k])
			continue
		}
		if all[k].act != changeset.Amend || w.json {
			continue
		}
		old, now := csv.Split(nil, []byte(line), w.comma[0]), csv.Split(nil, []byte(is[k]), w.comma[0])
		for i, f := range w.fields {
			if _, changes := all[k].to[f]; !changes {
				require.Equal(t, string(old[i]), string(now[i]), "%s %s", k, f)
			}
		}
	}
}

// others changes the register as a colleague would: some values, a record that
// goes; only the lines of these change.
// Some write what the update wants, too.
func (w *world) others(t require.TestingT, data []byte, most int, all map[string]wish) (now []byte, touched []string) {
	text := string(data)
	switch w.encoding {
	case "windows-1252":
		text, _ = charmap.Windows1252.NewDecoder().String(text)
	case "utf-16le":
		text, _ = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().String(text)
	case "bom":
		text = strings.TrimPrefix(text, "\ufeff")
	}
	_, lines := w.lines(t, data)
	have := readRows(t, data)
	for _, k := range slices.Sorted(maps.Keys(have)) {
		if len(touched) == most || w.IntN(4) > 0 {
			continue
		}
		r := maps.Clone(have[k])
		if x := all[k]; x.act == changeset.Amend && w.IntN(2) == 0 {
			for f, to := range x.to {
				if w.fits(to) {
					r[f] = to
				}
			}
		} else {
			r[w.fields[1+w.IntN(3)]] = "theirs"
		}
		line := w.line(r)
		if strings.Count(text, lines[k]) != 1 {
			continue
		}
		text = strings.Replace(text, lines[k], line, 1)
		touched = append(touched, k)
	}
	return w.encode(text), touched
}

// TestOracle draws registers, edits, flags, encodings and what others do, and
// holds the change set, the target after a run and after its rollback against
// what plain maps say. PALETWIN_SEED repeats a run of it, PALETWIN_CASES says
// how many.
func TestOracle(t *testing.T) {
	seed, cases := uint64(time.Now().UnixNano()), thorough.Few(2000, 500)
	if text := os.Getenv("PALETWIN_SEED"); text != "" {
		n, err := strconv.ParseUint(text, 10, 64)
		require.NoError(t, err)
		seed = n
	}
	if n, err := strconv.Atoi(os.Getenv("PALETWIN_CASES")); err == nil {
		cases = n
	}
	t.Logf("PALETWIN_SEED=%d", seed)
	const shards = 2
	var mu sync.Mutex
	counts := map[Outcome]int{}
	t.Run("cases", func(t *testing.T) {
		for shard := range uint64(shards) {
			t.Run(fmt.Sprint(shard), func(t *testing.T) {
				t.Parallel()
				for i := shard; i < uint64(cases); i += shards {
					ok := t.Run(fmt.Sprintf("seed %d", seed+i), func(t *testing.T) {
						for o, n := range oracleCase(t, seed+i) {
							mu.Lock()
							counts[o] += n
							mu.Unlock()
						}
					})
					if !ok {
						t.Fatalf("PALETWIN_SEED=%d PALETWIN_CASES=1 repeats it", seed+i)
					}
				}
			})
		}
	})
	t.Log(counts)
	for _, o := range []Outcome{Done, Settled, Conflict, Refused} {
		if cases >= 1000 {
			require.Greater(t, counts[o], cases/50, o)
		}
	}
}

func oracleCase(t *testing.T, seed uint64) map[Outcome]int {
	counts := map[Outcome]int{}
	w := newWorld(seed)
	snapshot := w.bytes()
	if w.encoding == "windows-1252" && !bytes.ContainsFunc(snapshot, func(r rune) bool { return r >= 0x80 }) {
		w.encoding = "utf-8" // as far as anybody can tell
	}
	require.Empty(t, sameRows(w.records, readRows(t, snapshot)), "the register reads back")
	order, edited, fields := w.edit()
	copied := []byte(strings.Join(fields, ","))
	for _, k := range order {
		copied = append(copied, '\n')
		for i, f := range fields {
			if i > 0 {
				copied = append(copied, ',')
			}
			copied = csv.AppendCell(copied, edited[k][f], ',', w.IntN(3) == 0)
		}
	}
	copied = append(copied, '\n')

	dir := t.TempDir()
	b := newBench(t, dir, faulty.NoSync{}, snapshot)
	c := b.comparison(desk.Source{Name: "s", Stream: bytes.NewReader(snapshot)}, copied)
	c.Options.Missing = []string{compare.Held, compare.Asked, compare.Ignore}[w.IntN(3)]
	c.Options.Blank = []string{compare.Held, compare.Clear, compare.Ignore}[w.IntN(3)]
	if w.IntN(4) == 0 {
		c.Options.Allow = []changeset.Act{changeset.Amend, changeset.Act(1 + w.IntN(3))}
	}
	d, _, err := b.desk.Compare(ctx(), c)
	require.NoError(t, err)
	known := slices.DeleteFunc(slices.Clone(fields), func(f string) bool { // a column that only the copy has is not compared
		return w.json && !bytes.Contains(snapshot, []byte(`"`+f+`"`))
	})
	all := wishes(w.records, edited, known, &c.Options)
	checkChanges(t, d, all)
	b.approve(d)

	before, _ := w.others(t, snapshot, 3, all)
	require.NoError(t, os.WriteFile(b.register, before, 0o644))
	want, outcome := w.carry(readRows(t, before), all)
	o := Options{Read: table.Options{}}
	rep, err := b.applyKnowing(d, o)
	require.NoError(t, err)
	for _, s := range rep.Attempted {
		require.Equal(t, outcome[s.Key.String()], s.Outcome, "%s %s: %s", s.Act, s.Key, s.Reason)
		counts[s.Outcome]++
	}
	require.Len(t, rep.Attempted, len(all))
	after := []byte(b.bytes())
	require.Empty(t, sameRows(want, readRows(t, after)), "after the run")
	w.untouched(t, before, after, all, outcome)
	if rep.Verify != nil {
		require.True(t, rep.Verify.Holds(), "%+v", rep.Verify.Differences)
	}
	require.Empty(t, Check(d))
	if rep.Steps.Done == 0 {
		return counts
	}
	var touched []string
	if w.IntN(3) == 0 {
		var later []byte
		later, touched = w.others(t, after, 1, nil)
		require.NoError(t, os.WriteFile(b.register, later, 0o644))
		after = later
	}
	back := b.rollbackKnowing(d)
	_, err = b.applyKnowing(back, o)
	require.NoError(t, err)
	if len(touched) == 0 {
		require.Equal(t, string(before), b.bytes(), "the rollback gives the bytes of before")
		return counts
	}
	have, then, theirs := readRows(t, []byte(b.bytes())), readRows(t, before), readRows(t, after)
	for k := range have {
		if slices.Contains(touched, k) {
			for f, v := range theirs[k] {
				require.True(t, have[k][f] == v || have[k][f] == then[k][f], "%s %s", k, f)
				if v == "theirs" {
					require.Equal(t, v, have[k][f], "what others wrote stays: %s %s", k, f)
				}
			}
		} else {
			require.True(t, then[k] != nil && alike(then[k], have[k]), "%s: %q and %q", k, then[k], have[k])
		}
	}
	return counts
}

// checkChanges holds a change set against what the oracle says.
func checkChanges(t require.TestingT, d *desk.Dossier, all map[string]wish) {
	c, err := d.Changes()
	require.NoError(t, err)
	defer c.Close()
	n := 0
	for ch, err := range c.Changes() {
		require.NoError(t, err)
		n++
		x, there := all[ch.Key.String()]
		require.True(t, there, "%s %s is not to be changed", ch.Act, ch.Key)
		require.Equal(t, x.act, ch.Act, ch.Key)
		switch ch.Act {
		case changeset.Amend:
			require.Len(t, ch.Fields, len(x.to), "%s: %v and %v", ch.Key, ch.Fields, x.to)
			for _, f := range ch.Fields {
				require.Equal(t, x.to[f.Field], f.To.String())
				require.Equal(t, x.from[f.Field], f.From.String())
			}
		case changeset.Add:
			for _, f := range ch.Record {
				require.Equal(t, x.to[f.Name], f.Value.String())
			}
		}
	}
	require.Equal(t, len(all), n)
}

// applyKnowing is apply with what the dossier and its runs know of the target,
// as the command opens it.
func (b *bench) applyKnowing(d *desk.Dossier, o Options) (*Report, error) {
	last, err := LastTarget(d)
	require.NoError(b.t, err)
	known, err := KnownOf(d, last, b.register)
	require.NoError(b.t, err)
	f, err := openFile(b, table.Options{Known: known})
	if err != nil {
		return nil, err
	}
	defer f.Close()
	o.OtherTarget = true
	rep, err := Apply(ctx(), &Job{Dossier: d, Target: f, By: "petr", Now: clock, Options: o})
	if err == nil && rep.Run > 0 {
		b.isRead(d, rep)
	}
	return rep, err
}

// isRead holds the steps that a run has at its end against those that are read of it.
func (b *bench) isRead(d *desk.Dossier, rep *Report) {
	r, err := ReadRun(d, rep.Run)
	require.NoError(b.t, err)
	lines := func(steps []*Step) (all []string) {
		for _, s := range steps {
			var l line
			s.known(&l)
			all = append(all, string(l))
		}
		slices.Sort(all)
		return all
	}
	require.Equal(b.t, lines(r.Steps), lines(rep.Attempted))
}

func openFile(b *bench, o table.Options) (*file.File, error) {
	return file.Open(b.fs, b.register, []string{"k"}, new(schema.Schema), o)
}

func (b *bench) rollbackKnowing(d *desk.Dossier) *desk.Dossier {
	last, err := LastTarget(d)
	require.NoError(b.t, err)
	known, err := KnownOf(d, last, b.register)
	require.NoError(b.t, err)
	f, err := openFile(b, table.Options{Known: known})
	require.NoError(b.t, err)
	defer f.Close()
	back, err := Rollback(ctx(), d, f, Undo{By: "petr", Now: clock})
	require.NoError(b.t, err)
	_, err = back.Decide(&desk.Order{Decision: changeset.Approve, By: "petr", When: clock()})
	require.NoError(b.t, err)
	return back
}
