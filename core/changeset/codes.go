package changeset

import "fmt"

// Level is how much a finding weighs.
type Level string

const (
	Note Level = "note" // information
	Warn Level = "warn" // needs a look; its change can be approved
	Stop Level = "stop" // its change cannot be approved
)

// Scope is what a finding is about.
type Scope string

const (
	OfFile   Scope = "file"
	OfRecord Scope = "record"
	OfField  Scope = "field"
)

// Finding is something that was noticed, with its place. Row counts as a
// spreadsheet does; 0 means no single row. Rows names further rows, at most
// MaxRows of them, Count how many there are in all.
type Finding struct {
	Code   string `json:"code"`
	Level  Level  `json:"level"`
	Scope  Scope  `json:"scope"`
	Text   string `json:"text"`
	File   string `json:"file,omitempty"`
	Row    int    `json:"row,omitempty"`
	Rows   []int  `json:"rows,omitempty"`
	Column string `json:"column,omitempty"`
	Key    string `json:"key,omitempty"`
	Count  int    `json:"count"`
	// Cause is the code of a greater finding from which Caused of the Count follow; "" is none.
	Cause  string `json:"cause,omitempty"`
	Caused int    `json:"caused,omitempty"`
}

// Code is a kind of finding: its name, what it weighs and what it is about.
type Code struct {
	Name  string
	Level Level
	Scope Scope
	// Means says in a sentence what it is, for docs/findings.md.
	Means string
}

// Finding makes a finding of this kind, about one thing.
func (c Code) Finding(format string, args ...any) Finding {
	return Finding{Code: c.Name, Level: c.Level, Scope: c.Scope, Text: fmt.Sprintf(format, args...), Count: 1}
}

