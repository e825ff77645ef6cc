// Command release makes the archives in which the program goes to people: for each system one, with the program, its manual pages,
// completions for shells, how it is installed, the licences of all its parts and the list of its modules; and SHA256SUMS beside them.
//
//	go run ./release [-o dist] [-systems linux/amd64,…]
//
// The same files give the same archives, wherever they stand and whenever it is done: times in archives are that of the commit, or of
// SOURCE_DATE_EPOCH.
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"
)

// mostBytes is how large a program may be.
const mostBytes = 45_000_000

var systems = flag.String("systems", "linux/amd64,linux/arm64,darwin/amd64,darwin/arm64,windows/amd64,windows/arm64", "for which `systems`")

func main() {
	out := flag.String("o", "dist", "the `folder` for the archives")
	flag.Parse()
	if err := release(*out, strings.Split(*systems, ",")); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

// file is a file of an archive.
type file struct {
	name string // with slashes
	data []byte
	runs bool // it is a program
}

func release(out string, systems []string) error {
	when, err := moment()
	if err != nil {
		return err
	}
	tmp, err := os.MkdirTemp("", "paletwin-release-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(tmp)
	if err := os.RemoveAll(out); err != nil {
		return err
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	here := filepath.Join(tmp, "paletwin")
	if err := build(runtime.GOOS+"/"+runtime.GOARCH, here); err != nil {
		return err
	}
	version, err := versionOf(here)
	if err != nil {
		return err
	}
	common, err := manuals(here, filepath.Join(tmp, "man"), when)
	if err != nil {
		return err
	}
	var sums strings.Builder
	for _, system := range systems {
		name, data, err := archive(system, version, filepath.Join(tmp, "program"), common, when)
		if err != nil {
			return fmt.Errorf("%s: %w", system, err)
		}
		if err := os.WriteFile(filepath.Join(out, name), data, 0o644); err != nil {
			return err
		}
		sum := sha256.Sum256(data)
		fmt.Fprintf(&sums, "%s  %s\n", hex.EncodeToString(sum[:]), name)
		fmt.Printf("%s  %.1f MB\n", name, float64(len(data))/1e6)
	}
	return os.WriteFile(filepath.Join(out, "SHA256SUMS"), []byte(sums.String()), 0o644)
}

// moment is the time that everything in the archives has.
func moment() (time.Time, error) {
	text := os.Getenv("SOURCE_DATE_EPOCH")
	if text == "" {
		b, err := exec.Command("git", "log", "-1", "--format=%ct").Output()
		if text = strings.TrimSpace(string(b)); err != nil || text == "" {
			text = "315532800" // the first that a zip archive can say
		}
	}
	n, err := strconv.ParseInt(text, 10, 64)
	return time.Unix(n, 0).UTC(), err
}

// build builds the program for a system, without what is for debugging, and without the name of the folder that it is built in.
func build(system, to string) error {
	goos, arch, ok := strings.Cut(system, "/")
	if !ok {
		return fmt.Errorf("%q is no system; linux/amd64 is one", system)
	}
	cmd := exec.Command("go", "build", "-trimpath", "-tags", "minimal", "-ldflags", "-s -w", "-o", to, "./cmd/paletwin")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+goos, "GOARCH="+arch, "GOAMD64=v1", "GOARM64=v8.0", "GOFLAGS=-buildvcs=auto")
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		return err
	}
	info, err := os.Stat(to)
	if err == nil && info.Size() > mostBytes {
		err = fmt.Errorf("the program has %.1f MB, and %.0f are the most", float64(info.Size())/1e6, mostBytes/1e6)
	}
	return err
}

func versionOf(program string) (string, error) {
	b, err := exec.Command(program, "--version").Output()
	words := strings.Fields(string(b))
	if err != nil || len(words) == 0 {
		return "", fmt.Errorf("the program does not say its version: %q %v", b, err)
	}
	return words[len(words)-1], nil
}

// manuals are the manual pages and completions: they are the same on all systems.
func manuals(program, dir string, when time.Time) (all []file, err error) {
	cmd := exec.Command(program, "man", dir)
	cmd.Env = append(os.Environ(), fmt.Sprintf("SOURCE_DATE_EPOCH=%d", when.Unix()))
	if b, err := cmd.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("man: %w: %s", err, b)
	}
	pages, err := os.ReadDir(dir)
	for _, p := range pages {
		b, err := os.ReadFile(filepath.Join(dir, p.Name()))
		if err != nil {
			return nil, err
		}
		all = append(all, file{name: "man/man1/" + p.Name(), data: b})
	}
	for shell, name := range map[string]string{"bash": "paletwin.bash", "zsh": "_paletwin", "fish": "paletwin.fish", "powershell": "paletwin.ps1"} {
		b, err := exec.Command(program, "completion", shell).Output()
		if err != nil {
			return nil, err
		}
		all = append(all, file{name: "completions/" + name, data: b})
	}
	return all, err
}

