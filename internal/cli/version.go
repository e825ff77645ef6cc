package cli

import (
	"runtime"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"paletwin/core/forms"
	"paletwin/core/table/open"
	screen "paletwin/internal/term"
)

// build is what the program was made of, as it was noted when it was built.
type build struct {
	Version string       `json:"version"`
	Commit  string       `json:"commit,omitempty"`
	Edited  bool         `json:"edited,omitempty"` // its files were others than the commit's
	When    *time.Time   `json:"when,omitempty"`   // of the commit
	Go      string       `json:"go"`
	System  string       `json:"system"`
	Files   []string     `json:"files"` // kinds of files with records that are read and written
	Forms   []forms.Form `json:"forms"` // of its own files on a desk
	Modules []module     `json:"modules"`
}

type module struct {
	Path    string `json:"path"`
	Version string `json:"version"`
	Sum     string `json:"sum,omitempty"`
}

func newVersion(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Say which version this is, and which files it reads",
		Example: `  paletwin version
  paletwin version --json`,
		Args: exactly(0, 0, "nothing else"),
		RunE: func(*cobra.Command, []string) error { return a.version(thisBuild()) },
	}
}

// thisBuild asks the program itself.
func thisBuild() *build {
	b := &build{Version: Version, Go: runtime.Version(), System: runtime.GOOS + "/" + runtime.GOARCH, Files: open.Formats, Forms: forms.All(), Modules: []module{}}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Commit = s.Value
		case "vcs.modified":
			b.Edited = s.Value == "true"
		case "vcs.time":
			if t, err := time.Parse(time.RFC3339, s.Value); err == nil {
				b.When = &t
			}
		}
	}
	for _, m := range info.Deps {
		b.Modules = append(b.Modules, module{m.Path, m.Version, m.Sum})
	}
	return b
}

func (a *app) version(b *build) error {
	if a.json {
		return a.printJSON(b)
	}
	a.out.Line("Pale Twin %s  %s", screen.Strong(b.Version), screen.Dim(b.System+", "+b.Go))
	tab := screen.Table{Indent: "  "}
	if b.Commit != "" {
		commit := b.Commit[:min(len(b.Commit), 12)]
		if b.When != nil {
			commit += " of " + b.When.Format("2 January 2006")
		}
		if b.Edited {
			commit += ", with files that were edited since"
		}
		tab.Row(screen.Dim("commit"), commit)
	}
	tab.Row(screen.Dim("files"), strings.Join(b.Files, ", "))
	var known []string
	for _, f := range b.Forms {
		known = append(known, f.String())
	}
	tab.Row(screen.Dim("forms"), strings.Join(known, ", "))
	tab.Row(screen.Dim("modules"), screen.Count(len(b.Modules)))
	tab.Print(a.out)
	a.hint("a form with a higher number is not read here; --json has the modules")
	return nil
}
