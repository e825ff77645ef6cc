package slip

// The thresholds of all judgements. Chances are those of a pattern arising
// among edits that were meant.
const (
	// mostSampled is how many records show what is usual in a column: enough that a
	// value of one in a hundred is seen forty times, and few enough to cost
	// nothing.
	mostSampled = 4096
	// mostCells is how many cells a sample of whole records has: of tables with more than some 130 columns fewer records
	// are looked at, which show as much in so many columns, and cost what the others do.
	mostCells = 1 << 19
	// fewestSampled is how many records are looked at, however many columns they have.
	fewestSampled = 32
	// unlikely is the chance below which a pattern is no accident. One set in
	// twenty may raise a false alarm, and there are some twenty patterns.
	unlikely = 0.001
	// doubtful is the same where the hand's mark is plain besides: the rows are
	// neighbours, or the value is none of the column's.
	doubtful = 0.02

	// exchanged is the chance below which two records have exchanged a value:
	// there are many pairs of records.
	exchanged = 0.01

	// fewestFilled is how many cells make a fill that something can be wrong
	// with; two or three equal values are often typed.
	fewestFilled = 4
	// mostTail is how many cells a fill runs too far before it is a fill of
	// something else; and the group must be longer than the tail.
	mostTail = 5
	// wholeGroup is how many of a group have to be filled before one left out is
	// a gap and not a choice.
	wholeGroup = 5
	// nearlyAll is the share of a fill, in parts of a hundred, that its group
	// makes: other edits may come to the same value.
	nearlyAll = 93
	// looking is how many cells of a fill are looked at to find what they have
	// in common.
	looking = 64
	// byAccident is the chance, as one in so many, that another edit to the same
	// value is beside the group by accident, from which on one that is tells
	// nothing.
	byAccident = 8
	// hole is how many rows within a fill may already have had its value.
	hole = 8
	// fewestCounted is how many cells count up, at least, to be a series.
	fewestCounted = 3
	// countedRows is how many rows a copy may have for groups in it to be
	// counted to the last: half a tenth of a second.
	countedRows = 100_000

	// everywhere is the share of records that have one value after the changes,
	// in parts of a hundred, and had no one value before, for a column to be
	// overwritten. Groups that are handed over are smaller. Where more than
	// commonBefore had that very value, a fill that reaches too far is looked for
	// first.
	everywhere, commonBefore = 80, 50
	fewestOverwritten        = 10
	// cleared is the share of a column's values that are gone, in parts of a
	// hundred, for it to be emptied.
	cleared       = 50
	fewestCleared = 5

	// fewestSorted and fewestShifted are how many rows show that a column was
	// sorted alone, or pasted a row off.
	fewestSorted  = 6
	fewestShifted = 3
	// clearlyShifted is how many show it even where the column is in order, too.
	clearlyShifted = 8
	// fewestSwapped is how many records have the values of two columns
	// exchanged, or moved from one to the other, before it is the columns that
	// were.
	fewestSwapped = 3

	// mostAcross is how many fields of a record change, at most, for pairs of
	// them to be looked at.
	mostAcross = 100

	// alike is the share of a record's values, in parts of a hundred, that are
	// found again under another key for it to be the same record: a person who
	// edits a key may edit a few fields besides.
	alike = 60
	// mostIndexed is how many records share a value before it tells nothing
	// about which record it is.
	mostIndexed = 12

	// steady is how many moves of a column have to agree for the others to be
	// measured by them, and steadyShare how many in a hundred.
	steady, steadyShare = 6, 70
	// trusted is how many agreeing moves make one that does not an outlier even
	// where its value is nothing unusual.
	trusted = 20
	// agreeing is how far two moves of one percentage are apart, in parts of
	// a million, the rounding of the result aside.
	agreeing = 20_000
	// loose is how far a factor of ten may be off where moves differ: honest
	// moves on top of the slip.
	loose = 1_350_000 // parts of a million
	// wellOutside is how far a number is beyond all that the column has, where
	// nothing else is known: the next honest one may be a little beyond, too.
	wellOutside = 1_200_000
	// farMove is how many times further than steady moves an outlier is, in
	// parts of a million: prices seldom double.
	farMove = 2_500_000
	// farValue is the same where moves differ; the value must be outside of all
	// that the column has, too.
	farValue = 3_000_000
	// farDays is how many days a date moves that is an outlier: more than two
	// years beyond the others.
	farDays = 750
	// fewestKnown is how many values a column has to have for a value beyond all
	// of them to mean anything.
	fewestKnown = 20
	// fewOutliers is the share of a column's moves, one in so many, that can be
	// outliers; more of them are a second kind of edit.
	fewOutliers = 8

	// frequent is how often a value occurs in the sample, as one in so many and
	// at least commonly times, for another that is one letter away to be a
	// misspelling of it.
	frequent, commonly = 50, 3
	// mostKinds is how many values a column has whose values are chosen from a
	// list, and not written.
	mostKinds = 60

	// fewestFit is how many sampled records the copy has as another snapshot has
	// them, and how many times fewer it may have as its own, before it is the
	// copy of the other.
	fewestFit, fitTimes = 2, 4
)
