// Package account tells who works here: the account of the operating system on its machine. What the environment says of a name is not
// believed, since anybody can say it.
package account

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
)

// Account is an account of a system on a machine.
type Account struct {
	Name    string // as the system knows it
	ID      string // the system's number for it; on Windows its security identifier
	Machine string // the machine's id: 16 hexadecimal digits, random, kept for each account on it
	Host    string // what the machine is called, for people
	System  string // 8 hexadecimal digits of what the system calls its machine; "" where it has no such id
}

// String is the account as dossiers keep it, as in 1000@3f9c1b7d20aa4e55.
func (a Account) String() string {
	if a.ID == "" {
		return ""
	}
	return a.ID + "@" + a.Machine
}

// Current is the account that the program works for: under sudo, that of who called it. env gives variables of the environment. It is without its
// machine, which OnMachine tells.
func Current(env func(string) string) Account {
	u := caller(env)
	return Account{Name: u.Username, ID: u.Uid}
}

// OnMachine is the current account with what tells its machine. The machine's id is made, and kept, where there is none.
func OnMachine(env func(string) string) Account {
	u := caller(env)
	a := Account{Name: u.Username, ID: u.Uid, Machine: machine(keeping(u), u.Uid)}
	a.Host, _ = os.Hostname()
	if id := systemID(); id != "" {
		a.System = digest("system " + id)[:8]
	}
	return a
}

// caller is the user, or, where root works for somebody by sudo, who that is. Others than root cannot say so: they would be anybody.
func caller(env func(string) string) *user.User {
	id := os.Getuid()
	if id < 0 { // Windows, which has no numbers
		u, err := user.Current()
		if err != nil {
			return &user.User{Username: "unknown"}
		}
		u.Username = filepath.Base(strings.ReplaceAll(u.Username, `\`, "/"))
		return u
	}
	if n, err := strconv.Atoi(env("SUDO_UID")); id == 0 && err == nil && n >= 0 {
		id = n
	}
	return of(id)
}

// of is the user with a number, who need not have a name.
func of(id int) *user.User {
	text := strconv.Itoa(id)
	if u, err := user.LookupId(text); err == nil {
		return u
	}
	return &user.User{Uid: text, Username: "uid " + text}
}

// Name is the name of a number of the system's; "user 1000" where it has none.
func Name(uid int) string {
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return "user " + strconv.Itoa(uid)
}

// keeping is the file that keeps the machine's id for a user; "" is none.
func keeping(u *user.User) string {
	dir := ""
	if u.Uid == strconv.Itoa(os.Getuid()) || os.Getuid() < 0 {
		dir, _ = os.UserConfigDir()
	} else if u.HomeDir != "" { // of who called sudo
		dir = filepath.Join(u.HomeDir, ".config")
	}
	if dir == "" {
		return ""
	}
	return filepath.Join(dir, "paletwin", "machine")
}

var machineID = regexp.MustCompile(`^[0-9a-f]{16}$`)

// machine reads the machine's id, or makes it. Where it cannot be kept it is made of the system's own, so that it is the same the next time.
func machine(file, uid string) string {
	if file != "" {
		if id, err := read(file); err == nil {
			return id
		}
		if id, err := keep(file, uid); err == nil {
			return id
		}
	}
	id := systemID()
	if id == "" {
		id, _ = os.Hostname()
	}
	return digest(uid + " " + id)[:16]
}

// systemID is what the system calls its machine, "" where it has no such id.
func systemID() string {
	for _, name := range []string{"/etc/machine-id", "/var/lib/dbus/machine-id"} {
		if b, err := os.ReadFile(name); err == nil && len(b) > 0 {
			return strings.TrimSpace(string(b))
		}
	}
	return ""
}

// digest hides what it is of: the system's id is not for others.
func digest(text string) string {
	sum := sha256.Sum256([]byte("paletwin " + text))
	return hex.EncodeToString(sum[:])
}

func read(file string) (string, error) {
	b, err := os.ReadFile(file)
	if id := strings.TrimSpace(string(b)); err == nil && machineID.MatchString(id) {
		return id, nil
	}
	if err == nil {
		err = os.ErrInvalid
	}
	return "", err
}

// keep makes an id and keeps it. Of two processes that do so at once both have the id of the first.
func keep(file, uid string) (string, error) {
	var b [8]byte
	_, _ = rand.Read(b[:]) // never fails
	id := hex.EncodeToString(b[:])
	dir := filepath.Dir(file)
	if _, err := os.Stat(filepath.Dir(filepath.Dir(dir))); err != nil { // there is no home to keep it in
		return "", err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	tmp, err := os.CreateTemp(dir, ".machine-")
	if err != nil {
		return "", err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.WriteString(id + "\n")
	if cerr := tmp.Close(); err == nil {
		err = cerr
	}
	if n, cerr := strconv.Atoi(uid); err == nil && cerr == nil && os.Getuid() == 0 && n != 0 { // by sudo: it is theirs
		_ = os.Chown(dir, n, -1)
		err = os.Chown(tmp.Name(), n, -1)
	}
	if err != nil {
		return "", err
	}
	if err := os.Link(tmp.Name(), file); err != nil {
		if id, err := read(file); err == nil {
			return id, nil
		}
		if err := os.Rename(tmp.Name(), file); err != nil { // no links here, or what stands there is no id
			return "", err
		}
	}
	return read(file)
}
