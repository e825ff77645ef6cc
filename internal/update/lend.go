package update

import (
	"context"
	"io"
	"path/filepath"
	"strings"

	"paletwin/core/lend"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// Lend writes a copy to edit to path, in the format of its ending, and keeps what was lent on the desk under a
// name, where that is a part of the snapshot.
func (o *Office) Lend(ctx context.Context, d *desk.Desk, c *lend.Copy, path, name string) (lent *table.Lent, err error) {
	c.Format = strings.ToLower(strings.TrimPrefix(filepath.Ext(path), "."))
	_, err = disk.WriteUnsummed(o.FS, path, 0o600, func(w io.Writer) (err error) {
		lent, err = c.Write(ctx, w)
		return err
	})
	if err != nil || !lent.Narrow() {
		return lent, err
	}
	_, err = d.KeepLent(lent, name)
	return lent, err
}
