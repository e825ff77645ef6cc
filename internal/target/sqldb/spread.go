package sqldb

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"paletwin/core/record"
	"paletwin/internal/target"
)

// This file is about tables of PostgreSQL whose records stand on several servers: hash partitions that are foreign tables
// of postgres_fdw. The server that knows them all, the coordinator, says what is where; records are read and written
// where they are. What is written through the coordinator is committed on one server after the other: one that
// fails then leaves it half done, and no ticket tells.

// shard is a server that has a part of a table's records.
type shard struct {
	*Table
	server             string // what the coordinator calls it
	modulus, remainder int
}

// spread is what a coordinator's table is made of.
type spread struct {
	shards []*shard
	hash   []int // the columns whose values say on which shard a record is
}

// apart says in words why records that stand on other servers cannot be read and written there.
type apart struct{ why string }

func (e *apart) Error() string { return e.why }

// openShards opens the servers on which a partitioned table's records stand, if they stand on others. Where they cannot be read
// there, the table is read through the coordinator, and not written.
func (t *Table) openShards(ctx context.Context) error {
	if t.def.kind != pgKinds["p"] {
		return nil
	}
	places, foreign, err := pgPlaces(ctx, t)
	if err != nil || foreign == 0 {
		return t.said(err)
	}
	s := new(spread)
	err = t.reach(ctx, s, places, foreign)
	var no *apart
	switch {
	case errors.As(err, &no):
		s.close()
		t.def.readOnly = "its records stand on other servers, and are read through this one: " + no.why
		return nil
	case err != nil:
		s.close()
		return err
	}
	t.over = s
	return nil
}

// partition is a part of a table, as the coordinator has it.
type partition struct {
	server, host, port, database, user string
	schema, table, bound               string
	foreign                            bool
	level                              int
}

// pgPlaces lists the partitions of a table, and how many of them are on other servers.
func pgPlaces(ctx context.Context, t *Table) (parts []partition, foreign int, err error) {
	const option = `COALESCE((SELECT option_value FROM pg_options_to_table(%s) WHERE option_name = '%s'), '')`
	o := func(of, name string) string { return fmt.Sprintf(option, of, name) }
	rows, err := all(ctx, t.s, `SELECT COALESCE(s.srvname, ''), `+o("s.srvoptions", "host")+`, `+o("s.srvoptions", "port")+`, `+o("s.srvoptions", "dbname")+`,
		COALESCE((SELECT option_value FROM pg_user_mappings m, pg_options_to_table(m.umoptions) WHERE m.srvid = s.oid AND m.usename IN (current_user, 'public') AND option_name = 'user' ORDER BY m.umuser DESC LIMIT 1), ''),
		`+o("f.ftoptions", "schema_name")+`, `+o("f.ftoptions", "table_name")+`, n.nspname, c.relname, COALESCE(pg_get_expr(c.relpartbound, c.oid), ''), COALESCE(w.fdwname = 'postgres_fdw', false), p.level
		FROM pg_partition_tree($1::text::oid) p JOIN pg_class c ON c.oid = p.relid JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN pg_foreign_table f ON f.ftrelid = c.oid LEFT JOIN pg_foreign_server s ON s.oid = f.ftserver LEFT JOIN pg_foreign_data_wrapper w ON w.oid = s.srvfdw
		WHERE p.isleaf ORDER BY c.oid`, plain(t.def.id)...)
	for _, r := range rows {
		p := partition{server: r[0], host: r[1], port: r[2], database: r[3], user: r[4], schema: r[5], table: r[6], bound: r[9], foreign: r[10] == "t", level: int(number(r[11]))}
		if p.schema == "" {
			p.schema = r[7]
		}
		if p.table == "" {
			p.table = r[8]
		}
		if p.foreign {
			foreign++
		}
		parts = append(parts, p)
	}
	return parts, foreign, err
}

// reach opens every place. An *apart says why the table is not written there.
func (t *Table) reach(ctx context.Context, s *spread, places []partition, foreign int) error {
	if foreign < len(places) {
		return &apart{"some of its parts are here, and others there"}
	}
	rows, err := all(ctx, t.s, `SELECT a.attname FROM pg_partitioned_table p, unnest(p.partattrs::smallint[]) WITH ORDINALITY AS k(attnum, n) JOIN pg_attribute a ON a.attnum = k.attnum
		WHERE p.partrelid = $1::text::oid AND a.attrelid = p.partrelid AND p.partstrat = 'h' ORDER BY k.n`, plain(t.def.id)...)
	if err != nil {
		return t.said(err)
	}
	for _, r := range rows {
		s.hash = append(s.hash, t.def.column(r[0]))
	}
	if len(s.hash) == 0 {
		return &apart{"it is not parted by a hash"}
	}
	for i := range places {
		if err := t.reachOne(ctx, s, &places[i]); err != nil {
			return err
		}
	}
	return nil
}

