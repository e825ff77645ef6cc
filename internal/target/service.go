package target

import (
	"net"
	"net/url"
	"path"
	"strings"
)

// Service says where an entity set of a record service is.
type Service struct {
	Root *url.URL // of the service, with a slash at its end and without user
	Set  string
	User string // who logs in by a password; "" is nobody, or by a token
}

// IsService reports whether a name is that of an entity set of a service.
func IsService(name string) bool {
	s := Scheme(name)
	return s == "https" || s == "http"
}

// IsRemote reports whether a name is of something that has to be asked: a table of a database, or an
// entity set of a service.
func IsRemote(name string) bool { return IsDatabase(name) || IsService(name) }

// ParseService reads the name of an entity set, https://host/service/Set, of which the last part of the path is the
// set. Errors are *AddressError.
func ParseService(name string) (*Service, error) {
	u, err := url.Parse(name)
	if err != nil || u.Host == "" {
		return nil, &AddressError{withoutPassword(name), "is not written as URLs are"}
	}
	if _, said := u.User.Password(); said {
		return nil, &AddressError{withoutPassword(name), "a password in a name stands in lists of processes and in histories; give it in PALETWIN_PASSWORD, or in a file that PALETWIN_PASSWORD_FILE names"}
	}
	if u.RawQuery != "" || u.Fragment != "" {
		return nil, &AddressError{withoutPassword(name), "has a part behind ? or #, which is not for a service: https://host/service/Set"}
	}
	at := strings.TrimRight(u.EscapedPath(), "/")
	set, err := url.PathUnescape(path.Base(at))
	if err != nil || at == "" || strings.ContainsAny(set, "()$") {
		return nil, &AddressError{withoutPassword(name), "names no entity set: https://host/service/Set"}
	}
	root := &url.URL{Scheme: strings.ToLower(u.Scheme), Host: strings.ToLower(u.Host)}
	if host, port, err := net.SplitHostPort(root.Host); err == nil && port == map[string]string{"http": "80", "https": "443"}[root.Scheme] {
		root.Host = host
		if strings.Contains(host, ":") {
			root.Host = "[" + host + "]"
		}
	}
	folder := path.Dir(at)
	if folder != "/" {
		folder += "/"
	}
	if root, err = root.Parse(folder); err != nil {
		return nil, &AddressError{withoutPassword(name), "is not written as URLs are"}
	}
	return &Service{Root: root, Set: set, User: u.User.Username()}, nil
}

// String is the address as it is said and kept: one text for one place. It holds no
// password.
func (s *Service) String() string {
	u := *s.Root
	if s.User != "" {
		u.User = url.User(s.User)
	}
	return u.String() + url.PathEscape(s.Set)
}
