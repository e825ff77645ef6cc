package compare

import (
	"slices"

	"paletwin/core/table/csv"
)

// nullWords are, of one field, the words for nothing that the snapshot has and what the copy
// shows for them: a program writes NA where a cell was empty, and another takes the code
// NA of a country for nothing. The empty text is such a word, too.
type nullWords map[string]string

// shows reports whether the copy shows a word as another.
func (w nullWords) shows(word, seen string) bool {
	to, ok := w[word]
	return ok && to == seen
}

// nullTokens are words that programs write for an empty cell, or take for one.
var nullTokens = []string{"", "NULL", "null", "NA", "(null)", "N/A", "#N/A", "n/a", "NaN", "nan", "None", `\N`, "<NA>"}

// longestToken is the length of the longest of them.
var longestToken = len(slices.MaxFunc(nullTokens, func(a, b string) int { return len(a) - len(b) }))

const (
	// fewNulls is how many cells of a file have to show the same word before it is taken
	// for nothing.
	fewNulls = 6
	// filledShare is for how many of them one may show something else, that was filled in.
	filledShare = 3
)

// findNulls finds the words for nothing of each field.
func (r *reading) findNulls(pairs []sampledPair) error {
	shown := make([]map[nullShown]int, len(r.res.Fields)) // of each field how many cells
	err := inTurn(r.o.Cores, len(r.pair), func(f int) {
		if r.pair[f] >= 0 {
			shown[f] = nullsOf(pairs, f, r.pair[f])
		}
	})
	if err != nil {
		return err
	}
	all := map[nullShown]int{}
	for _, words := range shown {
		for w, n := range words {
			all[w] += n
		}
	}
	r.empties = make([]nullWords, len(shown))
	for f, words := range shown {
		for w := range words {
			if all[w] < fewNulls {
				continue
			}
			if r.empties[f] == nil {
				r.empties[f] = nullWords{}
			}
			r.empties[f][w.was] = w.is
		}
	}
	return nil
}

// nullShown is a word for nothing, and what is shown for it.
type nullShown struct{ was, is string }

// nullsOf finds the words for nothing of one field, and how many cells show what they became.
func nullsOf(pairs []sampledPair, f, col int) map[nullShown]int {
	shown := map[string]map[string]int{}
	for _, p := range pairs {
		cell := csv.Unquote(p.was[f])
		if len(cell) > longestToken || !slices.Contains(nullTokens, string(cell)) {
			continue
		}
		was, is := string(cell), string(csv.Unquote(p.is[col]))
		if shown[was] == nil {
			shown[was] = map[string]int{}
		}
		shown[was][is]++
	}
	found := map[nullShown]int{}
	for was, words := range shown {
		to, n := "", 0
		sum := 0
		for w, k := range words {
			if sum += k; k > n || k == n && w < to {
				to, n = w, k
			}
		}
		// What writes a word for nothing writes it everywhere.
		if words[was] == 0 && slices.Contains(nullTokens, to) && n >= filledShare*(sum-n) {
			found[nullShown{was, to}] = n
		}
	}
	return found
}
