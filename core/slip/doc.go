// Package slip looks at a whole set of changes and says what a careful
// colleague would: which of them look like a slip of the hand. A cell is
// filled one row too far, a column is sorted without the others, a price has
// two digits too many.
//
// A slip is a pattern. It is told from an edit that was meant by how likely
// the pattern would be by chance, given how often values occur in the column
// and how many changes there are, and by whether something simpler explains
// it: a whole group was handed over, a price list went up by four per cent.
// The thresholds stand in thresholds.go, each with its reason.
//
// The copy's own order of rows is evidence, since hands fill and paste along
// it. Nothing but the changes, their neighbours and a sample of each column
// is looked at.
package slip
