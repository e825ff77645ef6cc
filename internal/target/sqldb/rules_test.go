package sqldb

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// simple makes a table of four records.
func (d *db) simple() string {
	table := d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20))")
	d.fill(table, []string{"1", "a"}, []string{"2", "b"}, []string{"3", "c"}, []string{"4", "d"})
	return table
}

func amend(key, field, from, to string) target.Step {
	return target.Step{Act: changeset.Amend, Key: record.NewKey(key), Fields: []changeset.Edit{{Field: field, From: record.Text(from), To: record.Text(to)}}}
}

// A ticket tells the same however often it is asked, and what was said never to be
// committed never is.
func TestTicketsAreAskedAgainAndAgain(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		d.exec("DROP TABLE IF EXISTS " + ticketTable) // what other tests left in it
		tgt := d.writable(d.simple(), Options{Key: []string{"k"}})
		ctx := t.Context()
		var all []json.RawMessage
		for _, end := range []string{"COMMIT", "ROLLBACK"} {
			require.NoError(t, run(ctx, tgt.s, tgt.e.begin()...))
			_, err := tgt.s.exec(ctx, "UPDATE "+tgt.table()+" SET v = '"+end+"'")
			require.NoError(t, err)
			k, err := tgt.e.draw(ctx, tgt.s, tgt.def, tgt.mark, "")
			require.NoError(t, err)
			require.NoError(t, run(ctx, tgt.s, end))
			all = append(all, k.json())
			for range 3 {
				fate, why, err := tgt.Fate(ctx, k.json())
				require.NoError(t, err)
				assert.Equal(t, map[string]target.Fate{"COMMIT": target.Done, "ROLLBACK": target.Refused}[end], fate, why)
			}
		}
		require.NoError(t, tgt.Settled(ctx, all))
		if !d.is("postgresql") {
			assert.Empty(t, d.rows("SELECT ticket FROM "+ticketTable))
		}
	})
}

// A transaction that is still open when its ticket is asked for never comes to its end.
func TestATicketEndsWhatHangs(t *testing.T) {
	impatient(t, 5*time.Second)
	servers(t, func(t *testing.T, d *db, _ string) {
		table := d.simple()
		hung, tgt := d.writable(table, Options{Key: []string{"k"}}), d.writable(table, Options{Key: []string{"k"}})
		ctx := t.Context()
		require.NoError(t, run(ctx, hung.s, hung.e.begin()...))
		_, err := hung.s.exec(ctx, "UPDATE "+hung.table()+" SET v = 'hung'")
		require.NoError(t, err)
		k, err := hung.e.draw(ctx, hung.s, hung.def, hung.mark, "")
		require.NoError(t, err)
		fate, why, err := tgt.Fate(ctx, k.json())
		require.NoError(t, err)
		assert.Equal(t, target.Refused, fate, why)
		assert.Error(t, run(ctx, hung.s, "COMMIT"))
		assert.NotContains(t, d.rows("SELECT v FROM " + table)[0], "hung")
	})
}

// Without the table of tickets what became of a lost commit is not guessed.
func TestWithoutTicketsNothingIsGuessed(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		if d.is("postgresql") {
			t.Skip("it needs no table")
		}
		d.exec("DROP TABLE IF EXISTS " + ticketTable)
		tgt := d.open(d.simple(), Options{Key: []string{"k"}, NoTickets: true})
		require.NoError(t, tgt.Writable(t.Context()))
		assert.NotContains(t, strings.Join(tgt.Traits().Notes, " "), ticketTable)
		require.NoError(t, tgt.Prepare(t.Context()))
		var kept []byte
		r, err := tgt.Commit(t.Context(), []target.Step{amend("1", "v", "a", "z")}, func(ticket json.RawMessage, _ []target.Result) error { kept = ticket; return nil })
		require.NoError(t, err)
		assert.Equal(t, target.Done, r[0].Fate)
		fate, why, err := tgt.Fate(t.Context(), kept)
		require.NoError(t, err)
		assert.Equal(t, target.Unknown, fate)
		assert.Contains(t, why, "forbid")
	})
}

