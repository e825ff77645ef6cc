// Package thorough says how much of what a test could try it tries. A test that
// tries something at every file operation takes minutes; of these a run tries a
// part, another each time, and all of them with PALETWIN_TESTS=all.
package thorough

import (
	"math/rand/v2"
	"os"
	"runtime"
	"testing"
	"time"
)

// All reports whether everything is to be tried.
func All() bool { return os.Getenv("PALETWIN_TESTS") == "all" }

// Every returns with which of many cases to begin, counted from 1, and how many to
// go on by: with the first and by one, or with a random one and by nth.
func Every(t testing.TB, nth int) (first, step int) {
	if All() {
		return 1, 1
	}
	first = 1 + rand.IntN(nth)
	t.Logf("every %dth from %d on; PALETWIN_TESTS=all tries them all", nth, first)
	return first, nth
}

// Few returns n, or few where not everything is to be tried.
func Few(n, few int) int {
	if All() {
		return n
	}
	return few
}

// What one input of a fuzz test may cost.
const (
	mostTime  = 5 * time.Second
	mostBytes = 256 << 20
)

// Bounded runs what an input is tried with, and fails where it takes seconds or allocates hundreds of megabytes.
func Bounded(t testing.TB, try func()) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	began := time.Now()
	try()
	took := time.Since(began)
	runtime.ReadMemStats(&after)
	if took > mostTime {
		t.Errorf("it took %s, more than %s", took, mostTime)
	}
	if n := after.TotalAlloc - before.TotalAlloc; n > mostBytes {
		t.Errorf("it allocated %d MB, more than %d", n>>20, mostBytes>>20)
	}
}
