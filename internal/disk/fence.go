package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Fence is a file system in which some folders are a desk's own. Nothing in them leads out of the desk, and what is made in them
// belongs to those to whom the desk does. Elsewhere it does nothing.
type Fence struct {
	FS
	Dir string   // the desk's folder, absolute; it may be reached through links
	Own []string // the names in it that are the desk's own
	To  Owners

	passed sync.Map // folders that were looked at
}

// Owners says to whom new files are given.
type Owners struct {
	UID, GID int  // -1 as they come
	Group    bool // whoever is in the group may write: 0660, and 2770 of folders
}

// AsMade leaves new files to those who make them.
var AsMade = Owners{UID: -1, GID: -1}

// ErrLeadsOut says that a link in a desk leads out of it.
var ErrLeadsOut = errors.New("it is a link that leads out of the desk")

// ErrCloud says that of a file only what stands for it is there, in a folder that is kept alike with others elsewhere.
var ErrCloud = errors.New("it is not on this machine yet: only what stands for it is")

// within gives the way from the desk to a name of its own, in parts.
func (f *Fence) within(name string) ([]string, bool) {
	if f == nil {
		return nil, false
	}
	rel, err := filepath.Rel(f.Dir, name)
	if err != nil || !filepath.IsLocal(rel) {
		return nil, false
	}
	parts := strings.Split(rel, string(filepath.Separator))
	for _, own := range f.Own {
		if parts[0] == own {
			return parts, true
		}
	}
	return nil, false
}

// enter refuses a name that leads out of the desk; last says that what it names itself is followed, too.
func (f *Fence) enter(name string, last bool) error {
	parts, ours := f.within(name)
	if !ours {
		return nil
	}
	at := f.Dir
	for i, part := range parts {
		at = filepath.Join(at, part)
		if i == len(parts)-1 && !last {
			return nil
		}
		if _, passed := f.passed.Load(at); passed {
			continue
		}
		info, err := os.Lstat(at)
		if err != nil {
			return nil // whoever opens it says why
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			if info.IsDir() {
				f.passed.Store(at, true)
			}
			continue
		}
		if !f.inside(at) {
			return &fs.PathError{Op: "open", Path: at, Err: ErrLeadsOut}
		}
	}
	return nil
}

// inside reports whether a link leads to something that is there, in the desk.
func (f *Fence) inside(link string) bool {
	to, err := filepath.EvalSymlinks(link)
	if err != nil {
		return false
	}
	dir, err := filepath.EvalSymlinks(f.Dir)
	if err != nil {
		return false
	}
	rel, err := filepath.Rel(dir, to)
	return err == nil && filepath.IsLocal(rel)
}

// adopt gives what was made to those whose it is.
func (f *Fence) adopt(name string) error {
	if _, ours := f.within(name); !ours || f.To == AsMade {
		return nil
	}
	return Give(name, f.To)
}

// aMoment is for how long what is new on a shared desk may be its maker's alone.
const aMoment = time.Second

// soon does something again for a moment where it is not permitted on a shared desk: whoever made a file or folder is about to give it to the group.
func (f *Fence) soon(name string, do func() error) error {
	_, ours := f.within(name)
	for began := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		err := do()
		if !errors.Is(err, fs.ErrPermission) || !ours || !f.To.Group || time.Since(began) > aMoment {
			return err
		}
	}
}

// there turns the error of a file that is not there, where something stands for it.
func (f *Fence) there(name string, err error) error {
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, ours := f.within(name); !ours {
		return err
	}
	dir, base := filepath.Split(name)
	for _, stub := range []string{"." + base + ".icloud", base + ".nextcloud", base + ".owncloud", base + ".cloud", base + ".cloudf"} {
		if _, serr := os.Lstat(dir + stub); serr == nil {
			return &fs.PathError{Op: "open", Path: name, Err: ErrCloud}
		}
	}
	return err
}

func (f *Fence) Open(name string) (File, error) {
	if err := f.enter(name, true); err != nil {
		return nil, err
	}
	var file File
	err := f.soon(name, func() (err error) { file, err = f.FS.Open(name); return err })
	return file, f.there(name, err)
}

func (f *Fence) Map(name string) (*Mapping, error) {
	if err := f.enter(name, true); err != nil {
		return nil, err
	}
	var m *Mapping
	err := f.soon(name, func() (err error) { m, err = f.FS.Map(name); return err })
	return m, f.there(name, err)
}

func (f *Fence) Create(name string, perm fs.FileMode) (File, error) {
	if err := f.enter(name, false); err != nil {
		return nil, err
	}
	return f.made(name, true, func() (File, error) { return f.FS.Create(name, perm) })
}

