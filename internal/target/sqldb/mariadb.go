package sqldb

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"paletwin/internal/target"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"

	"paletwin/core/changeset"
	"paletwin/core/jsontext"
	"paletwin/core/record"
)

// mariadb is MariaDB, from version 10.6 on.
type mariadb struct{}

func (mariadb) name() string { return "MariaDB" }

// mariaSettings are those under which every value has one text, and none that does
// not fit is cut or replaced. Days that are none may stand in old tables and have to go back there.
var mariaSettings = []string{
	"SET time_zone = '+00:00', sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION,NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES', lock_wait_timeout = 10",
	"SET group_concat_max_len = 1048576, character_set_results = 'utf8mb4'",
}

// mariaSession is a connection; parameters are put into the statement, so that what
// comes back is text.
type mariaSession struct {
	db   *sql.DB
	conn *sql.Conn
}

func (m mariadb) connect(ctx context.Context, a *target.Address, password, mark string) (session, error) {
	cfg, err := mariaConfig(a, password)
	if err != nil {
		return nil, err
	}
	c, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, &failure{kind: other, text: err.Error(), err: err}
	}
	s := &mariaSession{db: sql.OpenDB(c)}
	if s.conn, err = s.db.Conn(ctx); err != nil {
		_ = s.db.Close() // the first error counts
		return nil, err
	}
	cluster, _, err := one(ctx, s, "SHOW GLOBAL VARIABLES LIKE 'wsrep_on'")
	if err != nil {
		s.close()
		return nil, err
	}
	settings := append(slices.Clip(mariaSettings), fmt.Sprintf("SET innodb_lock_wait_timeout = %d", max(1, int(LockWait.Seconds()))))
	if mark != "" { // by this lock the connection is found, should its client lose it
		settings = append(settings, "DO GET_LOCK('"+mark+"', 0)")
	}
	if len(cluster) == 2 && strings.EqualFold(cluster[1], "ON") { // what another node has committed is waited for
		settings = append(settings, "SET SESSION wsrep_sync_wait = 15")
	}
	if err := run(ctx, s, settings...); err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

// mariaConfig reads an address. How the connection is protected is said as for
// PostgreSQL: sslmode is disable, prefer (the default), require or verify-full, and
// sslrootcert a file.
func mariaConfig(a *target.Address, password string) (*mysql.Config, error) {
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd, cfg.DBName = a.URL.User.Username(), password, a.Database
	cfg.Net, cfg.Addr = "tcp", net.JoinHostPort(a.URL.Hostname(), a.URL.Port())
	if a.URL.Port() == "" {
		cfg.Addr = net.JoinHostPort(a.URL.Hostname(), "3306")
	}
	q := a.URL.Query()
	if socket := q.Get("socket"); socket != "" {
		cfg.Net, cfg.Addr = "unix", socket
	}
	cfg.Collation, cfg.InterpolateParams, cfg.ClientFoundRows, cfg.MaxAllowedPacket, cfg.Timeout = "utf8mb4_bin", true, true, 0, connectTimeout
	cfg.Logger = quiet{}
	var roots *x509.CertPool
	if file := q.Get("sslrootcert"); file != "" {
		pem, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		if roots = x509.NewCertPool(); !roots.AppendCertsFromPEM(pem) {
			return nil, &failure{kind: other, text: file + " holds no certificate"}
		}
	}
	switch mode := q.Get("sslmode"); mode {
	case "disable":
	case "", "prefer":
		cfg.TLS, cfg.AllowFallbackToPlaintext = &tls.Config{InsecureSkipVerify: true}, true
	case "require":
		cfg.TLS = &tls.Config{InsecureSkipVerify: true}
	case "verify-full":
		cfg.TLS = &tls.Config{ServerName: a.URL.Hostname(), RootCAs: roots}
	default:
		return nil, &failure{kind: other, text: "sslmode is disable, prefer, require or verify-full, not " + mode}
	}
	return cfg, nil
}

// quiet says nothing: what a driver notices comes back as an error.
type quiet struct{}

func (quiet) Print(...any) {}

