package desk

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/forms"
	"paletwin/core/table"
	"paletwin/internal/disk"
)

// Files of a dossier that only grow are chains: each line holds the digest of
// the line before. What a chain cannot tell is whether its last lines are
// missing or altered: that, head.json knows, which is written after each line
// that was appended and synced. A file that is shorter than its head is
// damaged; one whole line behind it is one after which a command was killed,
// and counts.

const headName = "head.json"

// covered is the version of dossiers from which on chains have heads and copies
// of layouts have digests.
const covered = 2

// chainHead is where a chain ends.
type chainHead struct {
	Size  int64  `json:"size"`            // of all whole lines, in bytes
	First string `json:"first,omitempty"` // SHA-256 of the first line, without its line end; of older files unknown
	Last  string `json:"last"`            // and of the last
}

// heads is head.json.
type heads struct {
	Form    string               `json:"paletwin"`
	Version int                  `json:"version"`
	Dossier string               `json:"dossier,omitempty"` // the dossier's id
	Chains  map[string]chainHead `json:"chains"`            // by name in the dossier, with slashes
	Digest  string               `json:"digest"`            // SHA-256 of this file with digest empty
}

// LineDigest returns the digest of a line of a chain, without its line end.
func LineDigest(line []byte) string {
	return changeset.Checksum(bytes.TrimSuffix(line, []byte{'\n'}))
}

func (h *heads) digest() (string, error) {
	c := *h
	c.Digest = ""
	b, err := json.Marshal(&c)
	return changeset.Checksum(b), err
}

func (h *heads) write(fsys disk.FS, file string) (err error) {
	h.Form, h.Version = forms.Head.Name, forms.Head.Version
	if h.Digest, err = h.digest(); err != nil {
		return err
	}
	b, err := json.Marshal(h)
	if err != nil {
		return err
	}
	return disk.WriteBytes(fsys, file, append(b, '\n'))
}

// Covered reports whether the dossier's chains have heads. Those of before
// version 2 have none, but for what was appended later.
func (t *Dossier) Covered() bool { return t.Meta.Version >= covered }

// heads reads head.json; raw are its bytes.
func (t *Dossier) heads() (h *heads, raw []byte, err error) {
	h = &heads{Dossier: t.Meta.ID, Chains: map[string]chainHead{}}
	file := t.Path(headName)
	raw, err = disk.ReadFile(t.desk.FS, file)
	if errors.Is(err, fs.ErrNotExist) {
		if t.Covered() {
			return nil, nil, &DamageError{file, ErrMissing}
		}
		return h, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	if err := json.Unmarshal(raw, h); err != nil || h.Form != forms.Head.Name || h.Chains == nil {
		return nil, nil, &DamageError{file, errors.New("the file is not a dossier's heads, or is cut short")}
	}
	if err := forms.Head.Check(h.Version); err != nil {
		return nil, nil, &DamageError{file, err}
	}
	if want, err := h.digest(); err != nil || want != h.Digest {
		return nil, nil, &DamageError{file, ErrAltered}
	}
	if h.Dossier != t.Meta.ID {
		return nil, nil, &DamageError{file, errAnothers}
	}
	return h, raw, nil
}

// ErrMissing says that a file which a dossier had is not there.
var ErrMissing = errors.New("the file is missing")

// errAnothers says that a file belongs to another dossier than the one in whose folder it stands.
var errAnothers = errors.New("it is another dossier's, and does not belong here")

// errStale says that a chain was to be appended to as it was before others appended to it.
var errStale = errors.New("the file is longer than when it was read; nothing was written to it")

// SetHead notes where a chain ends: its size with all whole lines, and the
// digest of the last of them; and that of the first, where it is not "". The
// caller holds the dossier's lock.
func (t *Dossier) SetHead(name string, size int64, first, last string) error {
	h, _, err := t.heads()
	if err != nil {
		return err
	}
	h.Chains[name] = chainHead{Size: size, First: cmp.Or(first, h.Chains[name].First), Last: last}
	return h.write(t.desk.FS, t.Path(headName))
}

// AppendTo appends a line to a chain behind size bytes of whole lines, synced,
// and notes the chain's new end. It returns the line's digest, which is made
// while the disk is waited for. The caller holds the dossier's lock.
//
// A chain that is longer by its head than size was appended to since it was read: nothing is written over what
// stands there.
func (t *Dossier) AppendTo(name string, size int64, line []byte) (sum string, err error) {
	h, _, err := t.heads()
	if err != nil {
		return "", err
	}
	if end, known := h.Chains[name]; known && size < end.Size {
		return "", fmt.Errorf("%s: %w", t.Path(name), errStale)
	}
	made := make(chan string, 1)
	go func() { made <- LineDigest(line) }()
	err = disk.Append(t.desk.FS, t.Path(name), size, line)
	if sum = <-made; err != nil {
		return "", err
	}
	first := ""
	if size == 0 {
		first = sum
	}
	return sum, t.SetHead(name, size+int64(len(line)), first, sum)
}

// ReadChain reads the whole lines of a chain and holds them against its head;
// what a kill left of a line is passed over. It may be appended to meanwhile.
// Errors are fs.ErrNotExist where it was never begun, and *DamageError.
func (t *Dossier) ReadChain(name string) ([]byte, error) {
	lines, _, err := t.chain(name, func(file string) ([]byte, error) { return disk.ReadFile(t.desk.FS, file) })
	return lines, err
}

// manyBytes is from how many on a chain is not read into memory.
const manyBytes = 1 << 20

// WithChain is ReadChain for a chain that may be large: read is given its lines, which hold until it returns.
func (t *Dossier) WithChain(name string, read func(lines []byte) error) error {
	return t.withChain(name, func(lines []byte, _ string) error { return read(lines) })
}

// withChain is WithChain with the digest of the last line, where that is known.
func (t *Dossier) withChain(name string, read func(lines []byte, last string) error) error {
	if info, err := t.desk.FS.Stat(t.Path(name)); err != nil || info.Size() < manyBytes {
		lines, last, err := t.chain(name, func(file string) ([]byte, error) { return disk.ReadFile(t.desk.FS, file) })
		if err != nil {
			return err
		}
		return read(lines, last)
	}
	var m *disk.Mapping
	defer func() { _ = m.Close() }() // nothing was written
	return table.Guard(func() error {
		lines, last, err := t.chain(name, func(file string) ([]byte, error) {
			_ = m.Close()
			var err error
			if m, err = t.desk.FS.Map(file); err != nil {
				return nil, err
			}
			return m.Data, nil
		})
		if err != nil {
			return err
		}
		return read(lines, last)
	})
}

// chain is what a chain's file has, as load loads it, once it holds against its head; last is the digest of its last line, where its
// head has it.
func (t *Dossier) chain(name string, load func(file string) ([]byte, error)) (lines []byte, last string, err error) {
	for {
		h, before, err := t.heads()
		if err != nil {
			return nil, "", err
		}
		data, err := load(t.Path(name))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, "", err
		}
		there := err == nil
		if _, after, err := t.heads(); err != nil {
			return nil, "", err
		} else if !bytes.Equal(before, after) {
			continue // it was appended to while it was read
		}
		end, known := h.Chains[name]
		switch {
		case !there && known && end.Size > 0:
			return nil, "", &DamageError{t.Path(name), ErrMissing}
		case !there:
			return nil, "", &fs.PathError{Op: "open", Path: t.Path(name), Err: fs.ErrNotExist}
		}
		data = data[:bytes.LastIndexByte(data, '\n')+1]
		if known || t.Covered() {
			if err := end.check(data, known); err != nil {
				return nil, "", &DamageError{t.Path(name), err}
			}
			if int64(len(data)) == end.Size {
				last = end.Last
			}
		}
		return data, last, nil
	}
}

