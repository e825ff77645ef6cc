// Package open opens a target by its name, whatever kind it is of.
package open

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/file"
)

// Place is a target that is to be opened.
type Place struct {
	Name string         // a path, or a URL whose scheme says the kind
	Key  []string       // the key fields
	Of   *schema.Schema // what is known of the records
	Read table.Options  // what is known of a file
}

// kinds opens targets by the scheme of their URLs. A name without one is a file.
var kinds = map[string]func(context.Context, disk.FS, Place) (target.Target, error){}

// UnknownKind says that there is no such kind of target.
type UnknownKind struct{ Scheme, Name string }

func (e *UnknownKind) Error() string {
	return fmt.Sprintf("%s: there is no kind of target called %q", e.Name, e.Scheme)
}

// Open opens a target and takes its lock. Errors are an *UnknownKind, or those of
// the kind.
func Open(ctx context.Context, fsys disk.FS, p Place) (target.Target, error) {
	scheme := Scheme(p.Name)
	if scheme == "" {
		return file.Open(fsys, p.Name, p.Key, p.Of, p.Read)
	}
	if open := kinds[scheme]; open != nil {
		return open(ctx, fsys, p)
	}
	return nil, &UnknownKind{scheme, Name(p.Name)}
}

// Scheme is the scheme of a URL (RFC 3986, section 3.1), "" of a path. In a file's
// name a colon is a letter like others.
func Scheme(name string) string {
	scheme, rest, ok := strings.Cut(name, ":")
	if !ok || len(scheme) < 2 || rest == "" || strings.ContainsFunc(scheme, notOfScheme) {
		return ""
	}
	scheme = strings.ToLower(scheme)
	if kinds[scheme] == nil && !strings.HasPrefix(rest, "//") {
		return ""
	}
	return scheme
}

func notOfScheme(r rune) bool {
	return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("+-.", r))
}

// Name is what a place is called wherever it is said or written down: a file by
// its absolute path, links followed; a URL without a password.
func Name(name string) string {
	if Scheme(name) == "" {
		return file.Path(name)
	}
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