// reachOne opens one place.
func (t *Table) reachOne(ctx context.Context, s *spread, p *partition) error {
	x := &shard{server: p.server}
	if n, err := fmt.Sscanf(p.bound, "FOR VALUES WITH (modulus %d, remainder %d)", &x.modulus, &x.remainder); n != 2 || err != nil || p.level != 1 {
		return &apart{"its parts have parts"}
	}
	var err error
	if x.Table, err = Open(ctx, t.fsys, p.address(t.at), t.o); err != nil {
		return &apart{fmt.Sprintf("server %s cannot be used from here: %s", p.server, err)}
	}
	s.shards = append(s.shards, x)
	if len(x.def.columns) != len(t.def.columns) {
		return &apart{fmt.Sprintf("%s of server %s has other columns", p.table, p.server)}
	}
	for i, c := range t.def.columns {
		if y := x.def.columns[i]; y.name != c.name || y.typ != c.typ {
			return &apart{fmt.Sprintf("column %s is %s, and %s is %s of server %s", c.name, c.typ, y.name, y.typ, p.server)}
		}
	}
	if len(t.o.Key) == 0 { // no coordinator has a key over several servers, but each of these may have one
		t.o.Key, t.cols, t.all = x.o.Key, nil, nil
		if err := t.name(); err != nil {
			return err
		}
	}
	for _, h := range s.hash {
		if !slices.Contains(t.key, h) {
			return &apart{fmt.Sprintf("on which server a record stands says %s, which is no part of the key", t.fields[h])}
		}
	}
	x.exact = t.exact
	return nil
}

// address is the place as a target's name, reached as the coordinator was. A server that the coordinator finds on its own machine is on
// that machine, and not on this one.
func (p *partition) address(of *target.Address) string {
	a := *of
	u := *of.URL
	q := u.Query()
	host, port, own := p.host, cmp.Or(p.port, "5432"), cmp.Or(q.Get("host"), u.Hostname(), "localhost")
	if host == "" || local(host) && !local(own) {
		host = own
	}
	q.Del("host")
	q.Del("port")
	if u.Host = net.JoinHostPort(host, port); strings.HasPrefix(host, "/") {
		u.Host = ""
		q.Set("host", host)
		q.Set("port", port)
	}
	u.RawQuery = q.Encode()
	if p.database != "" {
		u.Path = "/" + p.database
	}
	if p.user != "" {
		u.User = url.User(p.user)
	}
	a.URL, a.Schema, a.Table = &u, p.schema, p.table
	return a.String()
}

// local reports whether a host is the machine that asks for it.
func local(host string) bool {
	ip := net.ParseIP(host)
	return strings.HasPrefix(host, "/") || strings.EqualFold(host, "localhost") || ip != nil && ip.IsLoopback()
}

func (s *spread) close() {
	if s != nil {
		for _, x := range s.shards {
			_ = x.Close() // the first error counts
		}
	}
}

// notes say where the records are.
func (s *spread) notes() []string {
	var names []string
	for _, x := range s.shards {
		names = append(names, x.server)
	}
	return []string{fmt.Sprintf("its records stand on %d servers (%s), each of which is read as one state and written by itself", len(names), some(names))}
}

// dumpShards writes the records of all servers, in the byte order of their keys' texts. dump writes those of one, in a transaction of its own.
func (t *Table) dumpShards(ctx context.Context, w io.Writer, dump func(*Table, context.Context, io.Writer) (int64, error)) (n int64, err error) {
	var from []source
	for _, x := range t.over.shards {
		from = append(from, source{x.shape(), func(ctx context.Context, w io.Writer) error {
			return x.inSnapshot(ctx, func(ctx context.Context) error {
				_, err := dump(x.Table, ctx, w)
				return err
			})
		}})
	}
	return mergeRows(ctx, from, w)
}

