package cli

import (
	"errors"
	"io"
	"path/filepath"
	"strings"

	"paletwin/internal/disk"
	"paletwin/internal/picture"
	screen "paletwin/internal/term"
)

// showPlot draws what becomes of a field into a file.
func (a *app) showPlot(name, field, out string) error {
	format := strings.ToLower(strings.TrimPrefix(filepath.Ext(out), "."))
	if field == "" || format != "png" && format != "svg" {
		return usage("a picture needs a field and a file: show NNNN --with plot=FIELD -o picture.png, or .svg")
	}
	m, err := a.contents(name)
	if err != nil {
		return err
	}
	defer m.Close()
	_, err = disk.WriteUnsummed(a.fs, a.path(out), 0o600, func(w io.Writer) error { return picture.Write(w, m, field, format) })
	var none *picture.NoField
	if errors.As(err, &none) {
		return usage("%v", none)
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"dossier": m.Dossier.Meta.Number, "field": field, "file": a.path(out)})
	}
	a.out.Line("%s  %s", screen.Strong(screen.Safe(out)), screen.Dim(screen.Safe(field)))
	return nil
}