func (mariadb) end(ctx context.Context, s session, mark string) error {
	return ended(ctx, func() (bool, error) {
		row, ok, err := one(ctx, s, "SELECT IS_USED_LOCK(?)", plain(mark)...)
		if err != nil || !ok || row[0] == "" {
			return err == nil, err
		}
		if _, err := strconv.ParseUint(row[0], 10, 64); err == nil {
			_, _ = s.exec(ctx, "KILL "+row[0]) // it may be gone by now
		}
		return false, nil
	})
}

// lacks cannot be asked: rights may come from the server, the database, the table or a
// role, and what is said of others is not shown.
func (mariadb) lacks(context.Context, session, *definition, changeset.Act) (string, error) {
	return "", nil
}

func (s *mariaSession) close() {
	_ = s.conn.Close() // nothing is left to be said
	_ = s.db.Close()
}

func mariaParams(params []param) []any {
	p := make([]any, len(params))
	for i := range params {
		if v := params[i].v; !v.IsNull() {
			p[i] = v.String()
		}
	}
	return p
}

func (s *mariaSession) exec(ctx context.Context, text string, params ...param) (int64, error) {
	r, err := s.conn.ExecContext(ctx, text, mariaParams(params)...)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

func (s *mariaSession) query(ctx context.Context, text string, of []*column, params []param, row func([]record.Value) error) error {
	var cells []record.Value
	return s.raw(ctx, text, mariaParams(params), func(_ []string, raw []sql.RawBytes) error {
		cells = cells[:0]
		for i, b := range raw {
			switch {
			case b == nil:
				cells = append(cells, record.Null())
			case i < len(of) && of[i].single:
				cells = append(cells, record.Text(shortest(string(b))))
			default:
				cells = append(cells, record.Text(string(b)))
			}
		}
		return row(cells)
	})
}

func (s *mariaSession) raw(ctx context.Context, text string, params []any, row func(names []string, cells []sql.RawBytes) error) error {
	rows, err := s.conn.QueryContext(ctx, text, params...)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	cells := make([]sql.RawBytes, len(names))
	into := make([]any, len(names))
	for i := range cells {
		into[i] = &cells[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if err := row(names, cells); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (s *mariaSession) each(ctx context.Context, all []statement, wrote func(int64) error) error {
	return oneByOne(ctx, s, all, wrote)
}

func (s *mariaSession) dump(ctx context.Context, text string, of []*column, w io.Writer) (rows int64, err error) {
	out := newCells(w)
	err = s.raw(ctx, text, nil, func(_ []string, cells []sql.RawBytes) error {
		for i, c := range cells {
			if c != nil && of[i].single {
				c = sql.RawBytes(shortest(string(c)))
			}
			if err := out.cell(i, c, of[i]); err != nil {
				return err
			}
		}
		return out.end()
	})
	return out.close(err)
}

// shortest is the shortest text of a number of single precision, which is given
// as that of the same number in double precision.
func shortest(text string) string {
	n, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return text
	}
	return strconv.FormatFloat(n, 'g', -1, 32)
}

func (mariadb) ident(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func (m mariadb) param(n int, c *column) string { return m.value("?", c) }

// value makes of a text the column's value.
func (mariadb) value(text string, c *column) string {
	switch {
	case c.bytes:
		return "UNHEX(" + text + ")"
	case c.cast == "bit":
		return "CAST(" + text + " AS UNSIGNED)"
	}
	return text
}

func (m mariadb) keyOrder(c *column) string {
	text := c.text
	if text == "" {
		text = m.ident(c.name)
	}
	return "CONVERT(" + text + " USING utf8mb4) COLLATE utf8mb4_nopad_bin"
}

func (mariadb) snapshot() []string {
	return []string{"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"}
}

func (mariadb) begin() []string {
	return []string{"SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED", "START TRANSACTION READ WRITE"}
}

func (mariadb) lock(bool) string   { return " FOR UPDATE" }
func (mariadb) joined() string     { return "STRAIGHT_JOIN" }
func (mariadb) lists() bool        { return true }
func (mariadb) returns() bool      { return false }
func (mariadb) setOf() string      { return "t." }
func (mariadb) immediate() string  { return "" }
func (mariadb) staged() bool       { return true }
func (mariadb) strictly() string   { return "" }
func (mariadb) overriding() string { return "" }

// rows are an array of arrays in JSON.
func (m mariadb) rows(columns []*column, keys int, rows [][]record.Value) (string, []param) {
	var b []byte
	for i, row := range rows {
		b = append(b, "[,"[min(i, 1)])
		for k, v := range row {
			b = append(b, "[,"[min(k, 1)])
			if v.IsNull() {
				b = append(b, "null"...)
			} else {
				b = jsontext.AppendString(b, v.String())
			}
		}
		b = append(b, ']')
	}
	b = append(b, ']')
	var fields, values []string
	for i, c := range columns {
		typ := "LONGTEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
		if i < keys && c.declared != "" { // compared as what it is, so that the index serves
			typ = c.declared
		}
		fields = append(fields, fmt.Sprintf("v%d %s PATH '$[%d]'", i, typ, i))
		values = append(values, fmt.Sprintf("%s AS c%d", m.value(fmt.Sprintf("j.v%d", i), c), i))
	}
	return fmt.Sprintf("(SELECT j.n AS n, %s FROM JSON_TABLE(?, '$[*]' COLUMNS (n FOR ORDINALITY, %s)) AS j) AS r", strings.Join(values, ", "), strings.Join(fields, ", ")), plain(string(b))
}

func (mariadb) updateFrom(table, rows, set, on string) string {
	return "UPDATE " + rows + " STRAIGHT_JOIN " + table + " AS t ON " + on + " SET " + set
}

func (mariadb) deleteFrom(table, rows, on string) string {
	return "DELETE t FROM " + rows + " STRAIGHT_JOIN " + table + " AS t ON " + on
}

// failure sorts by the server's numbers and the standard's classes.
func (mariadb) failure(err error) *failure {
	f, known := sorted(err)
	if known {
		return f
	}
	var my *mysql.MySQLError
	if !errors.As(err, &my) {
		if errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, sql.ErrConnDone) || errors.Is(err, io.EOF) || errors.As(err, new(net.Error)) {
			return &failure{lost, connectionWords(err), err}
		}
		return &failure{other, connectionWords(err), err}
	}
	f = &failure{other, my.Message, err}
	switch string(my.SQLState[:2]) {
	case "22", "23":
		f.kind = refused
	case "28":
		f.kind = denied
	case "08":
		f.kind = lost
	}
	switch my.Number {
	case 1205:
		f.kind = locked
	case 1213, 1020, 1637: // deadlock, changed since it was read, too many transactions
		f.kind = again
	case 1044, 1045, 1142, 1143, 1227, 1290, 1792, 1836: // rights, a server that is only read
		f.kind = denied
	case 1053, 1077, 1078, 1079, 1080, 1152, 1153, 1158, 1159, 1160, 1161, 1184, 1927, 1317: // it is going, or we were ended
		f.kind = lost
	case 1049, 1146, 1054:
		f.kind = gone
	case 1264, 1265, 1366, 1292, 1364, 1406, 1411, 1416, 1441, 1644, 1690, 1906, 4025, 4078:
		f.kind = refused
	}
	return f
}

func (mariadb) qualified(d *definition, name string) string {
	return mariadb{}.ident(d.schema) + "." + mariadb{}.ident(name)
}

func (m mariadb) table(d *definition) string {
	return "CREATE TABLE IF NOT EXISTS " + m.qualified(d, ticketTable) + ` (ticket varchar(80) CHARACTER SET ascii COLLATE ascii_bin NOT NULL PRIMARY KEY,
		says varchar(20) NOT NULL, made timestamp NOT NULL DEFAULT CURRENT_TIMESTAMP, by_whom varchar(300) NOT NULL DEFAULT CURRENT_USER()) ENGINE=InnoDB COMMENT 'paletwin: one row while a bulk update is written; says whether it was'`
}

func (m mariadb) draw(ctx context.Context, s session, d *definition, mark, before string) (*ticket, error) {
	return drawToken(ctx, s, m.qualified(d, ticketTable), mark, before)
}

func (m mariadb) fate(ctx context.Context, s session, d *definition, t *ticket) (fate, string, error) {
	if err := m.end(ctx, s, t.Mark); err != nil { // nobody waits for its answer
		return unknown, "", err
	}
	return fateOfToken(ctx, s, m, m.qualified(d, ticketTable), t)
}

func (mariadb) firm(context.Context, session) error { return nil }

func (m mariadb) settle(ctx context.Context, s session, d *definition, tokens []string) error {
	return settleTokens(ctx, s, m.qualified(d, ticketTable), tokens)
}