// route says for keys on which shard each is, or would be.
func (t *Table) route(ctx context.Context, keys []record.Key) ([]int, error) {
	if err := t.connected(ctx); err != nil {
		return nil, t.said(err)
	}
	at := make([]int, len(keys))
	const part = 10_000
	var bounds []string
	for i, x := range t.over.shards {
		bounds = append(bounds, fmt.Sprintf("(%d, %d, %d)", i, x.modulus, x.remainder))
	}
	columns := make([]*column, len(t.over.hash))
	var names []string
	for i, h := range t.over.hash {
		columns[i] = t.cols[h]
		names = append(names, fmt.Sprintf("r.c%d", i))
	}
	ask := func(keys []record.Key, at []int) error {
		rows := make([][]record.Value, len(keys))
		for i, k := range keys {
			values := t.keyValues(k)
			for _, h := range t.over.hash {
				rows[i] = append(rows[i], values[slices.Index(t.key, h)])
			}
			at[i] = -1
		}
		table, params := t.e.rows(columns, len(columns), rows)
		sql := fmt.Sprintf("SELECT r.n, p.i FROM %s JOIN (VALUES %s) AS p(i, m, r) ON satisfies_hash_partition('%s'::oid, p.m, p.r, %s)", table, strings.Join(bounds, ", "), t.def.id, strings.Join(names, ", "))
		return t.s.query(ctx, sql, nil, params, func(cells []record.Value) error {
			n, _ := strconv.Atoi(cells[0].String())
			i, err := strconv.Atoi(cells[1].String())
			if err == nil && n >= 1 && n <= len(keys) {
				at[n-1] = i
			}
			return err
		})
	}
	for from := 0; from < len(keys); from += part {
		to := min(from+part, len(keys))
		if err := t.routeSome(keys[from:to], at[from:to], ask); err != nil {
			return nil, t.said(err)
		}
	}
	return at, nil
}

// routeSome asks where some keys are, and for fewer at once where one is no value of a key column: that one is nowhere.
func (t *Table) routeSome(keys []record.Key, at []int, ask func(keys []record.Key, at []int) error) error {
	err := ask(keys, at)
	if f := t.e.failure(err); err == nil || f == nil || f.kind != refused {
		return err
	}
	half := len(keys) / 2
	if half == 0 {
		at[0] = -1
		return nil
	}
	if err := t.routeSome(keys[:half], at[:half], ask); err != nil {
		return err
	}
	return t.routeSome(keys[half:], at[half:], ask)
}

// Divide says on which server the records with some keys are; nil is one server.
func (t *Table) Divide(ctx context.Context, keys []record.Key) ([]int, error) {
	if t.over == nil {
		return nil, nil
	}
	return t.route(ctx, keys)
}

// routeSteps is route of the records that steps are about.
func (t *Table) routeSteps(ctx context.Context, steps []target.Step) ([]int, error) {
	keys := make([]record.Key, len(steps))
	for i := range steps {
		keys[i] = steps[i].Key
	}
	return t.route(ctx, keys)
}

// shardTicket is the ticket of a batch that was written on one of several servers.
type shardTicket struct {
	Server string          `json:"server"`
	Ticket json.RawMessage `json:"ticket"`
}

// commitShard carries out a batch whose records are on one server.
func (t *Table) commitShard(ctx context.Context, steps []target.Step, keep func(json.RawMessage, []target.Result) error) ([]target.Result, error) {
	at, err := t.routeSteps(ctx, steps)
	if err != nil {
		return nil, &target.Unwritten{Err: err}
	}
	for _, i := range at {
		if i < 0 || i != at[0] {
			return nil, &target.Unwritten{Err: fmt.Errorf("%s: a batch of records of several servers cannot be written at once", t.Name())}
		}
	}
	if len(steps) == 0 {
		return nil, nil
	}
	x := t.over.shards[at[0]]
	results, err := x.Commit(ctx, steps, func(ticket json.RawMessage, results []target.Result) error {
		b, _ := json.Marshal(shardTicket{x.server, ticket}) // texts are always encoded
		return keep(b, results)
	})
	if err != nil {
		return results, err
	}
	return results, t.forget()
}

// ofServer finds who is asked for a ticket.
func (s *spread) ofServer(raw json.RawMessage) (x *shard, ticket json.RawMessage, err error) {
	var k shardTicket
	if err := json.Unmarshal(raw, &k); err != nil {
		return nil, nil, fmt.Errorf("a ticket cannot be read: %w", err)
	}
	for _, x := range s.shards {
		if x.server == k.Server {
			return x, k.Ticket, nil
		}
	}
	return nil, nil, nil
}

func (t *Table) fateOfShard(ctx context.Context, raw json.RawMessage) (target.Fate, string, error) {
	x, ticket, err := t.over.ofServer(raw)
	if err != nil {
		return target.Unknown, "", err
	}
	if x == nil {
		return target.Unknown, "it was written on a server that has no part of the table any more", nil
	}
	return x.Fate(ctx, ticket)
}

// elsewhere is an error where a ticket is of a server that cannot be asked from here just now.
func (t *Table) elsewhere(raw json.RawMessage) error {
	var k shardTicket
	if json.Unmarshal(raw, &k) != nil || k.Server == "" {
		return nil
	}
	return &Error{Name: t.Name(), Code: Lost, Text: "what became of the last batch only server " + k.Server + " knows; " + t.def.readOnly}
}