// What a trigger leaves out is refused, alone, and in words; what it makes of a value is
// what was kept.
func TestTriggersAreToldOf(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		table := d.simple()
		id := d.e.ident(table)
		switch {
		case d.is("postgresql"):
			d.exec("CREATE FUNCTION f" + table + "() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF OLD.k = '2' THEN RETURN NULL; END IF; NEW.v := upper(NEW.v); RETURN NEW; END $$")
			d.exec("CREATE TRIGGER g BEFORE UPDATE ON " + id + " FOR EACH ROW EXECUTE FUNCTION f" + table + "()")
		case d.is("mariadb"):
			d.exec("CREATE TRIGGER g" + table + " BEFORE UPDATE ON " + id + " FOR EACH ROW BEGIN IF OLD.k = '2' THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'not two'; END IF; SET NEW.v = UPPER(NEW.v); END")
		default:
			d.exec("CREATE TRIGGER g" + table + " BEFORE UPDATE ON " + id + " WHEN OLD.k = '2' BEGIN SELECT RAISE(IGNORE); END")
			d.exec("CREATE TRIGGER h" + table + " AFTER UPDATE ON " + id + " WHEN NEW.v <> upper(NEW.v) BEGIN UPDATE " + id + " SET v = upper(v) WHERE k = NEW.k; END")
		}
		tgt := d.writable(table, Options{Key: []string{"k"}})
		assert.Contains(t, strings.Join(tgt.Traits().Notes, ";"), "it has triggers, which do more than is asked")
		r, err := tgt.Write(t.Context(), []target.Step{amend("1", "v", "a", "x"), amend("2", "v", "b", "y"), amend("3", "v", "c", "z")})
		require.NoError(t, err)
		assert.Equal(t, []target.Fate{target.Done, target.Refused, target.Done}, []target.Fate{r[0].Fate, r[1].Fate, r[2].Fate})
		assert.Regexp(t, "wrote none of it|not two", r[1].Reason)
		v, _ := r[0].After.Get("v")
		assert.Equal(t, "X", v.String())
		assert.Equal(t, [][]string{{"1", "X"}, {"2", "b"}, {"3", "Z"}, {"4", "d"}}, d.rows("SELECT k, v FROM "+id+" ORDER BY k"))
	})
}

// A row that is in the way is never replaced, whatever the table says of such rows.
func TestNothingIsReplaced(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		if !d.is("sqlite") {
			t.Skip("its tables say no such thing")
		}
		for _, word := range []string{"REPLACE", "IGNORE", "ROLLBACK", "FAIL"} {
			table := d.table("(k TEXT NOT NULL PRIMARY KEY ON CONFLICT " + word + ", v TEXT UNIQUE ON CONFLICT " + word + ")")
			d.fill(table, []string{"1", "a"}, []string{"2", "b"})
			tgt := d.writable(table, Options{Key: []string{"k"}})
			add := func(k, v string) target.Step {
				return target.Step{Act: changeset.Add, Key: record.NewKey(k), Record: record.Record{{Name: "k", Value: record.Text(k)}, {Name: "v", Value: record.Text(v)}}}
			}
			r, err := tgt.Write(t.Context(), []target.Step{add("1", "x"), add("3", "b"), amend("2", "v", "b", "a"), add("4", "d")})
			require.NoError(t, err)
			assert.Equal(t, []target.Fate{target.Moved, target.Refused, target.Refused, target.Done}, []target.Fate{r[0].Fate, r[1].Fate, r[2].Fate, r[3].Fate}, word)
			assert.Equal(t, "k,v\n1,a\n2,b\n4,d\n", d.taken(table), word)
		}
	})
}

