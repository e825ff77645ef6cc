// Package archive writes zip archives of documents anew, in which most parts go over as they stand.
package archive

import (
	"archive/zip"
	"io"
)

// Anew writes a part of an archive with another content, under all that the archive says of it.
func Anew(to *zip.Writer, f *zip.File, write func(io.Writer) error) error {
	h := &zip.FileHeader{Name: f.Name, Comment: f.Comment, NonUTF8: f.NonUTF8, Method: f.Method, ExternalAttrs: f.ExternalAttrs, CreatorVersion: f.CreatorVersion}
	//lint:ignore SA1019 as they are written: many programs write a date that is none
	h.ModifiedDate, h.ModifiedTime = f.ModifiedDate, f.ModifiedTime
	out, err := to.CreateHeader(h)
	if err != nil {
		return err
	}
	return write(out)
}
