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

const (
	// fewNulls is how many cells of a file have to show the same word before it is taken
	// for nothing.
	fewNulls = 6
	// filledShare is for how many of them one may show something else, that was filled in.
	filledShare = 3
)

// findNulls finds the words for nothing of each field.
func (r *reading) findNulls(pairs []sampledPair) []nullWords {
	type change struct{ from, to string }
	found := make([]nullWords, len(r.res.Fields))
	all := map[change]int{}
	for f, col := range r.pair {
		if col < 0 {
			continue
		}
		shown := map[string]map[string]int{}
		for _, p := range pairs {
			was, is := string(csv.Unquote(p.was[f])), string(csv.Unquote(p.is[col]))
			if !slices.Contains(nullTokens, was) {
				continue
			}
			if shown[was] == nil {
				shown[was] = map[string]int{}
			}
			shown[was][is]++
		}
		for was, words := range shown {
			to, n := "", 0
			sum := 0
			for w, k := range words {
				if sum += k; k > n {
					to, n = w, k
				}
			}
			// What writes a word for nothing writes it everywhere.
			if words[was] > 0 || !slices.Contains(nullTokens, to) || n < filledShare*(sum-n) {
				continue
			}
			if found[f] == nil {
				found[f] = nullWords{}
			}
			found[f][was] = to
			all[change{was, to}] += n
		}
	}
	for f := range found {
		for was, to := range found[f] {
			if all[change{was, to}] < fewNulls {
				delete(found[f], was)
			}
		}
	}
	return found
}
