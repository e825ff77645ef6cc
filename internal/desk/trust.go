package desk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"paletwin/internal/account"
	"paletwin/internal/disk"
)

// A desk that was found on the way up is followed where nobody could have written it but the user, root or, where it is shared, somebody
// of its group. This file says who that is, and to whom what is made on a desk belongs.

// own are the names in a desk's folder that are the desk's: no link in them leads out, and what is made there is the desk's.
var own = []string{SettingsName, "dossiers", "layouts", "routines", "sources", "selections", "lent", "taken"}

// UntrustedError says that somebody else could have written a desk that was found on the way up, and that it is therefore not followed.
type UntrustedError struct {
	Desk string // its folder
	File string
	Who  string // who could have: "it belongs to petr", "the group staff may write it"
}

func (e *UntrustedError) Error() string { return e.File + ": " + e.Who }

// trust decides whom a desk may belong to.
type trust struct {
	user    int                            // whom the program works for
	group   int                            // the group of a shared desk; -1
	member  func(uid int) (is, known bool) // of that group
	alone   func(gid int) bool             // whether the user alone is in a group
	unknown func(uid int) bool             // whether a number is of no account that this machine could know
	name    func(uid int) string
	called  func(gid int) string // a group
}

// judge says why what has an access is not believed, "" where it is. foreign reports whether its owner means nothing here.
func (t *trust) judge(a disk.Access) (why string, foreign bool) {
	shared := t.group >= 0 && a.GID == t.group
	switch {
	case a.UID == t.user, a.UID == 0:
	case t.unknown(a.UID):
		return "", true
	default:
		is, known := false, false
		if t.group >= 0 {
			is, known = t.member(a.UID)
		}
		if !is && (known || !shared) {
			return "it belongs to " + t.name(a.UID), false
		}
	}
	switch {
	case a.Others:
		return "anybody may write it", false
	case a.Group && !shared && !t.alone(a.GID):
		return "the group " + t.called(a.GID) + " may write it", false
	}
	return "", false
}

// overflow is the number that Linux gives for accounts which are none in a container.
const overflow = 65534

// trust is what this machine knows of accounts.
func (d *Desk) trust() *trust {
	uid, err := strconv.Atoi(d.Account.ID)
	if err != nil {
		uid = os.Getuid()
	}
	return &trust{
		user: uid, group: d.group,
		member: func(uid int) (bool, bool) { return inGroup(uid, d.group) },
		alone:  func(gid int) bool { return alone(uid, gid) },
		unknown: func(uid int) bool {
			if uid == overflow {
				return true
			}
			_, err := user.LookupId(strconv.Itoa(uid))
			return err != nil && contained()
		},
		name: account.Name,
		called: func(gid int) string {
			if g, err := user.LookupGroupId(strconv.Itoa(gid)); err == nil {
				return g.Name
			}
			return strconv.Itoa(gid)
		},
	}
}

// contained reports whether the program runs in a container, which does not know the accounts of its host.
func contained() bool {
	return slices.ContainsFunc([]string{"/.dockerenv", "/run/.containerenv"}, func(name string) bool {
		_, err := os.Stat(name)
		return err == nil
	})
}

// inGroup reports whether an account is in a group, as far as that is known: the groups of a directory service are known of the
// program's own account alone.
func inGroup(uid, gid int) (is, known bool) {
	if uid == os.Getuid() {
		all, err := os.Getgroups()
		return slices.Contains(all, gid) || os.Getgid() == gid || os.Getegid() == gid, err == nil
	}
	u, err := user.LookupId(strconv.Itoa(uid))
	if err != nil {
		return false, false
	}
	ids, err := u.GroupIds()
	return slices.Contains(ids, strconv.Itoa(gid)), err == nil
}

// alone reports whether a group is the user's own, as many systems give each account one: it is called as the account, and nobody else
// is in it.
func alone(uid, gid int) bool {
	u, err := user.LookupId(strconv.Itoa(uid))
	if err != nil || u.Gid != strconv.Itoa(gid) {
		return false
	}
	g, err := user.LookupGroupId(u.Gid)
	return err == nil && g.Name == u.Username && !othersIn(g.Name, u.Username)
}

// othersIn reports whether /etc/group lists others than a user in a group; where it cannot be read, that they may be.
func othersIn(group, name string) bool {
	b, err := os.ReadFile("/etc/group")
	if err != nil {
		return true
	}
	for line := range strings.Lines(string(b)) {
		if f := strings.Split(strings.TrimSpace(line), ":"); len(f) == 4 && f[0] == group {
			return f[3] != "" && f[3] != name
		}
	}
	return false
}

// believed refuses a desk that somebody else could have written. What is not there yet is nobody's.
func (d *Desk) believed() error {
	if d.foreign = disk.Foreign(nearest(d.Dir)); d.foreign != "" {
		return nil
	}
	t := d.trust()
	if d.group >= 0 && t.user != 0 {
		if is, known := t.member(t.user); known && !is {
			return &UntrustedError{d.Dir, filepath.Join(d.Dir, SettingsName), fmt.Sprintf("it is shared with the group %s, and you are not in it", d.Settings.Shared)}
		}
	}
	for _, name := range slices.Concat(own, []string{""}) {
		file := filepath.Join(d.Dir, name)
		info, err := d.FS.Stat(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		a, told := disk.AccessOf(info)
		if !told {
			return nil
		}
		why, foreign := t.judge(a)
		if foreign {
			d.foreign = "a place with accounts that this machine does not know"
		}
		if why != "" {
			return &UntrustedError{d.Dir, file, why}
		}
	}
	return nil
}

// nearest is the folder, or the nearest above it that is there.
func nearest(dir string) string {
	for {
		if _, err := os.Stat(dir); err == nil || filepath.Dir(dir) == dir {
			return dir
		}
		dir = filepath.Dir(dir)
	}
}

// shared finds the group that the settings name, by its name or number.
func (d *Desk) shared() error {
	d.group = -1
	name := d.Settings.Shared
	if name == "" {
		return nil
	}
	if n, err := strconv.Atoi(name); err == nil && n >= 0 {
		d.group = n
		return nil
	}
	g, err := user.LookupGroup(name)
	if err == nil {
		d.group, err = strconv.Atoi(g.Gid)
	}
	if err != nil && os.Getuid() >= 0 {
		return fmt.Errorf("shared: there is no group %q here; of a group that a directory service knows say the number, as `getent group` shows it", name)
	}
	return nil
}

// fenceIn puts the desk's own folders behind a fence, and says whose new files there are: the group's, and under root those of whom the desk
// is.
func (d *Desk) fenceIn() {
	to := disk.AsMade
	if d.group >= 0 {
		to.GID, to.Group = d.group, true
	}
	if os.Geteuid() == 0 {
		if info, err := os.Stat(nearest(d.Dir)); err == nil {
			if a, told := disk.AccessOf(info); told && !a.Others {
				to.UID = a.UID
				if to.GID < 0 {
					to.GID = a.GID
				}
			}
		}
	}
	if f, is := d.FS.(*disk.Fence); is {
		d.FS = f.FS
	}
	d.FS = &disk.Fence{FS: d.FS, Dir: d.Dir, Own: own, To: to}
}
