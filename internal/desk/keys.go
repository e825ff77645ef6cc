package desk

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"slices"
	"sort"
	"strings"

	"github.com/zeebo/xxh3"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/disk"
)

// A change set's keys, sorted, stand in a file beside it, so that a record is
// found in many dossiers without reading them: its ids, which are made of the
// keys, and where their lines start. The file is made when it is first needed
// or does not belong to the change set; what it says is only where to look,
// and every hit is read from the change set itself.
//
// Its form: "paletwin keys 1\n", the 32 bytes of the change set's seal, for
// each change the 8 bytes of its id and 8 of its offset behind the heading,
// big-endian, by id; at last 8 bytes of XXH3 over all before.
const (
	keysMagic = "paletwin keys 1\n"
	keysHead  = len(keysMagic) + sha256.Size
	keysEntry = 16
	keysFoot  = 8
)

func (t *Dossier) keysFile() string {
	return t.Path(strings.TrimSuffix(ChangesName(t.Set().Name), "jsonl") + "keys")
}

// Find returns the changes of a record with their lines, and the change set
// they stand in, which the caller closes; without any it is nil.
func (t *Dossier) Find(key record.Key) (*Changes, []changeset.Line, error) {
	seal, err := hex.DecodeString(strings.TrimPrefix(t.Set().Seal, "sha256:"))
	if err != nil {
		return nil, nil, &DamageError{t.Path("dossier.json"), err}
	}
	var index keyIndex
	made := true
	if b, err := disk.ReadFile(t.desk.FS, t.keysFile()); err == nil {
		if k, ok := parseKeys(b, seal); ok {
			index, made = k, false
		}
	}
	for {
		if made {
			if index, err = t.makeKeys(seal); err != nil {
				return nil, nil, err
			}
		}
		c, lines, err := t.hits(index, key)
		if !errors.Is(err, errMisled) || made {
			return c, lines, err
		}
		made = true // the file leads astray: make it anew, and look again
	}
}

// errMisled says that a file of keys leads to another record.
var errMisled = errors.New("the keys do not fit the change set")

// hits reads what the keys lead to.
func (t *Dossier) hits(index keyIndex, key record.Key) (*Changes, []changeset.Line, error) {
	offsets := index.find(t.Set().Name, key)
	if len(offsets) == 0 {
		return nil, nil, nil
	}
	c, err := t.Changes()
	if err != nil {
		return nil, nil, err
	}
	var lines []changeset.Line
	for _, at := range offsets {
		l, ok := c.At(at)
		if ok {
			ch, err := l.Change(c.Header.Fields)
			ok = err == nil && ch.Key == key
		}
		if !ok {
			_ = c.Close() // only read
			return nil, nil, errMisled
		}
		lines = append(lines, l)
	}
	return c, lines, nil
}

// keyIndex is the entries of a file of keys.
type keyIndex []byte

// parseKeys reads a file of keys; ok is false where it is none, is damaged, or
// belongs to another change set.
func parseKeys(b, seal []byte) (keyIndex, bool) {
	n := len(b) - keysHead - keysFoot
	if n < 0 || n%keysEntry != 0 || string(b[:len(keysMagic)]) != keysMagic || !bytes.Equal(b[len(keysMagic):keysHead], seal) {
		return nil, false
	}
	sum := binary.BigEndian.Uint64(b[len(b)-keysFoot:])
	return keyIndex(b[keysHead : keysHead+n]), xxh3.Hash(b[:len(b)-keysFoot]) == sum
}

// find returns the offsets of a record's changes, in their order.
func (k keyIndex) find(set string, key record.Key) []int {
	var all []int
	for _, act := range []changeset.Act{changeset.Amend, changeset.Add, changeset.Delete} {
		id := changeset.MakeID(set, key, act)
		n := len(k) / keysEntry
		i := sort.Search(n, func(i int) bool { return bytes.Compare(k[i*keysEntry:i*keysEntry+8], id[:]) >= 0 })
		if i < n && bytes.Equal(k[i*keysEntry:i*keysEntry+8], id[:]) {
			all = append(all, int(binary.BigEndian.Uint64(k[i*keysEntry+8:])))
		}
	}
	slices.Sort(all)
	return all
}

// makeKeys makes the keys of the change set, and keeps them where nobody else
// works on the dossier and it can be written.
func (t *Dossier) makeKeys(seal []byte) (keyIndex, error) {
	c, err := t.Changes()
	if err != nil {
		return nil, err
	}
	defer c.Close()
	var entries [][keysEntry]byte
	at := 0
	for l := range c.Lines() {
		var e [keysEntry]byte
		id := l.ID()
		copy(e[:], id[:])
		binary.BigEndian.PutUint64(e[8:], uint64(at))
		entries = append(entries, e)
		at += len(l) + 1
	}
	slices.SortFunc(entries, func(a, b [keysEntry]byte) int { return bytes.Compare(a[:8], b[:8]) })
	b := append([]byte(keysMagic), seal...)
	for i := range entries {
		b = append(b, entries[i][:]...)
	}
	b = binary.BigEndian.AppendUint64(b, xxh3.Hash(b))
	if lock, err := t.Lock(); err == nil {
		// Without the file the next question makes the keys again.
		_, _ = disk.WriteUnsummed(t.desk.FS, t.keysFile(), 0o600, func(w io.Writer) error { _, err := w.Write(b); return err })
		_ = lock.Unlock()
	}
	k, _ := parseKeys(b, seal)
	return k, nil
}
