package sqldb

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/target"
)

func adding(link, key string, fields ...string) target.Step {
	s := target.Step{Act: changeset.Add, Key: record.NewKey(key), Linked: link}
	for i := 0; i < len(fields); i += 2 {
		s.Record.Set(fields[i], record.Text(fields[i+1]))
	}
	return s
}

// TestJointClustersAreWholeOrNotAtAll: of new aids with their visits, in two tables of one database, each is there
// with all that belongs to it or not at all, whatever is refused or has moved; and what was promised is what became
// of it.
func TestJointClustersAreWholeOrNotAtAll(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		for seed := range uint64(12) {
			r := rand.New(rand.NewPCG(seed, 7))
			aids := d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20))")
			visits := d.table("(id varchar(10) NOT NULL PRIMARY KEY, aid varchar(10), crew varchar(10), CHECK (crew <> 'X'), FOREIGN KEY (aid) REFERENCES " + aids + " (k))")
			d.fill(aids, []string{"old", "a"})
			for i := range 6 {
				d.fill(visits, []string{fmt.Sprint("v", i), "old", "A"})
			}
			a := d.writable(aids, Options{Key: []string{"k"}, Of: new(schema.Schema)})
			v := d.writable(visits, Options{Key: []string{"id"}, Of: new(schema.Schema)})
			require.Equal(t, a.Database(), v.Database())
			parts := []target.Part{{Target: a}, {Target: v}, {Target: v}}
			for c := range 6 {
				link, aid := fmt.Sprint("cluster ", c), fmt.Sprint("n", c)
				parts[0].Steps = append(parts[0].Steps, adding(link, aid, "k", aid, "v", "new"))
				for k := range r.IntN(3) {
					id, crew := fmt.Sprintf("w%d%d", c, k), "A"
					switch r.IntN(6) {
					case 0:
						crew = "X" // the database refuses it
					case 1:
						d.fill(visits, []string{id, "old", "B"}) // somebody else was first
					}
					parts[1].Steps = append(parts[1].Steps, adding(link, id, "id", id, "aid", aid, "crew", crew))
				}
				if r.IntN(2) == 0 {
					s := amend(fmt.Sprint("v", c), "aid", "old", aid)
					s.Linked = link
					if r.IntN(3) == 0 {
						s.Fields[0].From = record.Text("another")
					}
					parts[2].Steps = append(parts[2].Steps, s)
				}
			}
			if len(parts[2].Steps) == 0 {
				parts = parts[:2]
			}
			var promised [][]target.Result
			results, err := a.CommitJoint(context.Background(), parts, func(_ json.RawMessage, results [][]target.Result) error {
				promised = results
				return nil
			})
			require.NoError(t, err)
			done := map[string][]bool{}
			for i, p := range parts {
				for k, s := range p.Steps {
					done[s.Linked] = append(done[s.Linked], results[i][k].Fate == target.Done)
					if promised != nil {
						require.Equal(t, results[i][k].Fate, promised[i][k].Fate)
					}
					if results[i][k].Fate != target.Done {
						require.NotEmpty(t, results[i][k].Reason)
					}
				}
			}
			for link, all := range done {
				for _, one := range all {
					require.Equal(t, all[0], one, "seed %d %s: %v", seed, link, all)
				}
			}
			there := map[string]string{}
			for _, row := range d.rows("SELECT id, aid FROM " + visits) {
				there[row[0]] = row[1]
			}
			known := map[string]bool{}
			for _, row := range d.rows("SELECT k FROM " + aids) {
				known[row[0]] = true
			}
			for i, p := range parts {
				for _, s := range p.Steps {
					is := done[s.Linked][0]
					switch {
					case i == 0:
						require.Equal(t, is, known[s.Key.String()], "seed %d aid %s", seed, s.Key)
					case i == 1:
						aid, _ := s.Record.Get("aid")
						require.Equal(t, is, there[s.Key.String()] == aid.String(), "seed %d visit %s", seed, s.Key)
					default:
						require.Equal(t, is, there[s.Key.String()] == s.Fields[0].To.String(), "seed %d amend %s", seed, s.Key)
					}
				}
			}
		}
	})
}

// TestAJointPromiseThatIsNotKept: where the promise cannot be kept nothing is written.
func TestAJointPromiseThatIsNotKept(t *testing.T) {
	onEach(t, func(t *testing.T, d *db) {
		aids := d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20))")
		crews := d.table("(k varchar(10) NOT NULL PRIMARY KEY, v varchar(20))")
		a := d.writable(aids, Options{Key: []string{"k"}, Of: new(schema.Schema)})
		c := d.writable(crews, Options{Key: []string{"k"}, Of: new(schema.Schema)})
		parts := []target.Part{{Target: a, Steps: []target.Step{adding("x", "1", "k", "1", "v", "a")}}, {Target: c, Steps: []target.Step{adding("x", "2", "k", "2", "v", "b")}}}
		var ticket json.RawMessage
		_, err := a.CommitJoint(context.Background(), parts, func(k json.RawMessage, _ [][]target.Result) error {
			ticket = k
			return fmt.Errorf("the disk is full")
		})
		require.ErrorContains(t, err, "the disk is full")
		require.Empty(t, d.rows("SELECT k FROM "+aids))
		require.Empty(t, d.rows("SELECT k FROM "+crews))
		fate, _, err := c.Fate(context.Background(), ticket) // whichever of them is asked
		require.NoError(t, err)
		require.Equal(t, target.Refused, fate)
		results, err := a.CommitJoint(context.Background(), parts, func(k json.RawMessage, _ [][]target.Result) error {
			ticket = k
			return nil
		})
		require.NoError(t, err)
		require.Equal(t, target.Done, results[1][0].Fate)
		fate, _, err = c.Fate(context.Background(), ticket)
		require.NoError(t, err)
		require.Equal(t, target.Done, fate)
		states, err := c.Current(context.Background(), []record.Key{record.NewKey("2")})
		require.NoError(t, err)
		require.Equal(t, 1, states[0].Count)
	})
}
