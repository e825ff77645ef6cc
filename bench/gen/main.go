// Command gen writes the reference work of the benchmarks: a register of many
// records of 16 fields and copies of it, the same every time.
//
//	gen DIR RECORDS [FILE …]
//
// makes in DIR, or the files named of, register.csv; same.csv, with 1 % of the records amended, 0.1 %
// added and 0.1 % deleted, in the same order; and of that copy shuffled.csv,
// reordered.csv (columns in another order) and quoted.csv (CR LF, every cell
// in quotes). named.csv, named-same.csv, named-shuffled.csv and named-reordered.csv are the same
// with the names in quotes. second.csv, third.csv and fourth.csv are copies that others made,
// with as many edits of other records.
package main

import (
	"bufio"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
)

func main() {
	if len(os.Args) < 3 {
		log.Fatal("usage: gen DIR RECORDS [FILE …]")
	}
	n, err := strconv.Atoi(os.Args[2])
	if err != nil || n < 1 {
		log.Fatalf("%q is no number of records", os.Args[2])
	}
	if err := os.MkdirAll(os.Args[1], 0o755); err != nil {
		log.Fatal(err)
	}
	g := &generator{dir: os.Args[1], n: n}
	for _, f := range []struct {
		name  string
		form  int
		order []int
		rows  func(func([]string))
	}{
		{"register.csv", plain, nil, g.inOrder(false)},
		{"same.csv", plain, nil, g.inOrder(true)},
		{"shuffled.csv", plain, nil, g.shuffled()},
		{"reordered.csv", plain, []int{3, 0, 2, 1, 15, 4, 5, 7, 6, 8, 9, 14, 13, 12, 11, 10}, g.inOrder(true)},
		{"quoted.csv", quoted, nil, g.inOrder(true)},
		{"named.csv", named, nil, g.inOrder(false)},
		{"named-same.csv", named, nil, g.inOrder(true)},
		{"named-shuffled.csv", named, nil, g.shuffled()},
		{"named-reordered.csv", named, []int{3, 1, 2, 0, 15, 4, 5, 7, 6, 8, 9, 14, 13, 12, 11, 10}, g.inOrder(true)},
		{"second.csv", plain, nil, g.byAnother(1)},
		{"third.csv", plain, nil, g.byAnother(2)},
		{"fourth.csv", plain, nil, g.byAnother(3)},
	} {
		if len(os.Args) == 3 || slices.Contains(os.Args[3:], f.name) {
			g.write(f.name, f.form, f.order, f.rows)
		}
	}
}

var heading = []string{"asset_no", "name", "kind", "zone", "chart_cell", "latitude", "longitude", "depot", "keeper", "serial_no", "beacon_id", "installed", "next_service", "service_fee", "status", "remarks"}

type generator struct {
	dir string
	n   int
}

const (
	plain  = iota
	quoted // every cell, and CR LF
	named  // the names alone
)

// line appends a row with its columns in the given order.
func line(b []byte, cells []string, order []int, form int) []byte {
	for i := range cells {
		if i > 0 {
			b = append(b, ',')
		}
		c := cells[i]
		if order != nil {
			c = cells[order[i]]
		}
		if form == quoted || form == named && c == cells[1] && i == 1 {
			b = append(append(append(b, '"'), c...), '"')
		} else {
			b = append(b, c...)
		}
	}
	if form == quoted {
		b = append(b, '\r')
	}
	return append(b, '\n')
}

func (g *generator) write(name string, form int, order []int, each func(yield func([]string))) {
	f, err := os.Create(filepath.Join(g.dir, name))
	if err != nil {
		log.Fatal(err)
	}
	w := bufio.NewWriterSize(f, 1<<20)
	b := line(nil, heading, order, form)
	each(func(cells []string) {
		if _, err := w.Write(b); err != nil {
			log.Fatal(err)
		}
		b = line(b[:0], cells, order, form)
	})
	if _, err := w.Write(b); err != nil {
		log.Fatal(err)
	}
	if err := w.Flush(); err != nil {
		log.Fatal(err)
	}
	if err := f.Close(); err != nil {
		log.Fatal(err)
	}
}

// record makes the i-th record; it depends on i alone.
func record(i int) []string {
	r := rand.New(rand.NewPCG(uint64(i), 1887))
	pick := func(s ...string) string { return s[r.IntN(len(s))] }
	return []string{
		fmt.Sprintf("%09d", 100000000+i*3),
		pick("Saltreach", "Gannet Point", "Tarn Mouth", "Cold Harbour Spit", "Wether Bank", "Merrow Channel", "Skerry Ledge") + " " + strconv.Itoa(r.IntN(4000)),
		pick("buoy", "beacon", "light", "perch"), pick("inner", "outer", "estuary", "roads"), pick("MAR-2", "OCT-4", "SEP07", "DEC1", "3-4", "2E5"),
		fmt.Sprintf("57.%05d", r.IntN(100000)), fmt.Sprintf("-2.%05d", r.IntN(100000)),
		fmt.Sprintf("D%02d", 1+r.IntN(40)), fmt.Sprintf("U-%d", 1004+r.IntN(90)),
		fmt.Sprintf("2031%012d", r.Int64N(1e12)), fmt.Sprintf("%09d", 230000000+r.IntN(9999999)),
		fmt.Sprintf("20%02d-%02d-%02d", r.IntN(26), 1+r.IntN(12), 1+r.IntN(28)), fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28)),
		fmt.Sprintf("%d.%02d", 40+r.IntN(260), r.IntN(100)), pick("in_service", "in_service", "withdrawn", "laid_up", "off_station"),
		pick("", "", "Bell removed and spare in store", "Mooring chain due", "Sector edge checked", "Topmark missing since the gale"),
	}
}

// edited gives the i-th record as somebody's copy has it; false if it is deleted.
func edited(i, who int) ([]string, bool) {
	c := record(i)
	switch {
	case i%1000 == 500+who:
		return nil, false
	case i%100 == 7+10*who:
		c[13] = fmt.Sprintf("%d.%02d", 300+i%100, i%100)
		if i%300 == 7+10*who {
			c[7] = "D41"
		}
	}
	return c, true
}

func added(i int) []string {
	c := record(i)
	c[0] = fmt.Sprintf("%09d", 100000000+i*3+1)
	return c
}

func (g *generator) inOrder(edit bool) func(func([]string)) {
	return func(yield func([]string)) {
		for i := range g.n {
			if !edit {
				yield(record(i))
				continue
			}
			if c, ok := edited(i, 0); ok {
				yield(c)
			}
			if i%1000 == 250 {
				yield(added(i))
			}
		}
	}
}

// shuffled gives the edited copy in another order: by a stride that has no
// factor in common with the number of records.
func (g *generator) shuffled() func(func([]string)) {
	stride := 7919
	for gcd(stride, g.n) != 1 {
		stride++
	}
	return func(yield func([]string)) {
		for k := range g.n {
			i := (k*stride + 17) % g.n
			if c, ok := edited(i, 0); ok {
				yield(c)
			}
			if i%1000 == 250 {
				yield(added(i))
			}
		}
	}
}

// byAnother gives a copy with as many edits, of other records.
func (g *generator) byAnother(who int) func(func([]string)) {
	return func(yield func([]string)) {
		for i := range g.n {
			if c, ok := edited(i, who); ok {
				yield(c)
			}
			if i%1000 == 250 {
				yield(added(i + who))
			}
		}
	}
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}
