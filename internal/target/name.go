package target

import (
	"net/url"
	"path/filepath"
	"slices"
	"strings"
)

// schemes are those of kinds whose URLs have no authority behind two slashes.
var schemes = []string{"sqlite"}

// Scheme is the scheme of a URL (RFC 3986, section 3.1), "" of a path. In a file's
// name a colon is a letter like others.
func Scheme(name string) string {
	scheme, rest, ok := strings.Cut(name, ":")
	if !ok || len(scheme) < 2 || rest == "" || strings.ContainsFunc(scheme, notOfScheme) {
		return ""
	}
	scheme = strings.ToLower(scheme)
	if !slices.Contains(schemes, scheme) && !strings.HasPrefix(rest, "//") {
		return ""
	}
	return scheme
}

func notOfScheme(r rune) bool {
	return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("+-.", r))
}

// Public is a URL without a password; a table's is always the same text for the same
// table.
func Public(name string) string {
	if a, err := ParseAddress(name); err == nil {
		return a.String()
	}
	if IsService(name) {
		if s, err := ParseService(name); err == nil {
			return s.String()
		}
	}
	return withoutPassword(name)
}

func withoutPassword(name string) string {
	u, err := url.Parse(name)
	if err != nil { // it may hold one all the same
		before, behind, _ := strings.Cut(name, "://")
		if at := strings.LastIndexByte(behind, '@'); at >= 0 {
			return before + "://" + behind[at+1:]
		}
		return name
	}
	if _, said := u.User.Password(); said {
		u.User = url.User(u.User.Username())
	}
	return u.String()
}

// In makes the name of a place that was said in a folder good anywhere: paths are made
// absolute, in a database file's name, too, and have slashes, since they are kept. URLs of servers stay.
func In(dir, name string) string {
	switch scheme := Scheme(name); {
	case scheme == "" && filepath.IsAbs(name):
		return filepath.ToSlash(name)
	case scheme == "":
		return filepath.ToSlash(filepath.Join(dir, name))
	case databases[scheme] == "sqlite":
		_, rest, _ := strings.Cut(name, ":")
		file, table, _ := strings.Cut(strings.TrimPrefix(rest, "//"), "#")
		if file != "" && !filepath.IsAbs(file) {
			return "sqlite:" + filepath.ToSlash(filepath.Join(dir, file)) + "#" + table
		}
	}
	return name
}
