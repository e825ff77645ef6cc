package cli

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"paletwin/internal/disk"
	"paletwin/internal/standin"
	screen "paletwin/internal/term"
)

type standinFlags struct {
	listen, moods, tokens string
	mood                  []string
	certificate, key      string
	memory, afresh        bool
	page                  int
}

func newStandin(a *app) *cobra.Command {
	var f standinFlags
	cmd := &cobra.Command{
		Use:   "standin FOLDER",
		Short: "Serve the tables of a folder as a record service, to try an update on",
		Long: `Serve every NAME.csv and NAME.json of a folder as the entity set NAME of an OData 4.01
service (4.0 clients are served, too), so that a bulk update can be tried before the real
thing. Fields, kinds, keys, references and checks come from layouts/NAME.yaml in the folder
or on the desk; where there is none, they are as found, and the first fields that are unique
together are the key.

What is written is kept in standin.sqlite in the folder, and is there again the next time.
With a mood, the service does what real ones do: it is slow or busy, cuts connections,
changes values, has limits. GET /$moods tells what truly became of each request.

The moods:
` + moodList(),
		Example: `  paletwin standin register
  paletwin standin register --with memory --with mood=busy,every=5,wait=2 --with mood=trims,field=remarks
  paletwin standin register --with moods=moods.yaml --with listen=127.0.0.1:0`,
		Args: exactly(1, 1, "FOLDER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.standin(cmd.Context(), args[0], &f)
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.listen, "listen", "127.0.0.1:8099", "the `address` to listen on; port 0 is any that is free")
	fl.BoolVar(&f.memory, "memory", false, "keep nothing of what is written")
	fl.BoolVar(&f.afresh, "afresh", false, "drop what was written before, and begin with the files as they are")
	fl.IntVar(&f.page, "page", 1000, "how many `records` a page has at most")
	fl.StringArrayVar(&f.mood, "mood", nil, "a `mood`: NAME, or NAME,KEY=VALUE,…; several values have a + between them")
	fl.StringVar(&f.moods, "moods", "", "a YAML `file` with a list of moods")
	fl.StringVar(&f.tokens, "tokens", "", "a `file` of mode 0600 with a bearer token, or NAME:PASSWORD, on each line; who has none is not let in")
	fl.StringVar(&f.certificate, "certificate", "", "a PEM `file`, to be asked by https")
	fl.StringVar(&f.key, "certificate-key", "", "the certificate's private key, a PEM `file`")
	return cmd
}

// moodList says what moods there are.
func moodList() string {
	var b strings.Builder
	for _, k := range standin.MoodKinds {
		fmt.Fprintf(&b, "  %-16s %s\n", k.Name, k.Does)
	}
	return b.String() + `
Those that are not of all answers take method, set, key, every=N, after=N and times=N,
which say what requests meet them. docs/standin.md tells the rest.`
}

// standin serves until the command is interrupted.
func (a *app) standin(ctx context.Context, folder string, f *standinFlags) error {
	dir := a.path(folder)
	moods, err := a.moodsOf(f)
	if err != nil {
		return err
	}
	if f.certificate != "" {
		if _, err := tls.LoadX509KeyPair(a.path(f.certificate), a.path(f.key)); err != nil {
			return usage("the certificate cannot be used: %v", err)
		}
	}
	tokens, err := a.tokensOf(f)
	if err != nil {
		return err
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	world, err := standin.Load(ctx, a.fs, dir, d)
	if err != nil {
		if info, missing := os.Stat(dir); missing != nil || !info.IsDir() {
			return usage("there is no folder %s", folder)
		}
		if errors.Is(err, standin.ErrNothing) {
			return usage("%s cannot be served: %v", folder, standin.ErrNothing)
		}
		return err
	}
	kept := ""
	if !f.memory {
		kept = filepath.Join(dir, standin.KeptName)
		lock, err := disk.Acquire(a.fs, disk.LockName(kept), true)
		if err != nil {
			if errors.Is(err, disk.ErrLocked) {
				return usage("another stand-in serves %s; end that one, or serve this with --with memory", folder)
			}
			if errors.Is(err, os.ErrPermission) {
				return usage("nothing can be kept in %s, which may not be written to; --with memory keeps nothing", folder)
			}
			return err
		}
		defer func() { _ = lock.Unlock() }() // the process ends
	}
	debug.SetGCPercent(400) // many records that stay, and little that comes and goes
	told := a.teller()
	defer told.flush()
	s, there, err := standin.Open(ctx, world, kept, f.afresh, standin.Options{Page: f.page, Moods: moods, Tokens: tokens, Now: a.now, Told: told.told})
	if errors.Is(err, standin.ErrOther) {
		return usage("%v; --with afresh begins with the files as they are, and drops what was written", err)
	}
	if err != nil {
		return err
	}
	defer s.Close()
	l, err := net.Listen("tcp", f.listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return usage("another program listens on %s; name another address with --with listen, as 127.0.0.1:0", f.listen)
	}
	if err != nil {
		return usage("it cannot listen on %s; name another address with --with listen, as 127.0.0.1:0", f.listen)
	}
	a.announce(world, s.Counts(), l.Addr(), folder, there, f, moods)
	return a.serve(ctx, l, s, f)
}

// serve answers requests until ctx is done.
func (a *app) serve(ctx context.Context, l net.Listener, s *standin.Service, f *standinFlags) error {
	server := &http.Server{Handler: s, ErrorLog: log.New(screen.Gate(a.stderr), "", log.Ltime), ReadHeaderTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute, BaseContext: func(net.Listener) context.Context { return context.WithoutCancel(ctx) }}
	ended := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(ended)
		soon, cancel := context.WithTimeout(context.Background(), patience/2)
		defer cancel()
		if server.Shutdown(soon) != nil {
			_ = server.Close() // what is not answered by then is cut off
		}
	})
	var err error
	if f.certificate != "" {
		err = server.ServeTLS(l, a.path(f.certificate), a.path(f.key))
	} else {
		err = server.Serve(l)
	}
	if !stop() {
		<-ended
	}
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// moodsOf reads the moods of the flags.
func (a *app) moodsOf(f *standinFlags) (all []*standin.Mood, err error) {
	if f.page < 1 {
		return nil, usage("--with page is a number from 1 on, not %d", f.page)
	}
	if (f.certificate == "") != (f.key == "") {
		return nil, usage("--with certificate and --with certificate-key go together")
	}
	if f.moods != "" {
		b, err := disk.ReadFile(a.fs, a.path(f.moods))
		if err != nil {
			return nil, err
		}
		if all, err = standin.ParseMoods(f.moods, b); err != nil {
			return nil, usage("%v", err)
		}
	}
	for _, text := range f.mood {
		m, err := standin.ParseMood(text)
		if err != nil {
			return nil, usage("%v", err)
		}
		all = append(all, m)
	}
	return all, nil
}

// tokensOf reads the token file, without which only this machine may ask.
func (a *app) tokensOf(f *standinFlags) (*standin.Tokens, error) {
	host, _, err := net.SplitHostPort(f.listen)
	if err != nil {
		return nil, usage("--with listen is HOST:PORT, as 127.0.0.1:8099, not %q", f.listen)
	}
	if f.tokens != "" {
		return standin.OpenTokens(a.path(f.tokens))
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, usage("whoever reaches %s could write then; name a file of tokens with --with tokens, or listen on 127.0.0.1", f.listen)
	}
	return nil, nil
}

// announce says what is served, and where.
func (a *app) announce(w *standin.World, counts []int, at net.Addr, folder string, there bool, f *standinFlags, moods []*standin.Mood) {
	scheme := "http"
	if f.certificate != "" {
		scheme = "https"
	}
	root := scheme + "://" + at.String() + "/"
	if a.json {
		b, _ := json.Marshal(map[string]any{"url": root, "sets": w.Names(), "records": counts})
		a.out.Line("%s", b)
		return
	}
	a.out.Line("%s at %s", screen.Strong("Pale Twin stands in for a record service"), screen.Strong(root))
	t := &screen.Table{Indent: "  ", Right: []bool{false, true}, Heading: []string{"set", "records", "key", "refers to", "described by"}}
	for i, s := range w.Sets {
		t.Row(screen.Safe(s.Name), screen.Count(counts[i]), screen.Safe(s.KeyWords()), screen.Safe(s.RefersTo()), s.DescribedBy())
	}
	t.Print(a.out)
	for _, left := range w.Left {
		a.out.Line("Not served: %s.", screen.Safe(left))
	}
	switch {
	case f.memory:
		a.out.Line("Nothing of what is written is kept.")
	case there:
		a.out.Line("What was written before is there again, from %s.", a.shown(filepath.Join(a.path(folder), standin.KeptName)))
	default:
		a.out.Line("What is written is kept in %s.", a.shown(filepath.Join(a.path(folder), standin.KeptName)))
	}
	for _, m := range moods {
		a.out.Line("Mood: %s", screen.Safe(m.String()))
	}
	a.out.Line("")
	a.out.Line("%s", screen.Dim("Ctrl-C ends it. GET "+root+"$moods tells what became of each request."))
}

// teller prints what was asked, a little later: requests do not wait for it.
type teller struct {
	a    *app
	mu   sync.Mutex
	w    *bufio.Writer
	line *screen.Screen
	next *time.Timer
}

func (a *app) teller() *teller {
	t := &teller{a: a, w: bufio.NewWriterSize(screen.Gate(a.stdout), 1<<16)}
	t.line = screen.New(t.w, a.environ, a.out.Width, true)
	return t
}

// told prints a request, and what became of it.
func (t *teller) told(d *standin.Deed) {
	if t.a.quiet {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.a.json {
		b, _ := json.Marshal(map[string]any{"number": d.Number, "method": d.Method, "url": d.URL, "status": d.Status, "answered": d.Answered, "said": d.Said, "moods": orEmpty(d.Moods)})
		_, _ = t.w.Write(append(b, '\n'))
	} else {
		status := strconv.Itoa(d.Status)
		if !d.Answered {
			status = "cut"
		}
		said := ""
		if d.Said != "" {
			said = "  " + screen.Safe(d.Said)
		}
		if len(d.Moods) > 0 {
			said += "  [" + strings.Join(d.Moods, ", ") + "]"
		}
		asked := d.URL
		if plain, err := url.PathUnescape(asked); err == nil {
			asked = plain
		}
		t.line.Line("%s  %-6s %s  %s%s", t.a.now().Format(time.TimeOnly), screen.Safe(d.Method), status, screen.Cut(screen.Safe("/"+asked), max(20, t.line.Width-40)), said)
	}
	if t.next == nil {
		t.next = time.AfterFunc(50*time.Millisecond, t.flush)
	}
}

func (t *teller) flush() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.next = nil
	_ = t.w.Flush() // nobody may read on
}
