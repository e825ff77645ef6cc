// Package wear knows what software does to the values of a table that nobody
// edits: spreadsheet programs take ids for numbers, codes for dates, cut
// digits, drop zeros, and write files in other encodings.
//
// It works forward, not by likeness. A Habit is what one program does under
// one locale, in one way of saving: a function from a value to the text that
// the file then shows. A cell is unedited if a habit that fits the rest of its
// column, and of its file, makes of the snapshot's value exactly what is seen.
// What no habit makes is an edit, and its value is read by looking for the
// value of which the habit makes that.
//
// What no known habit explains is learnt from the columns themselves (package
// learn).
//
// The facts were run and measured with LibreOffice Calc 7.4; what is said of
// other programs is recalled, and marked so. docs/wear.md tells them.
package wear
