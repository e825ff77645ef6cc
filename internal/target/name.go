package target

import (
	"net/url"
	"slices"
	"strings"
)

// schemes are those of kinds whose URLs have no authority behind two slashes.
var schemes = []string{}

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

// Public is a URL without a password.
func Public(name string) string {
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