// A trigger of a part of a table makes something else of values, too.
func TestTriggersOfParts(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		if !d.is("postgresql") {
			t.Skip("its tables have no parts")
		}
		table := d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20)) PARTITION BY LIST (k)")
		d.exec("CREATE TABLE " + table + "_rest PARTITION OF " + table + " DEFAULT")
		d.fill(table, []string{"1", "a"}, []string{"2", "b"})
		d.exec("CREATE FUNCTION f" + table + "() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.v := upper(NEW.v); RETURN NEW; END $$")
		d.exec("CREATE TRIGGER g BEFORE INSERT OR UPDATE ON " + table + "_rest FOR EACH ROW EXECUTE FUNCTION f" + table + "()")
		tgt := d.writable(table, Options{Key: []string{"k"}})
		r, err := tgt.Write(t.Context(), []target.Step{amend("1", "v", "a", "x"),
			{Act: changeset.Add, Key: record.NewKey("3"), Record: record.Record{{Name: "k", Value: record.Text("3")}, {Name: "v", Value: record.Text("z")}}}})
		require.NoError(t, err)
		assert.Equal(t, []string{"X", "Z"}, []string{text(r[0].After, "v"), text(r[1].After, "v")})
	})
}

// What the database refuses of one record is refused of that one; its words hold no
// other record's values.
func TestOneRefusalIsOnes(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		table := d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20) UNIQUE, n integer NOT NULL CHECK (n < 100))")
		d.fill(table, []string{"1", "a", "1"}, []string{"2", "b", "2"}, []string{"3", "secret", "3"})
		tgt := d.writable(table, Options{Key: []string{"k"}})
		clear := amend("2", "n", "2", "")
		clear.Fields[0].To = record.Null()
		r, err := tgt.Write(t.Context(), []target.Step{amend("1", "n", "1", "500"), clear, amend("3", "n", "3", "4"),
			{Act: changeset.Add, Key: record.NewKey("4"), Record: record.Record{{Name: "k", Value: record.Text("4")}, {Name: "v", Value: record.Text("a")}, {Name: "n", Value: record.Text("5")}}},
			{Act: changeset.Add, Key: record.NewKey("5"), Record: record.Record{{Name: "k", Value: record.Text("5")}, {Name: "v", Value: record.Text("e")}, {Name: "n", Value: record.Text("5")}}}})
		require.NoError(t, err)
		var fates []target.Fate
		for _, x := range r {
			fates = append(fates, x.Fate)
			assert.NotContains(t, x.Reason, "secret")
		}
		assert.Equal(t, []target.Fate{target.Refused, target.Refused, target.Done, target.Refused, target.Done}, fates)
		assert.Equal(t, [][]string{{"1", "1"}, {"2", "2"}, {"3", "4"}, {"5", "5"}}, d.rows("SELECT k, n FROM "+d.e.ident(table)+" ORDER BY k"))
	})
}

// null, the empty text and nothing at all are three things to a database; those who do
// not tell them apart mean null where a column may be null, and its default where a
// record is new.
func TestWhatBlankMeans(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		table := d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20), w varchar(20) DEFAULT 'given', x varchar(20) NOT NULL)")
		d.fill(table, []string{"1", "a", "b", "c"}, []string{"2", "a", "b", "c"})
		for tells, want := range map[bool][][]string{false: {{"1", "-", "-", ""}, {"2", "", "b", "c"}, {"3", "-", "given", ""}}, true: {{"1", "", "", ""}, {"2", "", "b", "c"}, {"3", "", "", ""}}} {
			tgt := d.writable(table, Options{Key: []string{"k"}})
			if tells {
				tgt.o.Of = tgt.o.Of.Telling()
			}
			blank := record.Text("")
			one := amend("1", "v", "a", "")
			one.Fields = append(one.Fields, changeset.Edit{Field: "w", From: record.Text("b")}, changeset.Edit{Field: "x", From: record.Text("c")})
			two := amend("2", "v", "a", "")
			if !tells { // an explicit null is one to everybody; the empty text only to those who tell
				two.Fields[0].To = record.Null()
				want[1][1] = "-"
			}
			r, err := tgt.Write(t.Context(), []target.Step{one, two,
				{Act: changeset.Add, Key: record.NewKey("3"), Record: record.Record{{Name: "k", Value: record.Text("3")}, {Name: "v", Value: blank}, {Name: "w", Value: blank}, {Name: "x", Value: blank}}}})
			require.NoError(t, err)
			for _, x := range r {
				assert.Equal(t, target.Done, x.Fate, x.Reason)
			}
			assert.Equal(t, want, d.rows("SELECT k, COALESCE(v, '-'), COALESCE(w, '-'), COALESCE(x, '-') FROM "+d.e.ident(table)+" ORDER BY k"), "tells: %t", tells)
			d.exec("DELETE FROM " + d.e.ident(table) + " WHERE k = '3'")
			d.exec("UPDATE " + d.e.ident(table) + " SET v = 'a', w = 'b', x = 'c'")
		}
	})
}

