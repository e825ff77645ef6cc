package changeset

import (
	"bufio"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"hash"
	"io"
	"slices"
)

// A Writer writes a change set. Close writes the seal; a change set without
// one is no change set.
type Writer struct {
	w      *bufio.Writer
	sum    hash.Hash
	counts Counts
	ids    []ID
	buf    []byte
}

// NewWriter writes the header to w and returns a Writer for the changes.
// Amends and deletes come in the snapshot's order, then adds in the copy's;
// the caller keeps that order.
func NewWriter(w io.Writer, h Header) (*Writer, error) {
	sw := &Writer{sum: sha256.New()}
	sw.w = bufio.NewWriterSize(io.MultiWriter(w, sw.sum), 256<<10)
	line, err := h.marshal()
	if err != nil {
		return nil, fmt.Errorf("change set header: %w", err)
	}
	if _, err := sw.w.Write(append(line, '\n')); err != nil {
		return nil, err
	}
	return sw, nil
}

// Write appends one change.
func (w *Writer) Write(c *Change) error {
	w.buf = AppendLine(w.buf[:0], c)
	return w.WriteEncoded(w.buf, []*Change{c})
}

// WriteEncoded appends changes that AppendLine has already encoded, in the
// same order, into lines.
func (w *Writer) WriteEncoded(lines []byte, changes []*Change) error {
	for _, c := range changes {
		w.counts.Count(c)
		w.ids = append(w.ids, c.ID)
	}
	_, err := w.w.Write(lines)
	return err
}

// Close checks that no two changes have one id and writes the seal. It does
// not close the underlying writer.
func (w *Writer) Close() (Seal, error) {
	slices.SortFunc(w.ids, func(a, b ID) int {
		switch {
		case a.less(b):
			return -1
		case b.less(a):
			return 1
		}
		return 0
	})
	for i := 1; i < len(w.ids); i++ {
		if w.ids[i] == w.ids[i-1] {
			return Seal{}, fmt.Errorf("two changes have the id %s", w.ids[i])
		}
	}
	if err := w.w.Flush(); err != nil {
		return Seal{}, err
	}
	seal := Seal{ChecksumOf(w.sum), w.counts}
	line, err := json.Marshal(seal)
	if err != nil {
		return Seal{}, err
	}
	if _, err := w.w.Write(append(line, '\n')); err != nil {
		return Seal{}, err
	}
	return seal, w.w.Flush()
}
