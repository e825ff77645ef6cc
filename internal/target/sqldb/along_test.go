package sqldb

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/desk"
	carry "paletwin/internal/run"
	"paletwin/internal/target"
)

// family is a table with others that refer to it, and to those.
func (d *db) family() (aids string, all func() string) {
	aids = d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20), station varchar(10) UNIQUE)")
	visits := d.table("(n integer NOT NULL PRIMARY KEY, aid varchar(10), crew varchar(10), FOREIGN KEY (aid) REFERENCES " + aids + " (k) ON DELETE CASCADE ON UPDATE CASCADE)")
	notes := d.table("(visit integer, line varchar(20), FOREIGN KEY (visit) REFERENCES " + visits + " (n) ON DELETE CASCADE)")
	crews := d.table("(name varchar(10) NOT NULL PRIMARY KEY, home varchar(10), FOREIGN KEY (home) REFERENCES " + aids + " (k) ON DELETE SET NULL ON UPDATE CASCADE)")
	lamps := d.table("(id integer NOT NULL PRIMARY KEY, aid varchar(10), FOREIGN KEY (aid) REFERENCES " + aids + " (k))")
	d.fill(aids, []string{"1", "a", "s1"}, []string{"2", "b", "s2"}, []string{"3", "c", "s3"}, []string{"4", "d", "NULL"}, []string{"5", "e", "s5"})
	d.fill(visits, []string{"10", "1", "A"}, []string{"11", "1", "C"}, []string{"12", "2", "B"})
	d.fill(notes, []string{"10", "first"}, []string{"10", "NULL"}, []string{"12", "x"})
	d.fill(crews, []string{"A", "1"}, []string{"B", "3"}, []string{"C", "NULL"})
	d.fill(lamps, []string{"7", "5"})
	return aids, func() string {
		var b strings.Builder
		for _, t := range []string{aids, visits, notes, crews, lamps} {
			for _, r := range d.rows("SELECT * FROM " + t + " ORDER BY 1, 2") {
				b.WriteString(strings.Join(r, "|") + "\n")
			}
		}
		return b.String()
	}
}

func TestWhatRefersGoesAlongAndComesBack(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		aids, all := d.family()
		before := all()
		x := dossier(t, "k", d.taken(aids), "k,v,station\n4,d,\n") // 1, 2, 3 and 5 are deleted
		tgt := d.writable(aids, Options{Key: []string{"k"}, Of: d.schemaOf(x)})
		apply := func(o carry.Options) map[string]string {
			rep, err := carry.Apply(context.Background(), &carry.Job{Dossier: x, Target: tgt, By: "lina", Now: time.Now, Options: o})
			require.NoError(t, err)
			was := map[string]string{}
			for _, s := range rep.Attempted {
				was[s.Key.String()] = string(s.Outcome) + ": " + s.Reason
			}
			return was
		}
		was := apply(carry.Options{})
		for key, words := range map[string]string{"1": "refused: 2 records of .* refer to it, and would be deleted with it; 2 records of .* refer to it, and would be deleted with it; 1 record of .* refers to it, and would lose the reference",
			"2": "refused: 1 record of", "3": "refused: 1 record of .* refers to it, and would lose the reference", "5": "refused: .* says: .*"} {
			assert.Regexp(t, "(?i)^"+words, was[key], key)
		}
		assert.Equal(t, before, all())
		r, err := tgt.Write(t.Context(), []target.Step{{Act: changeset.Delete, Key: record.NewKey("1"), Record: record.Record{{Name: "v", Value: record.Text("a")}}}})
		require.NoError(t, err)
		assert.Equal(t, target.Refused, r[0].Fate, "who began to refer to it after it was looked at counts, too")
		assert.Equal(t, before, all())

		was = apply(carry.Options{Cascade: true})
		assert.Regexp(t, "^done: along with it: 2 records of .*, 2 records of .*, 1 record of", was["1"])
		assert.Regexp(t, "^done: along with it: 1 record of .*, 1 record of", was["2"])
		assert.Regexp(t, "^refused: .* says", was["5"], "what is restricted stays so")
		assert.Len(t, d.rows("SELECT * FROM "+aids), 2)

		x2, err := carry.Rollback(context.Background(), x, tgt, carry.Undo{By: "lina", Now: time.Now})
		require.NoError(t, err)
		approveAll(t, x2)
		x = x2
		for key, words := range apply(carry.Options{}) {
			assert.Equal(t, "done: ", words, key)
		}
		assert.Equal(t, before, all(), "all came back")
	})
}

