package target

import (
	"net"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
)

// Address says where a table of a database is.
type Address struct {
	Scheme   string   // "postgresql", "mariadb" or "sqlite"
	URL      *url.URL // without password and fragment; of SQLite nil
	File     string   // of SQLite: absolute, links followed
	Database string   // of others; "" is the account's own
	Schema   string   // "" is where the database looks first
	Table    string
}

// databases are the schemes that name tables, by what they may be written as.
var databases = map[string]string{"postgresql": "postgresql", "postgres": "postgresql", "mariadb": "mariadb", "mysql": "mariadb", "sqlite": "sqlite"}

// ports are those that need not be said.
var ports = map[string]string{"postgresql": "5432", "mariadb": "3306"}

// IsDatabase reports whether a name is that of a table of a database.
func IsDatabase(name string) bool { return databases[Scheme(name)] != "" }

// AddressError is a name of a table that is none.
type AddressError struct{ Name, Text string }

func (e *AddressError) Error() string { return e.Name + ": " + e.Text }

// ParseAddress reads a table's name:
//
//	postgresql://registrar@host:5432/register#public.aids
//	mariadb://registrar@host/register#aids
//	sqlite:register.db#aids
//
// A part of a table's name that has a dot stands in double quotes.
func ParseAddress(name string) (*Address, error) {
	scheme, rest, _ := strings.Cut(name, ":")
	a := &Address{Scheme: databases[strings.ToLower(scheme)]}
	if a.Scheme == "" {
		return nil, &AddressError{name, "is no database's name"}
	}
	var fragment string
	if a.Scheme == "sqlite" {
		file, part, _ := strings.Cut(strings.TrimPrefix(rest, "//"), "#")
		path, err := filepath.Abs(file)
		if err != nil || file == "" {
			return nil, &AddressError{name, "names no file: sqlite:register.db#aids"}
		}
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real
		}
		a.File = path
		if fragment, err = url.PathUnescape(part); err != nil {
			return nil, &AddressError{name, "its part behind # is not written as URLs are"}
		}
	} else {
		u, err := url.Parse(name)
		if err != nil {
			return nil, &AddressError{withoutPassword(name), "is not written as URLs are"}
		}
		if _, said := u.User.Password(); said {
			return nil, &AddressError{withoutPassword(name), "a password in a name stands in lists of processes and in histories; give it in PALETWIN_PASSWORD, or in a file that PALETWIN_PASSWORD_FILE names"}
		}
		fragment, u.Fragment, u.RawFragment, u.Scheme = u.Fragment, "", "", a.Scheme
		a.URL, a.Database = u, strings.TrimPrefix(u.Path, "/")
		if a.Database == "" && a.Scheme == "mariadb" {
			return nil, &AddressError{name, "names no database: mariadb://registrar@host/register#aids"}
		}
	}
	parts, ok := Split(fragment)
	switch {
	case !ok || len(parts) > 2 || slices.Contains(parts, ""):
		return nil, &AddressError{name, "names no table: it stands behind #, as in …/register#aids"}
	case len(parts) == 2:
		a.Schema, a.Table = parts[0], parts[1]
	default:
		a.Table = parts[0]
	}
	return a, nil
}

// Split parts a table's name at its dots that stand in no double quotes.
func Split(name string) (parts []string, ok bool) {
	for {
		part, quoted := strings.CutPrefix(name, `"`)
		if !quoted {
			var more bool
			part, name, more = strings.Cut(name, ".")
			parts = append(parts, part)
			if !more {
				return parts, true
			}
			continue
		}
		var b strings.Builder
		for {
			i := strings.IndexByte(part, '"')
			if i < 0 {
				return nil, false
			}
			b.WriteString(part[:i])
			if part = part[i+1:]; !strings.HasPrefix(part, `"`) {
				break
			}
			b.WriteByte('"')
			part = part[1:]
		}
		parts = append(parts, b.String())
		if part == "" {
			return parts, true
		}
		if part[0] != '.' {
			return nil, false
		}
		name = part[1:]
	}
}

// Qualified is a table's name with its schema's; Split is its inverse.
func Qualified(parts ...string) string {
	var all []string
	for _, p := range parts {
		if p == "" {
			continue
		}
		if strings.ContainsAny(p, `."`) {
			p = `"` + strings.ReplaceAll(p, `"`, `""`) + `"`
		}
		all = append(all, p)
	}
	return strings.Join(all, ".")
}

// String is the address as it is said and kept: one text for one place. It holds no
// password.
func (a *Address) String() string {
	table := (&url.URL{Fragment: Qualified(a.Schema, a.Table)}).String()
	if a.Scheme == "sqlite" {
		return "sqlite:" + a.File + table
	}
	u := *a.URL
	u.Host = strings.ToLower(u.Host)
	if host, port, err := net.SplitHostPort(u.Host); err == nil && port == ports[a.Scheme] {
		u.Host = host
	}
	u.RawQuery = u.Query().Encode()
	return u.String() + table
}
