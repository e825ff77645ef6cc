package disk

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
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
	full  *Hashing // nil where no SHA-256 is wanted
}

// Hashing is a SHA-256 that is made by a goroutine of its own of what is written to it. It has to be ended, once.
type Hashing struct {
	in, free chan []byte
	out      chan hash.Hash
}

// HashBeside begins to hash.
func HashBeside() *Hashing {
	h := &Hashing{make(chan []byte, 4), make(chan []byte, 6), make(chan hash.Hash, 1)}
	go func() {
		sum := sha256.New()
		for b := range h.in {
			sum.Write(b)
			select {
			case h.free <- b[:0]:
			default:
			}
		}
		h.out <- sum
	}()
	return h
}

// Write never fails.
func (h *Hashing) Write(p []byte) (int, error) {
	if len(p) > 0 {
		var b []byte
		select {
		case b = <-h.free:
		default:
		}
		h.in <- append(b, p...)
	}
	return len(p), nil
}

// End returns the hash of what was written.
func (h *Hashing) End() hash.Hash {
	close(h.in)
	return <-h.out
}

func newSums(w io.Writer, full bool) *sums {
	s := &sums{w: w, quick: xxh3.New()}
	if full {
		s.full = HashBeside()
	}
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
	if s.full != nil {
		_, _ = s.full.Write(p[:n]) // a hash never fails
	}
	return n, err
}

// close ends the hashing; it is called once.
func (s *sums) close() Written {
	w := Written{Size: s.n, quick: s.quick.Sum128()}
	if s.full != nil {
		w.SHA256 = hex.EncodeToString(s.full.End().Sum(nil))
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