// The codes of all findings.
var (
	KeyBlank      = Code{"key-blank", Stop, OfRecord, "a row of the copy has no key; it changes nothing"}
	Repeat        = Code{"repeat", Stop, OfRecord, "a key stands on several rows of the copy; none of them changes anything"}
	ShortRow      = Code{"short-row", Stop, OfRecord, "a row of the copy has fewer cells than there are headings; it changes nothing"}
	LongRow       = Code{"long-row", Stop, OfRecord, "a row of the copy has filled cells beyond the last heading; it changes nothing"}
	ListedAmended = Code{"listed-amended", Stop, OfRecord, "a record is on the delete list and amended in the copy; the amend cannot be approved"}
	ListedUnknown = Code{"listed-unknown", Stop, OfRecord, "a key on the delete list is not in the snapshot"}
	ListedRepeat  = Code{"listed-repeat", Note, OfRecord, "a key stands twice on the delete list; it counts once"}

	Missing      = Code{"missing", Warn, OfFile, "records of the snapshot are not in the copy; their deletes are held"}
	MissingMany  = Code{"missing-many", Warn, OfFile, "so many records are missing from the copy that their deletes are held although deletes were asked for"}
	MissingKept  = Code{"missing-kept", Note, OfFile, "records of the snapshot are not in the copy; nothing follows from that"}
	Blanked      = Code{"blank", Warn, OfField, "cells were emptied in the copy; the changes are held"}
	BlankKept    = Code{"blank-kept", Note, OfField, "cells are empty in the copy; the snapshot's values stand"}
	NotAllowed   = Code{"not-allowed", Warn, OfFile, "the copy asks for an act that --allow leaves out; it is not proposed"}
	ColumnExtra  = Code{"column-ignored", Warn, OfFile, "a column that only the copy has is ignored"}
	ColumnAbsent = Code{"column-absent", Note, OfFile, "a column that only the snapshot has; its field is left untouched"}
	SourceColumn = Code{"source-column", Warn, OfFile, "a column that files from a source had when it was kept is gone, or called otherwise; its field is left untouched"}
	HeadingWorn  = Code{"heading-worn", Note, OfFile, "a heading of the copy is written differently and was recognised"}
	BlankRow     = Code{"blank-row", Note, OfFile, "wholly blank rows of the copy are skipped"}
	BareQuote    = Code{"bare-quote", Note, OfFile, "cells have a quote inside that does not start the cell; it is taken as it stands"}
	HeadingLower = Code{"heading-lower", Note, OfFile, "the headings are not in row 1; what stands above them is passed over"}
	Hidden       = Code{"hidden", Note, OfFile, "sheets, rows or columns of a workbook are hidden or filtered out; they are read"}
	OtherSheets  = Code{"other-sheets", Note, OfFile, "one sheet of several is read"}
	FormulaCells = Code{"formula-cells", Note, OfFile, "cells of a column hold formulas; what was last computed for them is taken"}
	Lent         = Code{"lent", Note, OfFile, "the copy was lent from this snapshot; what a narrow copy lacks is no deletion"}
	LentLost     = Code{"lent-lost", Warn, OfFile, "records that were lent are not in the copy that came back; new ones may be these under another key, and are held"}
	NotLent      = Code{"not-lent", Warn, OfRecord, "the copy has a record that was not lent: a key was typed anew, or a row came from elsewhere; its changes are held"}
	LentOther    = Code{"lent-elsewhere", Warn, OfFile, "the copy was lent from another snapshot; the comparison went on because --other-register was given"}
	OtherRegist  = Code{"other-register", Warn, OfFile, "fewer than half the rows of the copy match the snapshot; the comparison went on because --other-register was given"}

	ReadOnly       = Code{"read-only", Warn, OfField, "the copy changes a read-only field; it is not proposed"}
	OnCreation     = Code{"on-creation", Warn, OfField, "the copy changes a field that is set on creation only; it is not proposed"}
	SystemField    = Code{"system-field", Note, OfField, "the copy changes a field that the system writes itself; it is not proposed"}
	ValueKind      = Code{"value-kind", Stop, OfField, "a value is none of the field's kind: no number, no date in its form, no word for true or false"}
	ValueScale     = Code{"value-scale", Stop, OfField, "a number has more decimals than the field"}
	ValueChoice    = Code{"value-choice", Stop, OfField, "a value is not among those allowed"}
	ValueRef       = Code{"value-reference", Stop, OfField, "a value is not in the list that the field refers to"}
	ValueAmbiguous = Code{"value-ambiguous", Stop, OfField, "a name is that of several, or a value could stay or be translated"}
	ValueUnknown   = Code{"value-unknown", Stop, OfField, "a value is to be translated, and nothing says what it becomes"}
	ValueLength    = Code{"value-length", Stop, OfField, "a text is shorter or longer than the field takes"}
	ValueRange     = Code{"value-range", Stop, OfField, "a value is below or above what the field takes"}
	ValuePattern   = Code{"value-pattern", Stop, OfField, "a text does not fit the field's pattern"}
	ValueNeeded    = Code{"value-required", Stop, OfField, "a field that needs a value would be empty"}
	ValueUnique    = Code{"value-unique", Stop, OfField, "several records would have one value in a field where each has its own"}
	BrokenRule     = Code{"rule", Stop, OfField, "a rule of the layout would not hold; the rule says how much it weighs"}
	LimitMove      = Code{"limit-move", Warn, OfField, "a number moves further than the layout lets it move without a second look; the change is held"}
	OverLimit      = Code{"limit", Warn, OfFile, "more records change than the layout, or the routine, lets change without a second look; the changes are held"}
	Unchecked      = Code{"value-before", Warn, OfField, "a value that the copy does not change is not as the layout says (--with check-all)"}

	Wear        = Code{"wear", Note, OfField, "a program wrote values of a column in another form when it saved the copy; nobody edited them, and the snapshot's stand"}
	WearProgram = Code{"wear-program", Note, OfFile, "which program saved the copy, as its marks on the values show"}
	WearHeld    = Code{"wear-held", Warn, OfField, "a cell looks as a program would write it, and other cells or columns do not, or its value is another one: it may be an edit, and is held"}
	WearUnknown = Code{"wear-unknown", Stop, OfField, "a cell was edited, and its value can be read in several ways; what was meant cannot be told"}
	Strange     = Code{"strange-column", Warn, OfField, "many cells of a column are written as the snapshot writes none of it, and no known program explains them; the changes are held, and decided together"}
	BulkEdit    = Code{"bulk-edit", Note, OfField, "many cells of a column are changed, to values such as the column has"}
	KeyWorn     = Code{"key-worn", Note, OfFile, "keys that a program changed were recognised"}
	KeyLost     = Code{"key-lost", Stop, OfRecord, "a key that a program changed could be that of several records; nothing is taken from the row"}

	KeyEvidence = Code{"key-by-evidence", Warn, OfRecord, "a record was recognised by its other fields, since its key is shown as that of several; its changes are held"}

	FillOverrun    = Code{"fill-overrun", Warn, OfField, "a fill reaches a few rows past the group it belongs to; what it overran is held"}
	FillSeries     = Code{"fill-series", Warn, OfField, "values count up along the rows where one may have been meant; they are held"}
	FillGap        = Code{"fill-gap", Warn, OfField, "one row was left out of a fill that is complete otherwise"}
	LoneSort       = Code{"lone-sort", Warn, OfField, "a column has its values on other records: it was sorted without the others; its changes are held"}
	RowShift       = Code{"row-shift", Warn, OfField, "a column has its values a row off; the changes are held"}
	ColumnSwap     = Code{"column-swap", Warn, OfField, "two columns have each other's values; the changes are held"}
	ColumnMoved    = Code{"column-moved", Warn, OfField, "a column's values are in another now, and it is empty; the changes are held, and decided together"}
	Factor         = Code{"factor", Warn, OfField, "a number is off by ten, a hundred, a thousand or its sign; the change is held"}
	Outlier        = Code{"outlier", Warn, OfField, "a number or date moves far outside the others of its column; the change is held"}
	MassClear      = Code{"mass-clear", Warn, OfField, "a column, or most of it, is emptied; the changes are held"}
	SameEverywhere = Code{"same-value-everywhere", Warn, OfField, "a column would have one value in nearly all records; the changes are held"}
	FormulaLeft    = Code{"formula-left", Warn, OfField, "a formula stands where a value should be; the change is held"}
	TotalRow       = Code{"total-row", Warn, OfRecord, "a row is a line of totals and no record; if it would be one, that is held"}
	NoteRow        = Code{"note-row", Warn, OfRecord, "a row is a note and no record; if it would be one, that is held"}
	PartsDisagree  = Code{"parts-disagree", Warn, OfField, "a record stands on several rows of a joined sheet, and they do not say one thing of it, or a row was given another record and may still have what the one before had; the change is held"}
	KeyEdited      = Code{"key-edited", Warn, OfRecord, "a delete and an add are one record whose key was edited; they are held, and decided together"}
	KeyShifted     = Code{"key-shifted", Warn, OfRecord, "keys moved from record to record; the changes are held, and decided together"}
	SwappedPair    = Code{"swapped-pair", Warn, OfField, "two records have each other's value; the changes are held"}
	NearMiss       = Code{"near-miss", Warn, OfField, "a new value is one letter from one that occurs often; the change is held"}
	Invisible      = Code{"invisible", Warn, OfField, "a value has something that cannot be seen: a character without a glyph, or a letter of another script that looks like those around it"}
	StaleValue     = Code{"stale-value", Warn, OfField, "an edit puts back what the snapshot of an earlier dossier had; the change is held"}
	WrongFile      = Code{"wrong-file", Warn, OfFile, "what the copy does not change fits the snapshot of another dossier better; all changes are held"}
	SlipsPart      = Code{"slips-part", Note, OfFile, "there are so many changes that slips were looked for in the first of them only"}

	DeriveFailed    = Code{"derive-failed", Warn, OfField, "an expression could not be evaluated for a record; the field stays as it is"}
	DeriveEmpty     = Code{"derive-empty", Note, OfField, "a field that an expression needs is empty; what it computes stays as it is"}
	DeriveNone      = Code{"derive-none", Warn, OfFile, "no record is selected, so that nothing is derived"}
	DeriveAll       = Code{"derive-all", Note, OfFile, "a selection takes all records"}
	SelectedUnknown = Code{"selected-unknown", Warn, OfRecord, "a record that is asked for is not in the snapshot"}
	SelectedRepeat  = Code{"selected-repeat", Note, OfRecord, "a record that is asked for is named twice; it counts once"}

	StillReferred = Code{"still-referred", Warn, OfRecord, "records of another set refer to a record that is to be deleted; its delete is held"}
	ReferUnknown  = Code{"referrers-unknown", Note, OfFile, "whether records of another set refer to those that are to be deleted is not known, since their layout or they themselves cannot be read"}

	MovedOn      = Code{"moved-on", Warn, OfField, "others changed what is changed here, after the old snapshot; the change is held"}
	GoneSince    = Code{"gone-since", Warn, OfRecord, "a record that is changed here is gone since the old snapshot; that it is added again is held"}
	KeyTaken     = Code{"key-taken", Warn, OfRecord, "a record that was to be added is there since the old snapshot, with other values; the amends are held"}
	AddedPerhaps = Code{"added-perhaps", Warn, OfRecord, "an earlier run lost the answer whether it added a record that has no key of its own; that it is added again is held"}
	CaughtUp     = Code{"caught-up", Note, OfFile, "changes that are there already fell away when a dossier was laid on newer records"}

	ListedField = Code{"listed-field", Stop, OfRecord, "a row of a list of fields names no field, or the key; nothing is taken from it"}
	ListedTwice = Code{"listed-twice", Stop, OfRecord, "a list of fields gives a field of a record several values; none of them is taken"}
	OldDiffers  = Code{"old-differs", Warn, OfField, "a list says that something else was there than the snapshot has; the change is held"}
	KeepUnknown = Code{"kept-unknown", Stop, OfRecord, "a key on the list of records to keep is not in the snapshot"}

	CopiesDisagree = Code{"copies-disagree", Stop, OfField, "copies of one snapshot do not agree: they have different values, or one lacks a record that another changes; what is meant has to be said, with approve --of FILE or ID/field --as VALUE"}
	CopiesRekey    = Code{"copies-rekey", Stop, OfRecord, "copies give one record different keys; nothing of that can be approved until they agree"}
	CopyTwice      = Code{"copy-twice", Note, OfFile, "two of the copies are the same file; it counts once"}

	ConflictThen = Code{"conflict", Warn, OfRecord, "the record was changed after the run that is to be undone; the change is held"}
	ByOthers     = Code{"changed-by-others", Warn, OfRecord, "no run of this dossier wrote this; it was changed by others since, and putting it back is held"}
)

