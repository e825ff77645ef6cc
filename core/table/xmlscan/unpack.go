package xmlscan

import (
	"errors"
	"io"
)

// ErrUnpacks says that a part of a document is no table: it unpacks to far more than anything does that people wrote.
var ErrUnpacks = errors.New("unpacks to more than a hundred times its size, as no table does")

// A part may unpack to so many times its size in the archive. Rows that are alike but for their numbers come to some thirty
// times; what is smaller than unpacksFreely may come to anything.
const (
	unpacksTo     = 100
	unpacksFreely = 128 << 20 // bytes
)

// Unpacked reads a part of an archive, where it has so many bytes, up to most; count takes how many were read.
func Unpacked(r io.Reader, packed uint64, most int64, count *int64) io.Reader {
	if packed < uint64(most)/unpacksTo {
		most = min(most, max(unpacksFreely, unpacksTo*int64(packed)))
	}
	return &unpacked{r, most, count}
}

type unpacked struct {
	r     io.Reader
	left  int64
	count *int64
}

func (u *unpacked) Read(p []byte) (int, error) {
	n, err := u.r.Read(p)
	*u.count += int64(n)
	if u.left -= int64(n); u.left < 0 {
		return 0, ErrUnpacks
	}
	return n, err
}