func (f *Fence) OpenAppend(name string) (File, error) {
	if err := f.enter(name, true); err != nil {
		return nil, err
	}
	_, err := os.Lstat(name)
	return f.made(name, err != nil, func() (File, error) { return f.FS.OpenAppend(name) })
}

// made opens a file, and gives it away where it is new.
func (f *Fence) made(name string, isNew bool, open func() (File, error)) (File, error) {
	var file File
	err := f.soon(name, func() (err error) { file, err = open(); return err })
	if err != nil || !isNew {
		return file, err
	}
	if err := f.adopt(name); err != nil {
		_ = file.Close() // the first error counts
		return nil, err
	}
	return file, nil
}

func (f *Fence) Rename(from, to string) error {
	for _, name := range []string{from, to} {
		if err := f.enter(name, false); err != nil {
			return err
		}
		f.forget(name)
	}
	if err := f.FS.Rename(from, to); err != nil {
		return err
	}
	if _, ours := f.within(from); ours {
		return nil
	}
	return f.adopt(to) // it was made beside the desk's own
}

func (f *Fence) Remove(name string) error {
	if err := f.enter(name, false); err != nil {
		return err
	}
	f.forget(name)
	return f.FS.Remove(name)
}

func (f *Fence) RemoveAll(name string) error {
	if err := f.enter(name, false); err != nil {
		return err
	}
	f.forget(name)
	return f.FS.RemoveAll(name)
}

// forget has a folder, and those in it, looked at anew.
func (f *Fence) forget(name string) {
	f.passed.Range(func(dir, _ any) bool {
		if d := dir.(string); d == name || strings.HasPrefix(d, name+string(filepath.Separator)) {
			f.passed.Delete(dir)
		}
		return true
	})
}

func (f *Fence) Mkdir(name string) error {
	if err := f.enter(name, false); err != nil {
		return err
	}
	if err := f.soon(name, func() error { return f.FS.Mkdir(name) }); err != nil {
		return err
	}
	return f.adopt(name)
}

func (f *Fence) MkdirAll(name string) error {
	parts, ours := f.within(name)
	if !ours {
		return f.FS.MkdirAll(name)
	}
	at := f.Dir
	for _, part := range parts {
		at = filepath.Join(at, part)
		if err := f.Mkdir(at); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return f.enter(name, true)
}

func (f *Fence) Stat(name string) (fs.FileInfo, error) {
	if err := f.enter(name, true); err != nil {
		return nil, err
	}
	return f.FS.Stat(name)
}

func (f *Fence) Lstat(name string) (fs.FileInfo, error) {
	if err := f.enter(name, false); err != nil {
		return nil, err
	}
	return f.FS.Lstat(name)
}

func (f *Fence) ReadDir(name string) ([]fs.DirEntry, error) {
	if err := f.enter(name, true); err != nil {
		return nil, err
	}
	var entries []fs.DirEntry
	err := f.soon(name, func() (err error) { entries, err = f.FS.ReadDir(name); return err })
	return entries, err
}

// elsewhere is an error of what others do on the same desk meanwhile, who take files away and make folders that are theirs alone at first: none.
func elsewhere(err error) error {
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil
	}
	return err
}

// OpenUp gives what stands in the desk's own folders to those whose it is, as far as it is this user's, and says how many files and folders
// were not so before. It looks into those whose own access is not as it should be.
func (f *Fence) OpenUp() (n int, err error) {
	for _, own := range f.Own {
		top := filepath.Join(f.Dir, own)
		info, err := os.Lstat(top)
		if err != nil {
			continue // there need not be any
		}
		names := []string{top}
		if info.IsDir() && !f.To.lack(info) {
			entries, err := os.ReadDir(top)
			if elsewhere(err) != nil {
				return n, err
			}
			names = names[:0]
			for _, e := range entries {
				names = append(names, filepath.Join(top, e.Name()))
			}
		}
		for _, name := range names {
			k, err := f.openUp(name)
			if n += k; err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// openUp is OpenUp of a file, or of a folder with all that is in it.
func (f *Fence) openUp(top string) (n int, err error) {
	if info, err := os.Lstat(top); err != nil || !f.To.lack(info) {
		return 0, elsewhere(err)
	}
	err = filepath.WalkDir(top, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return elsewhere(err)
		}
		info, err := e.Info()
		if err != nil || info.Mode()&fs.ModeSymlink != 0 || !f.To.lack(info) {
			return elsewhere(err)
		}
		if err := Give(name, f.To); err != nil {
			return elsewhere(err)
		}
		n++
		return nil
	})
	return n, err
}
