package slip

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"slices"

	"github.com/zeebo/xxh3"
)

// SampleSize is how many records a sample has at most.
const SampleSize = 256

// Sample stands for a snapshot: the records whose keys have the smallest
// digests, which are the same ones in every snapshot that has them, each with
// a digest of its values.
type Sample struct {
	Fields uint64 // digest of the fields' names, in order
	Rows   []SampleRow
}

// SampleRow is one record of a sample.
type SampleRow struct{ Key, Values uint64 }

// DigestOf digests texts, in order.
func DigestOf(texts []string) uint64 {
	var h xxh3.Hasher
	var n [4]byte
	for _, t := range texts {
		binary.LittleEndian.PutUint32(n[:], uint32(len(t)))
		_, _ = h.Write(n[:]) // a hash takes all
		_, _ = h.WriteString(t)
	}
	return h.Sum64()
}

// MarshalText writes the sample as Base64: the fields' digest, then key and
// values of each record, 8 bytes each, least first.
func (s Sample) MarshalText() ([]byte, error) {
	b := binary.LittleEndian.AppendUint64(nil, s.Fields)
	for _, r := range s.Rows {
		b = binary.LittleEndian.AppendUint64(b, r.Key)
		b = binary.LittleEndian.AppendUint64(b, r.Values)
	}
	return base64.StdEncoding.AppendEncode(nil, b), nil
}

// UnmarshalText reads what MarshalText wrote.
func (s *Sample) UnmarshalText(text []byte) error {
	b, err := base64.StdEncoding.AppendDecode(nil, text)
	if err != nil || len(b)%16 != 8 {
		return errors.New("is no sample of a snapshot")
	}
	s.Fields = binary.LittleEndian.Uint64(b)
	s.Rows = nil
	for b = b[8:]; len(b) > 0; b = b[16:] {
		s.Rows = append(s.Rows, SampleRow{binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:])})
	}
	return nil
}

// BottomK is a bottom-k sample: it keeps the SampleSize smallest digests of keys, each with where it
// was seen.
type BottomK struct {
	seen  []digest
	limit uint64
	full  bool
}

type digest struct {
	key uint64
	at  uint32
}

// Take takes in a key's digest.
func (l *BottomK) Take(key uint64, at uint32) {
	if l.full && key >= l.limit {
		return
	}
	if l.seen = append(l.seen, digest{key, at}); len(l.seen) >= 2*SampleSize {
		l.cut()
	}
}

func (l *BottomK) cut() {
	slices.SortFunc(l.seen, func(a, b digest) int {
		switch {
		case a.key < b.key:
			return -1
		case a.key > b.key:
			return 1
		}
		return int(int64(a.at) - int64(b.at))
	})
	if len(l.seen) >= SampleSize {
		l.seen = l.seen[:SampleSize]
		l.full, l.limit = true, l.seen[SampleSize-1].key
	}
}

// All gives the smallest digests and where they were seen, in order.
func (l *BottomK) All() func(yield func(key uint64, at uint32) bool) {
	l.cut()
	return func(yield func(uint64, uint32) bool) {
		for _, s := range l.seen {
			if !yield(s.key, s.at) {
				return
			}
		}
	}
}

// Fits counts the records in which own and other, samples of two snapshots,
// differ, and of these those that a copy has as the one, and as the other.
// as says what the digest of a record of own is in the copy, by its number in
// own's rows.
func Fits(own, other Sample, as func(row int) (uint64, bool)) (asOwn, asOther int) {
	if own.Fields != other.Fields {
		return 0, 0
	}
	theirs := make(map[uint64]uint64, len(other.Rows))
	for _, r := range other.Rows {
		theirs[r.Key] = r.Values
	}
	for n, r := range own.Rows {
		v, ok := theirs[r.Key]
		if !ok || v == r.Values {
			continue
		}
		switch d, ok := as(n); {
		case !ok:
		case d == r.Values:
			asOwn++
		case d == v:
			asOther++
		}
	}
	return asOwn, asOther
}

// FitsOther reports whether the copy is rather of the other snapshot.
func FitsOther(asOwn, asOther int) bool {
	return asOther >= fewestFit && asOther >= fitTimes*asOwn
}