// Codes lists all codes, for docs and checks.
func Codes() []Code {
	return []Code{KeyBlank, Repeat, ShortRow, LongRow, ListedAmended, ListedUnknown, ListedRepeat,
		Missing, MissingMany, MissingKept, Blanked, BlankKept, NotAllowed, ColumnExtra, ColumnAbsent, SourceColumn, HeadingWorn,
		BlankRow, BareQuote, HeadingLower, Hidden, OtherSheets, FormulaCells, Lent, LentLost, NotLent, LentOther, OtherRegist, ReadOnly, OnCreation, SystemField, ValueKind, ValueScale, ValueChoice, ValueRef,
		ValueAmbiguous, ValueUnknown, ValueLength, ValueRange, ValuePattern, ValueNeeded, ValueUnique, BrokenRule, LimitMove, OverLimit, Unchecked, Wear, WearProgram, WearHeld, WearUnknown, Strange, BulkEdit, KeyWorn, KeyLost, KeyEvidence,
		FillOverrun, FillSeries, FillGap, LoneSort, RowShift, ColumnSwap, ColumnMoved, Factor, Outlier, MassClear, SameEverywhere, FormulaLeft, TotalRow, NoteRow,
		PartsDisagree, KeyEdited, KeyShifted, SwappedPair, NearMiss, Invisible, StaleValue, WrongFile, SlipsPart,
		DeriveFailed, DeriveEmpty, DeriveNone, DeriveAll, SelectedUnknown, SelectedRepeat, StillReferred, ReferUnknown, MovedOn, GoneSince, KeyTaken, AddedPerhaps, CaughtUp, ListedField, ListedTwice, OldDiffers, KeepUnknown, CopiesDisagree, CopiesRekey, CopyTwice, ConflictThen, ByOthers}
}