// ReadFirst reads the first line of a chain, without its line end, and holds it against what the chain's head knows
// of it; what stands behind it is not looked at, but for how long it is. Where no digest of a first line is known, it
// is ReadChain's.
func (t *Dossier) ReadFirst(name string) ([]byte, error) {
	h, _, err := t.heads()
	if err != nil {
		return nil, err
	}
	end := h.Chains[name]
	if end.First == "" {
		data, err := t.ReadChain(name)
		if err != nil || len(data) == 0 {
			return nil, err
		}
		return firstLine(data), nil
	}
	f, err := t.desk.FS.Open(t.Path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &DamageError{t.Path(name), ErrMissing}
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := t.desk.FS.Stat(t.Path(name))
	if err != nil {
		return nil, err
	}
	if info.Size() < end.Size {
		return nil, &DamageError{t.Path(name), errShorter(end.Size - info.Size())}
	}
	line, err := bufio.NewReader(io.LimitReader(f, end.Size)).ReadBytes('\n')
	if err != nil && err != io.EOF {
		return nil, err
	}
	if line = bytes.TrimSuffix(line, []byte{'\n'}); err != nil || LineDigest(line) != end.First {
		return nil, &DamageError{t.Path(name), ErrAltered}
	}
	return line, nil
}

func errShorter(missing int64) error {
	return fmt.Errorf("the file is shorter than it was: %d bytes are missing at its end", missing)
}

// begun is how many lines a chain is begun with before its head knows it.
const begun = 2

// check holds whole lines against the head.
func (c chainHead) check(data []byte, known bool) error {
	beyond := 1
	if !known {
		beyond = begun
	}
	if int64(len(data)) < c.Size {
		return errShorter(c.Size - int64(len(data)))
	}
	if c.Size > 0 {
		first, last := firstLine(data), lastLine(data[:c.Size])
		sum := LineDigest(last)
		if sum != c.Last {
			return ErrAltered
		}
		if len(first)+1 < int(c.Size) { // not the only line, which may be a large one
			sum = LineDigest(first)
		}
		if c.First != "" && sum != c.First {
			return ErrAltered
		}
	}
	if bytes.Count(data[c.Size:], []byte{'\n'}) > beyond {
		return errors.New("the file has more lines than were written to it")
	}
	return nil
}

// firstLine returns the first of whole lines.
func firstLine(data []byte) []byte { return data[:bytes.IndexByte(data, '\n')] }

// lastLine returns the last of whole lines.
func lastLine(data []byte) []byte {
	data = bytes.TrimSuffix(data, []byte{'\n'})
	return data[bytes.LastIndexByte(data, '\n')+1:]
}

// Chains lists the chains that the dossier's heads know.
func (t *Dossier) Chains() ([]string, error) {
	h, _, err := t.heads()
	if err != nil {
		return nil, err
	}
	var names []string
	for name := range h.Chains {
		names = append(names, name)
	}
	slices.Sort(names)
	return names, nil
}

// Beyond lists the chains with a line behind their head: a command was killed
// when it had written it, and before it could say so. The line counts.
func (t *Dossier) Beyond() ([]string, error) {
	h, _, err := t.heads()
	if err != nil {
		return nil, err
	}
	var names []string
	for name, end := range h.Chains {
		if info, err := t.desk.FS.Stat(t.Path(name)); err != nil || info.Size() <= end.Size {
			continue
		}
		data, err := disk.ReadFile(t.desk.FS, t.Path(name))
		if err == nil && int64(bytes.LastIndexByte(data, '\n')+1) > end.Size {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names, nil
}