// archive makes a system's archive, and says what it is called.
func archive(system, version, program string, common []file, when time.Time) (name string, data []byte, err error) {
	if err := build(system, program); err != nil {
		return "", nil, err
	}
	windows := strings.HasPrefix(system, "windows/")
	b, err := os.ReadFile(program)
	if err != nil {
		return "", nil, err
	}
	called, ends := "paletwin", "\n"
	if windows {
		called, ends = "paletwin.exe", "\r\n"
	}
	files := append([]file{{name: called, data: b, runs: true}}, common...)
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return "", nil, err
	}
	licences, err := licencesOf(info.Deps)
	if err != nil {
		return "", nil, err
	}
	install, err := os.ReadFile("docs/install.md")
	if err != nil {
		return "", nil, err
	}
	for name, text := range map[string]string{"LICENCES.txt": licences, "MODULES.txt": modulesOf(info), "INSTALL.md": string(install)} {
		files = append(files, file{name: name, data: []byte(strings.ReplaceAll(text, "\n", ends))})
	}
	slices.SortFunc(files, func(a, b file) int { return strings.Compare(a.name, b.name) })
	stem := "paletwin-" + version + "-" + strings.ReplaceAll(system, "/", "-")
	for i := range files {
		files[i].name = stem + "/" + files[i].name
	}
	if windows {
		data, err = zipped(files, when)
		return stem + ".zip", data, err
	}
	data, err = tarred(files, when)
	return stem + ".tar.gz", data, err
}

func modulesOf(info *debug.BuildInfo) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Built with %s of these modules:\n\n", info.GoVersion)
	for _, m := range info.Deps {
		fmt.Fprintf(&b, "%s %s %s\n", m.Path, m.Version, m.Sum)
	}
	return b.String()
}

// A file that says under what terms a module may be used.
var licence = regexp.MustCompile(`(?i)^((un)?licen[cs]e|copying|copyright|notice|patents|.*-licen[cs]e)([.-].*)?$`)

// licencesOf are the licences of Go and of all modules that a program has parts of.
func licencesOf(modules []*debug.Module) (string, error) {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return "", err
	}
	var b strings.Builder
	if err := licencesIn(&b, "The Go programming language", strings.TrimSpace(string(root))); err != nil {
		return "", err
	}
	for _, m := range modules {
		dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", m.Path).Output()
		if err != nil {
			return "", fmt.Errorf("%s: %w", m.Path, err)
		}
		if err := licencesIn(&b, m.Path+" "+m.Version, strings.TrimSpace(string(dir))); err != nil {
			return "", err
		}
	}
	return b.String(), nil
}

func licencesIn(b *strings.Builder, what, dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	said := false
	for _, e := range entries {
		if !e.Type().IsRegular() || !licence.MatchString(e.Name()) {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return err
		}
		text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
		fmt.Fprintf(b, "%s\n%s: %s\n%s\n\n%s\n\n", strings.Repeat("=", 78), what, e.Name(), strings.Repeat("=", 78), bytes.TrimSpace(text))
		said = true
	}
	if !said {
		return fmt.Errorf("%s has no licence in %s", what, dir)
	}
	return nil
}

func (f *file) mode() fs.FileMode {
	if f.runs {
		return 0o755
	}
	return 0o644
}

func tarred(files []file, when time.Time) ([]byte, error) {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	t := tar.NewWriter(z)
	for _, f := range files {
		if err := t.WriteHeader(&tar.Header{Name: f.name, Mode: int64(f.mode()), Size: int64(len(f.data)), ModTime: when, Format: tar.FormatUSTAR}); err != nil {
			return nil, err
		}
		if _, err := t.Write(f.data); err != nil {
			return nil, err
		}
	}
	if err := t.Close(); err != nil {
		return nil, err
	}
	err = z.Close()
	return b.Bytes(), err
}

func zipped(files []file, when time.Time) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range files {
		h := &zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: when}
		h.SetMode(f.mode())
		w, err := z.CreateHeader(h)
		if err != nil {
			return nil, err
		}
		if _, err := io.Copy(w, bytes.NewReader(f.data)); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return b.Bytes(), err
}
