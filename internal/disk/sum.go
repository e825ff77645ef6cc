package disk

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"slices"

	"github.com/zeebo/xxh3"
)

// sums hashes what is written through it: SHA-256, which is slow, in a
// goroutine of its own, and a quick hash for reading back.
type sums struct {
	w     io.Writer
	quick *xxh3.Hasher
	n     int64
	full  chan []byte // nil where no SHA-256 is wanted
	free  chan []byte
	sha   chan string
}

func newSums(w io.Writer, full bool) *sums {
	s := &sums{w: w, quick: xxh3.New()}
	if !full {
		return s
	}
	s.full, s.free, s.sha = make(chan []byte, 4), make(chan []byte, 6), make(chan string, 1)
	go func() {
		h := sha256.New()
		for b := range s.full {
			h.Write(b)
			select {
			case s.free <- b[:0]:
			default:
			}
		}
		s.sha <- hex.EncodeToString(h.Sum(nil))
	}()
	return s
}

// mostAtOnce is how many bytes are written, and copied to be hashed, at once.
const mostAtOnce = 1 << 20

func (s *sums) Write(p []byte) (n int, err error) {
	for part := range slices.Chunk(p, mostAtOnce) {
		k, err := s.write(part)
		if n += k; err != nil {
			return n, err
		}
	}
	return n, nil
}

func (s *sums) write(p []byte) (int, error) {
	n, err := s.w.Write(p)
	s.n += int64(n)
	s.quick.Write(p[:n])
	if s.full != nil && n > 0 {
		var b []byte
		select {
		case b = <-s.free:
		default:
		}
		s.full <- append(b, p[:n]...)
	}
	return n, err
}

// close ends the hashing; it is called once.
func (s *sums) close() Written {
	w := Written{Size: s.n, quick: s.quick.Sum128()}
	if s.full != nil {
		close(s.full)
		w.SHA256 = <-s.sha
	}
	return w
}

// ReadsBack reads a file again and reports whether it holds what was written.
func (w *Written) ReadsBack(fsys FS, name string) (bool, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return false, err
	}
	defer f.Close()
	s := newSums(io.Discard, false)
	// Hide the other methods of the file, so that Read is what is called.
	if _, err := io.CopyBuffer(s, struct{ io.Reader }{f}, make([]byte, 1<<20)); err != nil {
		return false, err
	}
	return s.n == w.Size && s.quick.Sum128() == w.quick, nil
}
