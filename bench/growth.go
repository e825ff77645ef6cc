package main

import (
	"bufio"
	"fmt"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
)

// odd is a shape of table, of which n is the size.
type odd struct {
	name  string
	n     int // the smaller size; the other is four times as much
	write func(n int, edited bool, w *bufio.Writer)
}

// mostGrowth is the exponent of time against size above which a comparison is not linear any more.
const mostGrowth = 1.2

// growth measures how the time of a comparison grows with the size of tables of odd shapes, and returns whether all of them are linear. Of each size
// the shortest of the runs counts, less what a comparison of two rows takes.
func (b *bench) growth() bool {
	must(os.MkdirAll(b.dir, 0o755))
	snapshot, edited := b.path("odd.csv"), b.path("odd-edited.csv")
	shortest := func(o *odd, n int) float64 {
		b.write(snapshot, func(w *bufio.Writer) { o.write(n, false, w) })
		b.write(edited, func(w *bufio.Writer) { o.write(n, true, w) })
		least := math.Inf(1)
		for range b.runs {
			least = min(least, run(b.bin("paletwin"), "compare", snapshot, edited, "--key", "id", "--rehearse").wall.Seconds())
		}
		return least
	}
	all := odds()
	nothing := shortest(&all[0], 2)
	fmt.Printf("%d runs each, the shortest; a comparison of two rows takes %.2f s\n\n| shape | size | seconds | four times as much | exponent |\n| --- | --- | --- | --- | --- |\n", b.runs, nothing)
	linear := true
	for i := range all {
		o := &all[i]
		small, large := shortest(o, o.n), shortest(o, 4*o.n)
		exponent := math.Log(max(large-nothing, 0.001)/max(small-nothing, 0.001)) / math.Log(4)
		fmt.Printf("| %s | %d | %.2f | %.2f | %.2f |\n", o.name, o.n, small, large, exponent)
		linear = linear && exponent <= mostGrowth
	}
	must(os.Remove(snapshot))
	must(os.Remove(edited))
	return linear
}

// odds are the shapes.
func odds() []odd {
	return []odd{
		{"tiny rows", 500_000, func(n int, edited bool, w *bufio.Writer) {
			fmt.Fprintln(w, "id,v")
			for i := range n {
				fmt.Fprintf(w, "%d,%d\n", i, value(i, 0, edited && i%100 == 3))
			}
		}},
		{"one column", 500_000, func(n int, edited bool, w *bufio.Writer) {
			fmt.Fprintln(w, "id")
			for i := range n {
				if !edited || i%100 > 0 {
					fmt.Fprintln(w, i)
				}
			}
		}},
		{"columns, amends", 5_000, func(n int, edited bool, w *bufio.Writer) { wide(n, w, rows(0, 60), edited, false) }},
		{"columns, adds and deletes", 5_000, func(n int, edited bool, w *bufio.Writer) {
			if edited {
				wide(n, w, rows(20, 80), false, false)
			} else {
				wide(n, w, rows(0, 60), false, false)
			}
		}},
		{"columns in another order", 5_000, func(n int, edited bool, w *bufio.Writer) { wide(n, w, rows(0, 60), edited, edited) }},
		{"one long cell", 20 << 20, func(n int, edited bool, w *bufio.Writer) {
			fmt.Fprintf(w, "id,v\n1,%s%d\n2,%d\n", strings.Repeat("pier ", n/5), value(0, 0, edited), value(1, 0, edited))
		}},
		{"long keys", 4 << 20, func(n int, edited bool, w *bufio.Writer) {
			fmt.Fprintln(w, "id,v")
			for i := range 10 {
				fmt.Fprintf(w, "%s%d,%d\n", strings.Repeat("key", n/3), i, value(i, 0, edited))
			}
		}},
		{"rows that repeat", 50_000, func(n int, edited bool, w *bufio.Writer) {
			fmt.Fprintln(w, "id,v")
			for i := range n {
				fmt.Fprintf(w, "%d,%d\n", i, i)
				if edited {
					fmt.Fprintf(w, "%d,%d\n", i, i+1)
				}
			}
		}},
		{"rows without a key", 400_000, func(n int, edited bool, w *bufio.Writer) {
			fmt.Fprintln(w, "id,v")
			for i := range n {
				fmt.Fprintf(w, "%d,%d\n", i, i)
				if edited {
					fmt.Fprintf(w, ",%d\n", i)
				}
			}
		}},
	}
}

// rows are the numbers from one up to another.
func rows(from, to int) (all []int) {
	for i := from; i < to; i++ {
		all = append(all, i)
	}
	return all
}

// value is what stands in a row and a column; of some rows another in the copy.
func value(row, col int, edited bool) int {
	if edited && row%10 == 3 && col%7 == 0 {
		return row*31 + col*7 + 1
	}
	return row*31 + col*7
}

// wide writes a table of many columns, perhaps from the last to the first.
func wide(columns int, w *bufio.Writer, rows []int, edited, reversed bool) {
	order := make([]int, columns)
	for c := range order {
		order[c] = c
	}
	if reversed {
		slices.Reverse(order)
	}
	line := func(key string, cell func(c int) string) {
		fmt.Fprint(w, key)
		for _, c := range order {
			fmt.Fprint(w, ",", cell(c))
		}
		fmt.Fprintln(w)
	}
	line("id", func(c int) string { return "field_" + strconv.Itoa(c) })
	for _, r := range rows {
		line(strconv.Itoa(r), func(c int) string { return strconv.Itoa(value(r, c, edited)) })
	}
}