// What the database takes for the same key is not taken for it here.
func TestFoldedKeysAreOthers(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		table := d.table("(k " + d.folded() + " NOT NULL PRIMARY KEY, v varchar(20))")
		d.fill(table, []string{"A1", "a"}, []string{"B2", "b"})
		tgt := d.writable(table, Options{Key: []string{"k"}})
		r, err := tgt.Write(t.Context(), []target.Step{amend("a1", "v", "a", "z"), amend("B2", "v", "b", "y"),
			{Act: changeset.Add, Key: record.NewKey("b2"), Record: record.Record{{Name: "k", Value: record.Text("b2")}, {Name: "v", Value: record.Text("n")}}}})
		require.NoError(t, err)
		assert.Equal(t, []target.Fate{target.Moved, target.Done, target.Refused}, []target.Fate{r[0].Fate, r[1].Fate, r[2].Fate})
		assert.Equal(t, [][]string{{"A1", "a"}, {"B2", "y"}}, d.rows("SELECT k, v FROM "+d.e.ident(table)+" ORDER BY k"))
	})
}

// A snapshot is one state, in the byte order of the keys, while somebody writes.
func TestASnapshotIsOneState(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		table := d.table("(k varchar(10) NOT NULL PRIMARY KEY, n integer)")
		var rows [][]string
		for _, k := range []string{"b", "B", "a", "Z", "é", "10", "9", "_", "~"} {
			rows = append(rows, []string{k, "0"})
		}
		if d.is("mariadb") { // whose keys would fold
			rows = [][]string{{"b", "0"}, {"a", "0"}, {"Z", "0"}, {"10", "0"}, {"9", "0"}, {"_", "0"}, {"~", "0"}}
		}
		d.fill(table, rows...)
		stop := make(chan struct{})
		done := make(chan struct{})
		w, err := d.e.connect(context.Background(), d.a, "", "")
		require.NoError(t, err)
		go func() {
			defer close(done)
			defer w.close()
			for {
				select {
				case <-stop:
					return
				default: // every state has the same number everywhere
					_, _ = w.exec(context.Background(), "UPDATE "+d.e.ident(table)+" SET n = n + 1")
					time.Sleep(time.Millisecond) // a file without a moment's rest is never read
				}
			}
		}()
		tgt := d.open(table, Options{Key: []string{"k"}})
		for range 60 {
			var b bytes.Buffer
			_, err := tgt.Take(t.Context(), &b)
			require.NoError(t, err)
			lines := strings.Split(strings.TrimSpace(b.String()), "\n")[1:]
			keys, numbers := []string{}, map[string]bool{}
			for _, l := range lines {
				k, n, _ := strings.Cut(l, ",")
				keys, numbers[n] = append(keys, k), true
			}
			assert.Len(t, numbers, 1)
			assert.IsIncreasing(t, keys)
			assert.Len(t, keys, len(rows))
		}
		close(stop)
		<-done
	})
}

