package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/derive"
	"paletwin/core/expr"
	"paletwin/core/forms"
	"paletwin/core/layout"
	"paletwin/core/lend"
	"paletwin/core/shape"
	"paletwin/core/table"
	"paletwin/core/words"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
	"paletwin/internal/sheet"
	"paletwin/internal/target"
	"paletwin/internal/target/odata"
	"paletwin/internal/target/open"
	"paletwin/internal/target/sqldb"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

// message is an error in words: what, where, and what to do.
type message struct {
	Code   string `json:"code"`
	Text   string `json:"text"`
	File   string `json:"file,omitempty"`
	Row    int    `json:"row,omitempty"`
	Rows   []int  `json:"rows,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column string `json:"column,omitempty"`
	Do     string `json:"do,omitempty"`
	exit   int
	unhurt string // what is said besides, unless a run was under way
}

// explain turns an error into words. This is the one place that does.
func explain(err error) *message {
	m := explainTyped(err)
	if m == nil {
		m = explainSystem(err)
	}
	var broken *run.Broken
	switch {
	case errors.As(err, &broken):
		m.Text += "; " + brokenWords(broken)
		if broken.Done+broken.Unknown > 0 {
			m.Do = "run the same command again: it goes on from there; paletwin rollback undoes what was written"
			if m.Code == "service-"+string(odata.Denied) {
				m.Do = "give a fresh token in PALETWIN_TOKEN, and " + m.Do
			}
		}
	case m.unhurt != "":
		m.Text += "; " + m.unhurt
	}
	m.Text = screen.Safe(m.Text)
	return m
}

func explainTyped(err error) *message {
	if m := explainDesk(err); m != nil {
		return m
	}
	var (
		use     *usageError
		misused *update.Misuse
		tab     *table.Error
		ref     *compare.Refusal
		refused *run.Refusal
		busy    *target.BusyError
		kind    *open.UnknownKind
		column  *target.MissingColumn
		address *target.AddressError
		base    *sqldb.Error
		service *odata.Error
		field   *lend.FieldError
		wrong   layout.Errors
		formula *expr.Error
		said    *sheet.FileError
		derived *derive.FieldError
		beside  *derive.InputError
		handing *handoff.Error
		answer  *handoff.ResultError
	)
	var unproven *run.TableError
	if errors.As(err, &unproven) {
		if m := explainTyped(unproven.Err); m != nil {
			m.Do = "nothing was written, since nothing could be proven afterwards: put it right there, or name the right file"
			if errors.As(err, &ref) && ref.Code == compare.NoKeyColumn {
				m.Do = "its columns are " + columnList(ref.Columns) + "\n" + m.Do
			}
			return m
		}
	}
	switch {
	case errors.As(err, &use):
		return &message{Code: "usage", Text: use.text, Do: "paletwin --help lists the commands, and paletwin COMMAND --help its flags", exit: exitUsage}
	case errors.As(err, &misused):
		return &message{Code: "usage", Text: fmt.Sprintf(misuses[misused.Code], misused.Args...), Do: "paletwin --help lists the commands, and paletwin COMMAND --help its flags", exit: exitUsage}
	case errors.As(err, &tab):
		return &message{Code: string(tab.Code), Text: tab.Error(), File: tab.File, Row: tab.Row, Line: tab.Line, Do: remedies[string(tab.Code)], exit: exitLook}
	case errors.As(err, &ref):
		return explainRefusal(ref)
	case errors.As(err, &refused):
		return &message{Code: refused.Code, Text: refused.Text, Do: remedies[refused.Code], exit: exitLook}
	case errors.Is(err, target.ErrMoved):
		return &message{Code: "target-changed", Text: err.Error(), Do: "run the same command again: it looks at the records as they are now", exit: exitFailed, unhurt: "nothing was written"}
	case errors.As(err, &kind):
		return &message{Code: "target-kind", Text: kind.Error(), Do: "a target is a CSV, JSON, JSON Lines, XLSX or ODS file, a table (postgresql://…, mariadb://…, sqlite:…), a set of a service (https://…), or a name from desk.yaml", exit: exitUsage}
	case errors.As(err, &busy):
		return &message{Code: "busy", Text: busy.Error(), File: busy.Name, Do: "close it there, or wait, and run the command again", exit: exitLook}
	case errors.As(err, &wrong):
		return explainLayout(wrong)
	case errors.As(err, &formula):
		return explainExpression(formula)
	case errors.As(err, &beside):
		return &message{Code: "input", Text: beside.Error(), File: beside.File, Row: beside.Row, Do: "correct the file; its key and fields have the snapshot's headings, or aliases of the layout", exit: exitLook}
	case errors.As(err, &derived):
		return &message{Code: "no-field", Text: derived.Error(), Column: derived.Field, Do: "its columns are " + columnList(derived.Columns), exit: exitUsage}
	case errors.As(err, &handing):
		return &message{Code: handing.Code, Text: handing.Text, Do: remedies[handing.Code], exit: exitLook}
	case errors.As(err, &answer):
		return &message{Code: "result", Text: answer.Error(), File: answer.File, Do: answer.Do, exit: exitLook}
	case errors.As(err, &said):
		return explainSheet(said)
	case errors.As(err, &field):
		return &message{Code: "no-field", Text: field.Error(), Column: field.Field, Do: "its columns are " + columnList(field.Columns), exit: exitUsage}
	case errors.As(err, &address):
		return &message{Code: "target-name", Text: address.Error(), Do: "a table is named as in postgresql://registrar@host/register#public.aids, mariadb://registrar@host/register#aids or sqlite:register.db#aids, and a set of a service as in https://host/service/Aids", exit: exitUsage}
	case errors.As(err, &base):
		return explainDatabase(base)
	case errors.As(err, &service):
		return explainService(service)
	case errors.As(err, &column):
		return &message{Code: run.MissingColumn, Text: column.Error(), File: column.Target, Column: column.Column, Do: remedies[run.MissingColumn], exit: exitLook}
	}
	return nil
}

// explainDatabase says what a database said.
func explainDatabase(e *sqldb.Error) *message {
	m := &message{Code: e.Code, Text: e.Error(), File: e.Name, Do: remedies[e.Code], exit: exitFailed}
	switch e.Code {
	case sqldb.OnlyRead, sqldb.NoKey, sqldb.Locked:
		m.exit = exitLook
	}
	return m
}

// explainService says what a service said.
func explainService(e *odata.Error) *message {
	m := &message{Code: "service-" + string(e.Code), Text: e.Error(), File: e.Name, Do: serviceRemedies[e.Code], exit: exitFailed}
	switch e.Code {
	case odata.Moving, odata.Busy, odata.ReadOnly, odata.OtherKey:
		m.exit = exitLook
	}
	return m
}

// serviceRemedies says what to do where a service could not be used.
var serviceRemedies = map[odata.Code]string{
	odata.Lost:      "run the command again; if it stays so, ask who runs the service",
	odata.Absent:    "look at the name, and whether the service is up and can be reached from here",
	odata.Untrusted: "if it is the service that is meant, its authority's certificate belongs among those that this machine trusts; SSL_CERT_FILE names another file of them",
	odata.Denied:    "give a token in PALETWIN_TOKEN, or a file of mode 0600 that PALETWIN_TOKEN_FILE names; or a name in the URL, https://NAME@host/…, and PALETWIN_PASSWORD; docs/services.md",
	odata.NotThere:  "look at the name: the last part of it is the set, and what is before it the service's root",
	odata.Elsewhere: "name the service by the address that it has of itself, or ask who runs it",
	odata.Foreign:   "look at the name; the service must speak OData 4.0 or 4.01 with JSON",
	odata.Refused:   "what it says is to be put right there",
	odata.Busy:      "run the command again later",
	odata.Moving:    "run the command again when less is written there",
	odata.ReadOnly:  "paletwin handoff NNNN makes the load files",
	odata.OtherKey:  "compare with --key and the service's key, or hand the changes off: paletwin handoff NNNN",
	odata.Failed:    "ask who runs the service what is the matter with it; then run the command again",
}

// misuses are the words for requests that cannot be carried out as they stand.
var misuses = map[string]string{
	update.NotCompared: "dossier %s undoes another, and is not laid on newer records: make it anew with rollback or restore",
	update.NotHanded:   "--current is for what was handed off; this dossier's target is read directly",
	update.NoKeyThere:  "%s has no key of its own: name the fields that identify a record with --key",
	update.OutThere:    "%s is there already; name a new folder with -o",
	update.Negative:    "--with done takes no negative number",
	update.WhichFile:   "run %d sent one file a field: say which was answered, with --of FILE",
	update.TooMany:     "%d records were handed over, and %d cannot have been done",
	update.WholeFile:   "%s is carried out as a whole: leave --of out",
	update.WhereNow:    "where the records of %s live is not known here: name the newer records, lend NEWER --catch-up COPY",
	update.MadeOf:      "what %s was made from is not on this desk: name it with --snapshot OLD",
	update.NoSuchFile:  "--of names no load file of run %d; they are %s",
}

// brokenWords says how far a run had come.
func brokenWords(b *run.Broken) string {
	words := fmt.Sprintf("run %d had written %s of %s", b.Run, screen.Count(b.Done), screen.Plural(b.Of, "record"))
	if b.Done == 0 {
		words = "nothing was written"
	}
	switch {
	case b.Written:
		words += ", and what failed came after that"
	case b.Unknown > 0 && b.Done == 0:
		words = fmt.Sprintf("run %d was writing %s, and what became of them is not known yet", b.Run, screen.Plural(b.Unknown, "record"))
	case b.Unknown > 0:
		words += fmt.Sprintf(", and what became of %s more is not known yet", screen.Count(b.Unknown))
	}
	return words
}

// explainDesk says what is the matter with a dossier, or with the name of one.
func explainDesk(err error) *message {
	var (
		newer   *forms.NewerError
		damage  *desk.DamageError
		none    *desk.NotFound
		name    *desk.NameError
		attempt *desk.AttemptError
		copied  *desk.CopyError
		routine *desk.RoutineError
		sender  *desk.SenderError
		which   *whichSet
		noSet   *desk.NoSuchSet
	)
	switch {
	case errors.As(err, &which):
		n, sets := which.t.Meta.Number, which.t.SetNames()
		return &message{Code: "which-set", Text: which.Error(), Do: "name the one that is meant: --record-set " + sets[len(sets)-1] + ", or " + n + desk.PartMark + sets[len(sets)-1] + " for " + n, exit: exitUsage}
	case errors.As(err, &noSet):
		return &message{Code: "no-set", Text: noSet.Error(), Do: "it has " + words.List(noSet.Have), exit: exitUsage}
	case errors.As(err, &newer):
		m := &message{Code: "newer", Text: err.Error(), Do: "the paletwin that wrote it reads it, or one that came later; paletwin version says what this one knows", exit: exitFailed}
		if errors.As(err, &damage) {
			m.Text, m.File = damage.Error(), damage.File
		}
		return m
	case errors.As(err, &damage):
		return &message{Code: "damaged", Text: damage.Error(), File: damage.File, Do: remedies["damaged"], exit: exitFailed}
	case errors.As(err, &none):
		do := "paletwin history lists the dossiers there are"
		if len(none.Have) == 0 {
			do = "there is no dossier here yet: paletwin compare makes one; --desk names another desk"
		}
		return &message{Code: "no-dossier", Text: none.Error(), Do: do, exit: exitUsage}
	case errors.As(err, &attempt):
		return &message{Code: "failed-attempt", Text: attempt.Error(), Do: "name the dossier that is meant by its number (paletwin history lists them), or make the new one", exit: exitLook}
	case errors.As(err, &copied):
		return &message{Code: "copied-dossier", Text: copied.Error(), Do: "name the dossier itself; move the copy out of the folder dossiers", exit: exitLook}
	case errors.As(err, &name) && name.Field != "":
		return &message{Code: "no-field", Text: name.Error(), Column: name.Field, exit: exitUsage}
	case errors.As(err, &name):
		return &message{Code: "no-change", Text: name.Error(), Do: "paletwin show lists the changes with their ids", exit: exitLook}
	case errors.As(err, &sender):
		return &message{Code: "no-source", Text: sender.Error(), Do: "docs/sources.md shows what a source may say", exit: exitUsage}
	case errors.As(err, &routine):
		return &message{Code: "routine", Text: routine.Error(), File: routine.File, Do: "docs/derive.md shows what a routine may say", exit: exitUsage}
	}
	return nil
}

// explainExpression points at the place in an expression.
func explainExpression(e *expr.Error) *message {
	m := &message{Code: "expression", Text: "the expression, column " + fmt.Sprint(e.Column) + ": " + e.Text, exit: exitUsage}
	if lines := strings.Split(e.Source, "\n"); e.Line >= 1 && e.Line <= len(lines) {
		m.Do = screen.Safe(lines[e.Line-1]) + "\n" + strings.Repeat(" ", max(e.Column-1, 0)) + "^"
	}
	if e.Hint != "" {
		m.Do += "\n" + e.Hint
	}
	return m
}

// explainSheet says which decisions of a file cannot be read.
func explainSheet(e *sheet.FileError) *message {
	m := &message{Code: "review-sheet", Text: e.Error(), File: e.File, Do: "correct it and collect it again; nothing was decided", exit: exitLook}
	if e.Foreign {
		m.Do = "collect it in the dossier that it was made from; nothing was decided"
	}
	const most = 12
	var lines []string
	for _, p := range e.Problems[:min(len(e.Problems), most)] {
		lines = append(lines, screen.Safe(p.Place+": "+p.Text))
	}
	if len(e.Problems) > most {
		lines = append(lines, fmt.Sprintf("and %d more", len(e.Problems)-most))
	}
	m.Do = strings.Join(append(lines, m.Do), "\n")
	return m
}

// explainLayout says all that is wrong with a layout, a few lines each.
func explainLayout(all layout.Errors) *message {
	m := &message{Code: "layout", Text: all[0].Error(), File: all[0].File, Line: all[0].Line, Do: all[0].Hint, exit: exitUsage}
	const most = 12
	for _, e := range all[1:min(len(all), most)] {
		m.Do += "\n" + e.Error()
		if e.Hint != "" {
			m.Do += "\n  " + e.Hint
		}
	}
	if len(all) > most {
		m.Do += fmt.Sprintf("\nand %d more", len(all)-most)
	}
	m.Do = strings.TrimPrefix(m.Do, "\n")
	return m
}

func explainRefusal(r *compare.Refusal) *message {
	m := &message{Code: string(r.Code), Text: r.Text, File: r.File, Rows: r.Rows, Column: r.Column, Do: remedies[string(r.Code)], exit: exitLook}
	if len(r.Rows) > 0 {
		m.Row = r.Rows[0]
		m.Text += ": " + rowList(r.Rows)
	}
	if len(r.Columns) > 0 && (r.Code == compare.NoKeyColumn || r.Code == compare.NoCommon) {
		m.Do = "its columns are " + columnList(r.Columns) + "\n" + m.Do
	}
	return m
}

// columnList names columns, the first of them if there are many.
func columnList(columns []string) string {
	const most = 30
	text := screen.Safe(strings.Join(columns[:min(len(columns), most)], ", "))
	if len(columns) > most {
		text += fmt.Sprintf(" and %d more", len(columns)-most)
	}
	return text
}

// rowList names rows: "rows 4, 9 and 12", the first of them if there are many.
func rowList(rows []int) string {
	const most = 20
	word := "rows"
	if len(rows) == 1 {
		word = "row"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s %d", word, rows[0])
	for i, r := range rows[1:min(len(rows), most)] {
		sep := ", "
		if i == len(rows)-2 {
			sep = " and "
		}
		fmt.Fprintf(&b, "%s%d", sep, r)
	}
	if len(rows) > most {
		fmt.Fprintf(&b, " and %d more (all with --json)", len(rows)-most)
	}
	return b.String()
}

// explainSystem says what the operating system would not do.
func explainSystem(err error) *message {
	m := &message{Code: "failed", Text: err.Error(), exit: exitFailed}
	var fault *faultError
	if errors.As(err, &fault) {
		m.Code, m.Text = "fault", "this is a fault of the program, and none of yours: "+err.Error()
		m.Do = "run the same command again: it finishes what was begun, or clears it; and report these lines:\n" + strings.ReplaceAll(string(fault.stack), "\t", "  ")
		return m
	}
	var path *fs.PathError
	if errors.As(err, &path) {
		m.File = path.Path
	}
	var untrusted *desk.UntrustedError
	var machine *desk.MachineError
	var exchanged *desk.ExchangedError
	var kept *desk.KeptError
	switch {
	case errors.Is(err, errCutShort):
		m.Code, m.Do = "interrupted", "run the same command again: it finishes what was begun, or clears it"
	case errors.Is(err, context.Canceled):
		m.Code, m.Text, m.unhurt, m.Do = "interrupted", "interrupted", "nothing half-written is left", "run the same command again: it goes on where it can"
	case errors.Is(err, disk.ErrFolder), errors.Is(err, syscall.EISDIR):
		m.Code, m.Text, m.Do = "directory", m.File+" is a folder, not a file", "name the file in it"
	case errors.Is(err, disk.ErrPipe), errors.Is(err, disk.ErrDevice):
		m.Code, m.Text, m.Do = "no-file", m.File+" "+errors.Unwrap(path).Error(), "save what comes out of it as a file, and name that; a snapshot or copy may come from standard input, named -"
	case errors.Is(err, syscall.ENAMETOOLONG):
		m.Code, m.Text, m.Do = "name-too-long", "the name "+screen.Cut(m.File, 60)+" is too long", "choose a shorter one"
	case errors.Is(err, fs.ErrNotExist):
		m.Code, m.Text, m.Do = "missing-file", "there is no file "+m.File, "check the name and the folder you are in"
	case errors.Is(err, fs.ErrPermission):
		m.Code, m.Text, m.Do = "no-permission", m.File+": permission denied", "ask for the right to read and write it, or name another file"
	case errors.Is(err, syscall.ENOSPC):
		m.Code, m.Text, m.unhurt, m.Do = "disk-full", "the disk is full", "nothing was changed in the target", "make room and run the same command again"
	case errors.Is(err, disk.ErrLocked):
		m.Code, m.Text, m.Do = "busy", strings.TrimSuffix(err.Error(), ": "+disk.ErrLocked.Error())+": "+disk.ErrLocked.Error(), "wait until it is done, and run the command again"
		m.exit = exitLook
	case errors.Is(err, table.ErrChanged), errors.Is(err, disk.ErrChanged):
		m.Code, m.Text, m.Do = "changed", strings.TrimSpace(m.File+" the file changed while it was read"), "wait until nobody writes to it, and run the command again"
	case errors.As(err, &untrusted):
		m.Code, m.Text = "untrusted-desk", untrusted.Error()+": it is not followed unless it is named"
		m.Do = "if it is meant, name its folder: --desk " + untrusted.Desk + "; a desk that several work on has \"shared: GROUP\" in its desk.yaml"
	case errors.As(err, &machine):
		m.Code, m.exit, m.Do = "other-machine", exitLook, "let the folder catch up, and work on it from one machine at a time; --other-machine goes on from this one. Nothing was written"
	case errors.As(err, &exchanged):
		m.Code, m.exit, m.Do = "other-dossier", exitLook, "look at what it holds: paletwin show "+exchanged.Number+"; if it belongs here, --other-dossier says so. Nothing was written"
	case errors.As(err, &kept):
		m.Code, m.exit, m.File, m.Do = "kept", exitLook, kept.File, "choose another name, or say --replace; nothing was written"
	case errors.Is(err, disk.ErrLeadsOut):
		m.Code, m.Text = "leads-out", m.File+": "+disk.ErrLeadsOut.Error()
		m.Do = "put what it leads to in its place; the desk's own folder may be reached through links, and nothing below it"
	case errors.Is(err, disk.ErrCloud):
		m.Code, m.Text = "in-the-cloud", m.File+": "+disk.ErrCloud.Error()
		m.Do = "have the program that keeps the folder fetch it, and run the command again"
	case errors.Is(err, desk.ErrSettings):
		m.Code, m.Do = "settings", "correct the line, or take it out: every setting has a default"
	case errors.Is(err, run.ErrNoRun):
		m.Code, m.Do, m.exit = "no-run", "paletwin history NNNN lists the runs of a dossier", exitUsage
	case errors.Is(err, changeset.ErrSeal), errors.Is(err, changeset.ErrCut):
		m.Code, m.Do = "damaged", remedies["damaged"]
	}
	return m
}

// remedies says for each code what to do.
var remedies = map[string]string{
	string(table.Empty):           "export it again; a table needs a row of headings",
	string(table.Binary):          "open it in a spreadsheet program, save it as XLSX, and name that file",
	string(table.NoList):          "export it as a list of all records, and name that file; paletwin take reads all pages of a service itself",
	string(table.Broken):          "open it in its program, save it again, and name that file",
	sqldb.Lost:                    "look at the name, and whether the server is up and can be reached from here",
	sqldb.Denied:                  "the account needs rights, or a password: PALETWIN_PASSWORD, a file that PALETWIN_PASSWORD_FILE names, or for PostgreSQL a .pgpass; docs/databases.md lists what is needed",
	run.NoDefinition:              "only runs on databases keep one, and only since this version",
	run.OtherRecords:              "name an export of the same register; --other-register lays them on these all the same",
	run.WholeOnly:                 "leave --with touched out: a file's backup is a copy of it",
	run.NotKept:                   "name a run whose backup has all of them with --run, or take a backup of your own",
	sqldb.ThereAlready:            "leave --with create out: restore returns its records to the backup",
	sqldb.NotThere:                "look at the part behind #; in another schema a table is called schema.table",
	sqldb.Locked:                  "run the command again when the others are done",
	sqldb.OnlyRead:                "records can be taken from it, and changes handed off",
	sqldb.NoKey:                   "records can be taken from it, and changes handed off",
	string(table.Locked):          "give it in the environment: PALETWIN_XLSX_PASSWORD=… paletwin …",
	handoff.NeedsCurrent:          "export the records as they are now, with all fields, and name the file: --current EXPORT",
	run.WasHanded:                 "paletwin handoff NNNN makes the load files; --to TARGET names a target that can be written directly",
	handoff.NeedsFresh:            "export the records as they are now, and name the file: paletwin verify NNNN EXPORT",
	handoff.NeedsBlank:            "write it into the layout (outward: {blank: keeps}) or say --with blank=keeps, if that is so; or take --with shape=grouped",
	handoff.TwiceHeading:          "give them different names in the layout: outward: {name: …}",
	string(table.NoTarget):        "a target is a CSV, JSON, JSON Lines, XLSX or ODS file: save it as one of these, or name another",
	string(compare.LentElsewhere): "compare it with the snapshot that it was lent from; --other-register compares these two all the same",
	string(table.TooLarge):        "save the part that is needed as CSV and name that file",
	string(table.NoSheet):         "name a sheet that is there with --sheet",
	string(table.NoEncoding):      "name one such as utf-8, utf-16le, windows-1252 or iso-8859-15",
	string(table.NUL):             "export it again as text; NUL bytes come from a broken transfer or a binary file",
	string(table.NotUTF8):         "save it as CSV UTF-8, or name its encoding: --encoding windows-1252",
	string(table.Unclosed):        "close the quote in that row, or double it if it belongs to the text",
	string(table.StrayQuote):      "put a delimiter after the closing quote, or double the quotes inside the cell",
	string(table.TwiceHeading):    "give each column a heading of its own; which of the two is meant cannot be guessed",
	string(table.BlankHeading):    "give the column a heading, or take the column out",
	string(table.ShortRow):        "export it again, or complete the rows; a cell may be empty but must be there",
	string(table.LongRow):         "export it again; a delimiter inside a text needs quotes round the text",
	string(compare.NoKeyColumn):   "name the key with --key as it stands in the heading, and leave the key column in the copy",
	string(compare.NoCommon):      "check that both files have their headings, and that the second is the edited copy of the first",
	string(compare.NotACopy):      "check that the files belong together; where the copy is a part of the snapshot on purpose: --missing keep; --other-register compares them all the same",
	string(shape.NoOld):           "give the column that heading, or say in the layout (shape: long: old:) which it is",
	string(compare.KeysOnly):      "records that are to be deleted: paletwin compare SNAPSHOT --delete-list FILE; the only ones that are to stay: --with keep-list=FILE; records that are to be changed: paletwin derive SNAPSHOT --records FILE --set …; --other-register compares it all the same",
	string(compare.LongTable):     "say so in the layout, with the two columns' headings (shape: {long: {field: …, value: …}}), or make a table of it with a row for each record; --other-register compares it all the same",
	string(compare.OtherTable):    "name the edited copy itself; values from another table are taken over by paletwin derive SNAPSHOT --set-from FILE; --other-register compares them all the same",
	string(compare.KeyBlank):      "every record of a snapshot needs a key; export it again with the key column filled",
	string(compare.KeyRepeat):     "a key must be on one row only; name further key fields with --key a,b if records need them",
	run.IsInput:                   "name the register itself with --to; if this file is the register, say --other-target",
	run.Closed:                    "nothing was written",
	run.SecondLook:                "the other person runs paletwin approve, or returns a review sheet; nothing was written",
	run.OtherTarget:               "name that one, or say --other-target if another is meant",
	run.UnknownKeys:               "check that this is the right target; --other-target goes on all the same",
	run.MissingColumn:             "name the target that has the snapshot's columns",
	run.TwiceThere:                "mend the target first: which of the records is meant cannot be told",
	run.NoRoom:                    "make room on that disk and run the same command again",
	run.NothingDone:               "paletwin history shows what was done",
	run.NoTarget:                  "name the target with --to",
	run.UnfinishedThere:           "leave --to out: apply goes on where the run was interrupted",
	run.Unfinished:                "run apply without --rehearse; it finishes the run first",
	"damaged":                     "nothing was written; restore the file from your own backup, or compare again to make a new dossier",
}