// Of many records that are deleted at once, those to which others refer are found.
func TestWhoIsReferredToAmongMany(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		aids := d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20), a varchar(10), b integer, UNIQUE (a, b))")
		visits := d.table("(n integer NOT NULL PRIMARY KEY, aid varchar(10), FOREIGN KEY (aid) REFERENCES " + aids + " (k) ON DELETE CASCADE)")
		lamps := d.table("(n integer NOT NULL PRIMARY KEY, x varchar(10), y integer, FOREIGN KEY (x, y) REFERENCES " + aids + " (a, b) ON DELETE CASCADE)")
		for i := range 120 {
			d.fill(aids, []string{fmt.Sprintf("%03d", i), "a", "s", fmt.Sprint(i)})
		}
		d.fill(visits, []string{"1", "007"}, []string{"2", "007"}, []string{"3", "110"}, []string{"4", "NULL"})
		d.fill(lamps, []string{"1", "s", "31"}, []string{"2", "s", "NULL"}, []string{"3", "NULL", "5"})
		before := d.taken(aids)
		x := dossier(t, "k", before, strings.Join(rows(before)[:21], "\n")+"\n") // 020 and on are deleted, and 007 is not
		x2 := dossier(t, "k", before, rows(before)[0]+"\n")
		for _, c := range []struct {
			x       *desk.Dossier
			cascade bool
			refused []string
		}{{x, false, []string{"031", "110"}}, {x2, true, nil}} {
			tgt := d.writable(aids, Options{Key: []string{"k"}, Of: d.schemaOf(c.x)})
			rep, err := carry.Apply(context.Background(), &carry.Job{Dossier: c.x, Target: tgt, By: "lina", Now: time.Now, Options: carry.Options{Cascade: c.cascade, OtherTarget: true}})
			require.NoError(t, err)
			var refused []string
			along := 0
			for _, s := range rep.Attempted {
				if s.Outcome == carry.Refused {
					refused = append(refused, s.Key.String())
				}
				along += len(s.Rare().Along)
			}
			assert.Equal(t, c.refused, refused)
			assert.Equal(t, c.cascade, along > 0)
		}
		assert.Equal(t, [][]string{{"4", ""}}, d.rows("SELECT n, aid FROM "+visits))
	})
}

func TestKeyChangesTakeAlongWhatFollows(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		aids, all := d.family()
		before := all()
		tgt := d.writable(aids, Options{Key: []string{"k"}})
		values := map[string][2]string{"1": {"a", "s1"}, "2": {"b", "s2"}, "3": {"c", "s3"}, "5": {"e", "s5"}}
		step := func(act changeset.Act, key, was, link string) target.Step {
			s := target.Step{Act: act, Key: record.NewKey(key), Linked: link}
			of := values[was]
			if was != "" {
				s.Was = record.NewKey(was)
			} else {
				of = values[key]
			}
			s.Record = record.Record{{Name: "k", Value: record.Text(key)}, {Name: "v", Value: record.Text(of[0])}, {Name: "station", Value: record.Text(of[1])}}
			if act == changeset.Amend {
				s.Fields = []changeset.Edit{{Field: "v", From: record.Text(values[key][0]), To: record.Text(of[0])}, {Field: "station", From: record.Text(values[key][1]), To: record.Text(of[1])}}
			}
			return s
		}
		r, err := tgt.Write(t.Context(), []target.Step{
			step(changeset.Amend, "1", "2", "swap"), step(changeset.Amend, "2", "1", "swap"),
			step(changeset.Add, "8", "3", "new"), step(changeset.Delete, "3", "", "new"),
			step(changeset.Add, "6", "5", "kept"), step(changeset.Delete, "5", "", "kept"),
		})
		require.NoError(t, err)
		for i, fate := range []target.Fate{target.Done, target.Done, target.Done, target.Done, target.Refused, target.Refused} {
			assert.Equal(t, fate, r[i].Fate, r[i].Reason)
		}
		assert.Regexp(t, "^1 record of .* refers to it, and would keep the old key", r[4].Reason)
		id := func(k string) string { return map[string]string{"1": "2", "2": "1", "3": "8"}[k] }
		var want, got []string
		for _, l := range strings.Split(before, "\n") {
			cells := strings.Split(l, "|")
			switch len(cells) { // aids, and visits: both have three
			case 3:
				if cells[2] == "" || cells[2][0] == 's' {
					if n := id(cells[0]); n != "" {
						cells[0] = n
					}
				} else if n := id(cells[1]); n != "" {
					cells[1] = n
				}
			case 2:
				if n := id(cells[1]); n != "" && cells[0] >= "A" {
					cells[1] = n
				}
			}
			want = append(want, strings.Join(cells, "|"))
		}
		got = strings.Split(all(), "\n")
		assert.ElementsMatch(t, want, got)
	})
}