// Who may not write is told before anything is.
func TestRightsAreAskedFor(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		if !d.is("postgresql") {
			t.Skip("it cannot be asked")
		}
		table := d.simple()
		d.exec("DROP ROLE IF EXISTS paletwin_reader")
		d.exec("CREATE ROLE paletwin_reader LOGIN")
		t.Cleanup(func() { d.exec("DROP OWNED BY paletwin_reader"); d.exec("DROP ROLE paletwin_reader") })
		d.exec("GRANT SELECT, UPDATE (v) ON " + table + " TO paletwin_reader")
		u, err := url.Parse(d.url)
		require.NoError(t, err)
		u.User = url.User("paletwin_reader")
		tgt, err := Open(t.Context(), disk.OS{}, u.String()+"#"+table, Options{Key: []string{"k"}, Dir: t.TempDir()})
		require.NoError(t, err)
		defer tgt.Close()
		require.NoError(t, tgt.Writable(t.Context()))
		_, err = tgt.Check(t.Context(), []target.Step{amend("1", "v", "a", "z")})
		assert.NoError(t, err)
		_, err = tgt.Check(t.Context(), []target.Step{{Act: changeset.Delete, Key: record.NewKey("1")}})
		assert.ErrorContains(t, err, "the account has no DELETE on the table")
		var b bytes.Buffer
		d.exec("REVOKE SELECT ON " + table + " FROM paletwin_reader")
		_, err = tgt.Take(t.Context(), &b)
		assert.ErrorContains(t, err, "not allowed")
		assert.Empty(t, b.String())
	})
}

// A record that somebody keeps locked is refused; the others of its batch are written.
func TestALockedRecordIsRefusedAlone(t *testing.T) {
	before := LockWait
	LockWait = time.Second
	t.Cleanup(func() { LockWait = before })
	servers(t, func(t *testing.T, d *db, _ string) {
		table := d.simple()
		d.exec(d.e.begin()[len(d.e.begin())-1])
		d.exec("UPDATE " + table + " SET v = 'mine' WHERE k = '2'")
		tgt := d.writable(table, Options{Key: []string{"k"}})
		r, err := tgt.Write(t.Context(), []target.Step{amend("1", "v", "a", "x"), amend("2", "v", "b", "y"), amend("3", "v", "c", "z")})
		require.NoError(t, err)
		assert.Equal(t, []target.Fate{target.Done, target.Refused, target.Done}, []target.Fate{r[0].Fate, r[1].Fate, r[2].Fate})
		assert.Contains(t, r[1].Reason, "somebody else is working on it")
		d.exec("ROLLBACK")
		r, err = tgt.Write(t.Context(), []target.Step{amend("2", "v", "b", "y")})
		require.NoError(t, err)
		assert.Equal(t, target.Done, r[0].Fate)
	})
}

// Two runs that lock records in other orders wait for each other, and both end.
func TestTwoRunsAtOnce(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		table := d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20), w varchar(20))")
		var steps [2][]target.Step
		for i := range 60 {
			k := fmt.Sprintf("%03d", i)
			d.fill(table, []string{k, "a", "b"})
			steps[0] = append(steps[0], amend(k, "v", "a", "one"))
			steps[1] = append(steps[1], amend(k, "w", "b", "two"))
		}
		slices.Reverse(steps[1])
		var both sync.WaitGroup
		for i := range 2 {
			tgt := d.writable(table, Options{Key: []string{"k"}})
			both.Go(func() {
				for from := 0; from < 60; from += 20 {
					r, err := tgt.Write(context.Background(), steps[i][from:from+20])
					assert.NoError(t, err)
					for _, x := range r {
						assert.Equal(t, target.Done, x.Fate, x.Reason)
					}
				}
			})
		}
		both.Wait()
		assert.Equal(t, [][]string{{"60"}}, d.rows("SELECT count(*) FROM "+table+" WHERE v = 'one' AND w = 'two'"))
	})
}
