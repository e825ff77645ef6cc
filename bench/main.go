// Command bench measures what docs/performance.md says, on this machine: whole
// processes, in turn with the floor, medians of several runs, as ratios.
//
//	go run ./bench                    one million records
//	go run ./bench -records 100000    fewer
//	go run ./bench -large             10 and 20 million records, too (10 GB of disk)
//	go run ./bench -handoff           only: load files of 100,000 amends
//	go run ./bench -copies            only: several copies, and catching up
//	go run ./bench -joined -records 300000   only: a joined sheet
//	go run ./bench -workbook -records 100000   only: runs on a workbook, and lending one
//	go run ./bench -standin          only: the simulated record service, 100,000 records
//	go run ./bench -service          only: amends of a service, against a client written by hand
//	go run ./bench -growth            only: how time grows with tables of odd shapes; fails where it is not linear
//	go run ./bench -sizes 20000000 -picture docs/cost.png -runs 2   only: what a record costs, by how many there are (15 GB of disk)
//	go run ./bench -history           only: what happened to a record over 500 dossiers
package main

import (
	"bufio"
	"flag"
	"fmt"
	"io"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

func main() {
	log.SetFlags(0)
	b := new(bench)
	flag.IntVar(&b.records, "records", 1_000_000, "records of the register")
	flag.IntVar(&b.runs, "runs", 5, "runs of each command")
	flag.StringVar(&b.dir, "dir", "bench/data", "where the data stands")
	large := flag.Bool("large", false, "10 and 20 million records, too")
	history := flag.Bool("history", false, "only: history over 500 dossiers")
	copies := flag.Bool("copies", false, "only: several copies, and catching up")
	joined := flag.Bool("joined", false, "only: a joined sheet of three record sets")
	standin := flag.Bool("standin", false, "only: the simulated record service, 100,000 records")
	service := flag.Bool("service", false, "only: amends of a service, against a client written by hand")
	workbook := flag.Bool("workbook", false, "only: runs on a workbook, and lending one")
	growth := flag.Bool("growth", false, "only: how time grows with tables of odd shapes")
	upTo := flag.Int("sizes", 0, "only: what a record costs, up to so many records")
	picture := flag.String("picture", "cost.png", "with -sizes: where it is drawn")
	handoff := flag.Bool("handoff", false, "only: load files of 100,000 amends")
	flag.Parse()
	if *standin {
		b.standin()
		return
	}
	if *service {
		b.service()
		return
	}
	b.build()
	if *history {
		b.history(500)
		return
	}
	if *upTo > 0 {
		b.sizes(*upTo, *picture)
		return
	}
	if *growth {
		if !b.growth() {
			log.Fatal("not all of these are linear")
		}
		return
	}
	if !*handoff && !*joined && !*workbook {
		b.generate(b.records)
	}
	fmt.Printf("%d records, %d runs each, medians\n\n| figure | ratio | seconds | floor | anonymous memory |\n| --- | --- | --- | --- | --- |\n", b.records, b.runs)
	switch {
	case *handoff:
		b.handoff()
		return
	case *workbook:
		b.workbook()
		return
	case *joined:
		b.joined()
		return
	case *copies:
		b.copies()
		return
	}
	b.comparisons()
	b.dossier()
	b.runsFigures()
	b.handoff()
	b.references()
	if *large {
		b.large()
	}
}

type bench struct {
	dir     string
	records int
	runs    int
}

func (b *bench) path(elem ...string) string {
	p, err := filepath.Abs(filepath.Join(append([]string{b.dir}, elem...)...))
	if err != nil {
		log.Fatal(err)
	}
	return p
}

func (b *bench) bin(name string) string { return b.path("bin", name) }

func (b *bench) data(n int, name string) string { return b.path(fmt.Sprint(n), name) }

func must(err error, what ...any) {
	if err != nil {
		log.Fatalln(append(what, err)...)
	}
}

// build builds the programs once.
func (b *bench) build() {
	must(os.MkdirAll(b.path("bin"), 0o755))
	for name, pkg := range map[string]string{"paletwin": "./cmd/paletwin", "stdlib": "./bench/stdlib", "gen": "./bench/gen", "changes": "./bench/changes"} {
		c := exec.Command("go", "build", "-o", b.bin(name), pkg)
		c.Env = append(os.Environ(), "CGO_ENABLED=0")
		c.Stderr = os.Stderr
		must(c.Run(), "go build", pkg)
	}
}

// generate makes the reference work where it is not there.
func (b *bench) generate(n int, files ...string) {
	missing := func(name string) bool {
		_, err := os.Stat(b.data(n, name))
		return err != nil
	}
	whole := []string{"register.csv", "named-same.csv"} // of all files; one was made by every earlier version, one by this one
	if len(files) > 0 {
		whole = files
	}
	if !slices.ContainsFunc(whole, missing) {
		return
	}
	must(exec.Command(b.bin("gen"), append([]string{b.path(fmt.Sprint(n)), fmt.Sprint(n)}, files...)...).Run(), "gen")
}

// measured is what one run of a command took.
type measured struct {
	wall time.Duration
	anon int64 // bytes of anonymous memory at their peak, sampled
}

// run runs a command and samples its memory. The exit codes 0 and 3 are fine.
func run(args ...string) measured {
	c := exec.Command(args[0], args[1:]...)
	c.Stdout, c.Stderr = io.Discard, io.Discard
	start := time.Now()
	must(c.Start(), args)
	done := make(chan int64)
	stop := make(chan bool)
	go func() {
		var peak int64
		for {
			select {
			case <-stop:
				done <- peak
				return
			case <-time.After(2 * time.Millisecond):
				peak = max(peak, anonymous(c.Process.Pid))
			}
		}
	}()
	err := c.Wait()
	wall := time.Since(start)
	stop <- true
	if code := c.ProcessState.ExitCode(); err != nil && code != 3 {
		log.Fatalf("%v: %v", args, err)
	}
	return measured{wall, <-done}
}

// anonymous returns a process's anonymous memory (Linux: RssAnon).
func anonymous(pid int) int64 {
	f, err := os.Open(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	defer f.Close()
	for s := bufio.NewScanner(f); s.Scan(); {
		if rest, ok := strings.CutPrefix(s.Text(), "RssAnon:"); ok {
			var kb int64
			if _, err := fmt.Sscan(rest, &kb); err == nil {
				return kb << 10
			}
		}
	}
	return 0
}

func median[T int64 | float64 | time.Duration](v []T) T {
	slices.Sort(v)
	return v[len(v)/2]
}

// pair runs command and floor in turn and prints the median of their ratios.
// before prepares each run and is not measured.
func (b *bench) pair(figure string, records int, before func(), command, floor []string) {
	var ratios []float64
	var walls, floors []time.Duration
	var anon []int64
	for i := range b.runs + 1 {
		if before != nil {
			before()
		}
		m, f := run(command...), run(floor...)
		if i == 0 {
			continue // warm-up
		}
		ratios = append(ratios, m.wall.Seconds()/f.wall.Seconds())
		walls, floors, anon = append(walls, m.wall), append(floors, f.wall), append(anon, m.anon)
	}
	a := median(anon)
	fmt.Printf("| %s | %.2f | %.2f | %.2f | %d MB, %.0f bytes a record |\n", figure, median(ratios), median(walls).Seconds(), median(floors).Seconds(), a>>20, float64(a)/float64(records))
}

func (b *bench) comparisons() {
	for _, of := range [][]string{{"register", "same", "shuffled", "reordered", "quoted"}, {"named", "named-same", "named-shuffled", "named-reordered"}} {
		register := b.data(b.records, of[0]+".csv")
		for _, copy := range of[1:] {
			edited := b.data(b.records, copy+".csv")
			b.pair("compare, "+copy+", against a plain read of both files", b.records, nil,
				[]string{b.bin("paletwin"), "compare", register, edited, "--key", "asset_no", "--rehearse"}, []string{b.bin("stdlib"), register, edited})
		}
	}
}

// copies measures four copies of one snapshot in one comparison, against comparing each, and the
// changes of a dossier laid on newer records, against the comparison that made it.
func (b *bench) copies() {
	names := []string{"register.csv", "same.csv", "second.csv", "third.csv", "fourth.csv"}
	b.generate(b.records, names...)
	register := b.data(b.records, names[0])
	all := []string{register}
	script := ""
	for i, name := range names[1:] {
		all = append(all, b.data(b.records, name))
		script += fmt.Sprintf(`"$1" --desk "$2" compare "$3" "$%d" --key asset_no;`, i+4)
	}
	each := append([]string{"sh", "-c", script, "sh", b.bin("paletwin"), b.desk()}, all...)
	b.pair("compare of four copies, against four comparisons", b.records, b.clean, b.paletwin(append(append([]string{"compare"}, all...), "--key", "asset_no")...), each)
	b.clean()
	first := b.paletwin("compare", register, all[1], "--key", "asset_no")
	run(first...)
	found, err := filepath.Glob(filepath.Join(b.desk(), "dossiers/0001-*"))
	must(err)
	again, other := b.asItIs(found[0]), b.path("other-desk")
	b.pair("catching up with newer records, against the comparison", b.records, func() {
		must(os.RemoveAll(other)) // a desk with no earlier dossiers to look at
		again()
	}, b.paletwin("compare", all[2], "--into", "1"), append([]string{b.bin("paletwin"), "--desk", other}, first[3:]...))
	must(os.RemoveAll(other))
	b.clean()
}

func (b *bench) desk() string { return b.path("desk") }

func (b *bench) paletwin(args ...string) []string {
	return append([]string{b.bin("paletwin"), "--desk", b.desk()}, args...)
}

func (b *bench) clean() { must(os.RemoveAll(b.desk())) }

func (b *bench) dossier() {
	register, edited := b.data(b.records, "register.csv"), b.data(b.records, "same.csv")
	b.pair("compare into a dossier, against a plain read of both files", b.records, b.clean,
		b.paletwin("compare", register, edited, "--key", "asset_no"), []string{b.bin("stdlib"), register, edited})
}

// asItIs keeps the dossier as it is now, and returns what brings it back: a
// dossier knows what belongs to it, so one of its files cannot be taken away.
func (b *bench) asItIs(dossier string) (again func()) {
	kept := b.path("kept")
	must(os.RemoveAll(kept))
	run("cp", "-a", dossier, kept)
	return func() {
		must(os.RemoveAll(dossier))
		run("cp", "-a", kept, dossier)
		must(exec.Command("sync").Run())
	}
}

// runsFigures measures runs and decisions.
func (b *bench) runsFigures() {
	register, edited, target := b.data(b.records, "register.csv"), b.data(b.records, "same.csv"), b.path("target.csv")
	b.pair("apply of 1 % amends (backup, write, read back, verify), against a plain read of the register", b.records, func() {
		b.clean()
		must(os.RemoveAll(target))
		must(exec.Command("cp", register, target).Run())
		run(b.paletwin("compare", register, edited, "--key", "asset_no", "--allow", "amend")...)
		run(b.paletwin("approve", "1", "--all")...)
		must(exec.Command("sync").Run())
	}, b.paletwin("apply", "1", "--to", target, "--yes"), []string{b.bin("stdlib"), register})
	must(os.RemoveAll(target))

	all := b.path("all.csv")
	b.everyRecord(register, all)
	b.clean()
	run(b.paletwin("compare", register, all, "--key", "asset_no")...)
	found, err := filepath.Glob(filepath.Join(b.desk(), "dossiers/0001-*"))
	must(err)
	changes := filepath.Join(found[0], "changes.register.jsonl")
	forget := b.asItIs(found[0])
	read := []string{b.bin("changes"), changes}
	b.pair("approve all of as many changes as records, against reading the change set", b.records, forget, b.paletwin("approve", "1", "--all"), read)
	id := firstID(changes)
	b.pair("approve one of them, against reading the change set", b.records, forget, b.paletwin("approve", "1", id), read)
	b.clean()
	must(os.RemoveAll(all))
}

// handoff measures the load files of 100,000 amends, against reading their
// change set: its seal, and every change decoded with its decisions.
func (b *bench) handoff() {
	const amends = 100_000
	b.generate(amends, "register.csv")
	register, all := b.data(amends, "register.csv"), b.path("all.csv")
	b.everyRecord(register, all)
	b.clean()
	run(b.paletwin("compare", register, all, "--key", "asset_no", "--with", "slips=off")...)
	run(b.paletwin("approve", "1", "--all")...)
	found, err := filepath.Glob(filepath.Join(b.desk(), "dossiers/0001-*"))
	must(err)
	forget := b.asItIs(found[0])
	b.pair("handoff of 100,000 amends (backup, rollback file, journal, load files forward and back), against reading the change set", amends, forget,
		b.paletwin("handoff", "1"), []string{b.bin("changes"), "-decode", filepath.Join(found[0], "changes.register.jsonl"), filepath.Join(found[0], "decisions.jsonl")})
	b.clean()
	must(os.RemoveAll(all))
}

// history measures what happened to a record over many dossiers, each of twelve
// changes in a register of 240 records and a run: with the keys still to be
// made, with them there, and without a record named.
func (b *bench) history(dossiers int) {
	b.clean()
	before, after, register := b.path("before.csv"), b.path("after.csv"), b.path("history.csv")
	fees := make([]int, 240)
	write := func(name string) {
		out := "aid_no,name,service_fee\n"
		for i, fee := range fees {
			out += fmt.Sprintf("%05d,Old Pier %d,%d.00\n", i, i, fee)
		}
		must(os.WriteFile(name, []byte(out), 0o644))
	}
	write(register)
	for n := range dossiers {
		write(before)
		for k := range 12 {
			fees[(n*7+k*19)%len(fees)] += n + 1
		}
		write(after)
		for _, args := range [][]string{{"compare", before, after, "--key", "aid_no", "--record-set", "aids", "--title", fmt.Sprint("round ", n), "--with", "slips=off"},
			{"approve", "-", "--all"}, {"apply", "-", "--to", register, "--yes"}} {
			run(b.paletwin(args...)...)
		}
	}
	fmt.Printf("%d dossiers, %d runs each, medians\n\n| figure | ratio | seconds | floor | anonymous memory |\n| --- | --- | --- | --- | --- |\n", dossiers, b.runs)
	forget := func() {
		keys, err := filepath.Glob(filepath.Join(b.desk(), "dossiers/*/changes.aids.keys"))
		must(err)
		for _, k := range keys {
			must(os.Remove(k))
		}
	}
	list := b.paletwin("history")
	b.pair("history --record, the keys still to be made, against listing the dossiers", dossiers, forget, b.paletwin("history", "--record", "00019"), list)
	b.pair("history --record, against listing the dossiers", dossiers, nil, b.paletwin("history", "--record", "00019"), list)
	b.pair("history --field, no record named, against listing the dossiers", dossiers, nil, b.paletwin("history", "--field", "service_fee"), list)
	b.clean()
}

// everyRecord writes a copy of the register with one field of every record
// amended.
func (b *bench) everyRecord(register, to string) {
	in, err := os.ReadFile(register)
	must(err)
	out := strings.ReplaceAll(string(in), ",D", ",E")
	must(os.WriteFile(to, []byte(out), 0o644))
}

func firstID(changes string) string {
	f, err := os.Open(changes)
	must(err)
	defer f.Close()
	s := bufio.NewScanner(f)
	s.Buffer(nil, 1<<20)
	s.Scan()
	s.Scan()
	return s.Text()[len(`{"id":"`):][:16]
}

// references measures the same work done by other means.
func (b *bench) references() {
	register, edited := b.data(b.records, "register.csv"), b.data(b.records, "same.csv")
	floor := []string{b.bin("stdlib"), register, edited}
	sh := func(script string) []string { return []string{"sh", "-c", script, "sh", register, edited} }
	b.pair("for reference: sort both files and comm (lines that differ, no fields)", b.records, nil,
		sh(`d=$(mktemp -d); LC_ALL=C sort "$1" >$d/a; LC_ALL=C sort "$2" >$d/b; LC_ALL=C comm -3 $d/a $d/b | wc -l; rm -r $d`), floor)
	if _, err := exec.LookPath("sqlite3"); err != nil {
		return
	}
	b.pair("for reference: SQLite, import and full outer join", b.records, nil,
		sh(`sqlite3 :memory: ".mode csv" ".import '$1' a" ".import '$2' b" "create unique index ia on a(asset_no)" "create index ib on b(asset_no)" "select count(*) from a full outer join b using (asset_no) where a.service_fee is not b.service_fee or a.depot is not b.depot or a.name is not b.name"`), floor)
}

// large measures how the work grows, and little memory.
func (b *bench) large() {
	const ten, twenty = 10_000_000, 20_000_000
	b.generate(ten, "register.csv", "same.csv")
	b.generate(twenty, "register.csv", "shuffled.csv")
	b.runs = 1
	compare := func(n int, copy string, more ...string) []string {
		return append([]string{b.bin("paletwin"), "compare", b.data(n, "register.csv"), b.data(n, copy), "--key", "asset_no", "--rehearse"}, more...)
	}
	b.pair("10 million records, same order, against 1 million", ten, nil, compare(ten, "same.csv"), compare(b.records, "same.csv"))
	b.pair("20 million records, shuffled, --with memory=512MiB, against 1 million", twenty, nil, compare(twenty, "shuffled.csv", "--with", "memory=512MiB"), compare(b.records, "shuffled.csv"))
}