func (t *Table) settledShards(ctx context.Context, tickets []json.RawMessage) error {
	all := map[*shard][]json.RawMessage{}
	for _, raw := range tickets {
		if x, ticket, err := t.over.ofServer(raw); err == nil && x != nil {
			all[x] = append(all[x], ticket)
		}
	}
	for _, x := range t.over.shards {
		if err := x.Settled(ctx, all[x]); err != nil {
			return err
		}
	}
	return nil
}

// writableShards says why the records cannot be written where they are: what the coordinator's table has of its own nobody would
// look at there.
func (t *Table) writableShards(ctx context.Context) error {
	if err := t.connected(ctx); err != nil {
		return t.said(err)
	}
	rows, err := all(ctx, t.s, `WITH all_of AS (SELECT relid FROM pg_partition_tree($1::text::oid))
		SELECT 'the trigger ' || tgname FROM pg_trigger WHERE tgrelid IN (SELECT relid FROM all_of) AND NOT tgisinternal AND tgenabled <> 'D'
		UNION ALL SELECT 'the policy ' || polname FROM pg_policy WHERE polrelid IN (SELECT relid FROM all_of)
		UNION ALL SELECT 'row security' FROM pg_class WHERE oid IN (SELECT relid FROM all_of) AND relrowsecurity
		UNION ALL SELECT 'the constraint ' || conname FROM pg_constraint WHERE conrelid IN (SELECT relid FROM all_of) AND contype IN ('c', 'f', 'x') OR confrelid IN (SELECT relid FROM all_of) AND contype = 'f'
		UNION ALL SELECT 'the rule ' || rulename FROM pg_rewrite WHERE ev_class IN (SELECT relid FROM all_of)`, plain(t.def.id)...)
	if err != nil {
		return t.said(err)
	}
	if len(rows) > 0 {
		var has []string
		for _, r := range rows {
			has = append(has, r[0])
		}
		slices.Sort(has)
		return &Error{Name: t.Name(), Code: OnlyRead, Text: "its records are written on the servers where they stand, which know nothing of what this one has: " + some(slices.Compact(has))}
	}
	for _, x := range t.over.shards {
		if err := x.Writable(ctx); err != nil {
			return err
		}
	}
	return nil
}

// checkShards asks every server about its steps.
func (t *Table) checkShards(ctx context.Context, steps []target.Step) ([]string, error) {
	reasons := make([]string, len(steps))
	at, err := t.routeSteps(ctx, steps)
	if err != nil {
		return nil, err
	}
	was := make([]record.Key, 0, len(steps))
	for i := range steps {
		if !steps[i].Was.IsZero() {
			was = append(was, steps[i].Was)
		}
	}
	from, err := t.route(ctx, was)
	if err != nil {
		return nil, err
	}
	links := map[string]int{}
	torn := map[string]bool{}
	for i := range steps {
		if k := steps[i].Linked; k != "" {
			if first, there := links[k]; there && first != at[i] {
				torn[k] = true
			} else if !there {
				links[k] = at[i]
			}
		}
		if !steps[i].Was.IsZero() {
			if from[0] != at[i] {
				reasons[i] = "with its new key the record belongs on another server, and no transaction is of two: delete it, and add it anew in a dossier of its own"
			}
			from = from[1:]
		}
	}
	for n, x := range t.over.shards {
		var its []target.Step
		var of []int
		for i := range steps {
			if at[i] == n {
				its, of = append(its, steps[i]), append(of, i)
			}
		}
		if len(its) == 0 {
			continue
		}
		said, err := x.Check(ctx, its)
		if err != nil {
			return nil, err
		}
		for k, reason := range said {
			if reason != "" {
				reasons[of[k]] = reason
			}
		}
	}
	for i := range steps {
		switch {
		case reasons[i] != "":
		case at[i] < 0:
			reasons[i] = "no server has a place for a record of this key"
		case torn[steps[i].Linked]:
			reasons[i] = "it is linked with a record of another server, and no transaction is of two"
		}
	}
	return reasons, nil
}

// source writes rows, in the order of the bytes of their keys, without a heading.
type source struct {
	rowShape
	write func(ctx context.Context, w io.Writer) error
}

// mergeRows writes the rows of several tables, in the order of the bytes of their keys, and returns how many these are.
func mergeRows(ctx context.Context, from []source, w io.Writer) (int64, error) {
	g, ctx := errgroup.WithContext(ctx)
	all, end := streams(ctx, g, from)
	out := newCells(w)
	g.Go(func() error {
		defer end()
		for _, r := range all {
			if err := r.next(); err != nil {
				return err
			}
		}
		for {
			var least *stream
			for _, r := range all {
				if !r.over && (least == nil || r.before(least)) {
					least = r
				}
			}
			if least == nil {
				return nil
			}
			if err := out.take(least.line); err != nil {
				return err
			}
			if err := least.next(); err != nil {
				return err
			}
		}
	})
	return out.close(g.Wait())
}
