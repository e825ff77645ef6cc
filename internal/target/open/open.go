// Package open opens a target by its name, whatever kind it is of.
package open

import (
	"context"
	"fmt"

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
	scheme := target.Scheme(p.Name)
	if scheme == "" {
		return file.Open(fsys, p.Name, p.Key, p.Of, p.Read)
	}
	if open := kinds[scheme]; open != nil {
		return open(ctx, fsys, p)
	}
	return nil, &UnknownKind{scheme, Name(p.Name)}
}

// Name is what a place is called wherever it is said or written down: a file by
// its absolute path, links followed; a URL without a password.
func Name(name string) string {
	if target.Scheme(name) == "" {
		return file.Path(name)
	}
	return target.Public(name)
}
