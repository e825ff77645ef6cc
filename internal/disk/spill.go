package disk

import (
	"errors"
	"os"
)

// Spill gives arrays that stand in temporary files and not in memory.
type Spill struct {
	dir   string
	files []*os.File
	maps  []func() error
}

// NewSpill returns a Spill whose files stand in dir, or in the system's
// folder for temporary files where dir is empty.
func NewSpill(dir string) *Spill { return &Spill{dir: dir} }

// Bytes returns a zeroed array of n bytes, good until Close.
func (s *Spill) Bytes(n int64) ([]byte, error) {
	f, err := os.CreateTemp(s.dir, "paletwin-spill-")
	if err != nil {
		return nil, err
	}
	s.files = append(s.files, f)
	if err := f.Truncate(n); err != nil {
		return nil, err
	}
	b, unmap, err := mapShared(f, n)
	if err != nil {
		return nil, err
	}
	s.maps = append(s.maps, unmap)
	return b, nil
}

// Close gives the arrays back and removes their files.
func (s *Spill) Close() error {
	var errs []error
	for _, unmap := range s.maps {
		errs = append(errs, unmap())
	}
	for _, f := range s.files {
		errs = append(errs, f.Close(), os.Remove(f.Name()))
	}
	s.maps, s.files = nil, nil
	return errors.Join(errs...)
}
