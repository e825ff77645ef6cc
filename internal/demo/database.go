package demo

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"

	"paletwin/core/table/csv"
	"paletwin/internal/target/sqldb/lite"
)

// DatabaseFile is the register of the database's story, with the tables aids and visits.
const DatabaseFile = "register.db"

// numbers are the columns that the register keeps as numbers.
var numbers = map[string]bool{"latitude": true, "longitude": true, "range_nm": true, "planned_hours": true, "audited_hours": true}

// WriteDatabase writes the register as a database into a folder: visits refer to their
// aids, and go with them.
func WriteDatabase(dir string) error {
	path := filepath.Join(dir, DatabaseFile)
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		return err
	}
	db, err := lite.Open(path, 0)
	if err != nil {
		return err
	}
	defer db.Close()
	for _, sql := range []string{"PRAGMA foreign_keys = ON", "BEGIN"} {
		if _, err := db.Exec(context.Background(), sql); err != nil {
			return err
		}
	}
	for _, t := range []struct{ name, ends string }{
		{"aids", "PRIMARY KEY (aid_no)"},
		{"visits", "PRIMARY KEY (aid_no, due), FOREIGN KEY (aid_no) REFERENCES aids (aid_no) ON DELETE CASCADE ON UPDATE CASCADE"},
	} {
		if err := load(db, t.name, t.ends); err != nil {
			return err
		}
	}
	_, err = db.Exec(context.Background(), "COMMIT")
	return err
}

func load(db *lite.DB, name, ends string) error {
	b, err := data.ReadFile("data/" + name + ".csv")
	if err != nil {
		return err
	}
	m, err := csv.Open(name+".csv", bytes.Clone(b))
	if err != nil {
		return err
	}
	var columns []string
	for _, h := range m.Heading {
		typ := " TEXT"
		if numbers[h] {
			typ = " NUMERIC"
		}
		columns = append(columns, h+typ+map[bool]string{true: " NOT NULL"}[strings.Contains(ends, "("+h) || strings.Contains(ends, h+")")])
	}
	if _, err := db.Exec(context.Background(), "CREATE TABLE "+name+" ("+strings.Join(append(columns, ends), ", ")+")"); err != nil {
		return err
	}
	insert := "INSERT INTO " + name + " VALUES (?" + strings.Repeat(", ?", len(columns)-1) + ")"
	return csv.Each(context.Background(), m, func(r *csv.Line) error {
		values := make([]lite.Value, len(columns))
		for i := range values {
			if text := r.Text(i); text != "" {
				values[i] = lite.Value{Class: lite.Text, Bytes: []byte(text)}
			}
		}
		_, err := db.Exec(context.Background(), insert, values...)
		return err
	})
}

// colleague changes an aid behind everybody's back.
func colleague(dir string) error {
	db, err := lite.Open(filepath.Join(dir, DatabaseFile), 1000)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec(context.Background(), "UPDATE aids SET service_fee = '270.00' WHERE aid_no = '00131'")
	return err
}

// DatabaseStory is an update of the register in its database.
func DatabaseStory() []Step {
	const aids = "sqlite:" + DatabaseFile + "#aids"
	return []Step{
		{Say: "The register is in a database now. First a snapshot: one state of it, every value as the database writes it.",
			Args: []string{"take", aids, "-o", "october.csv"}},
		{Say: "The tariff of the outer zone goes up by four hundredths. That needs no spreadsheet.",
			Args: []string{"derive", "october.csv", "--record-set", "aids", "--where", `zone == "outer"`, "--set", "service_fee = round(service_fee * 1.04, 2)", "--title", "Outer fees"}},
		{Args: []string{"show", "0001", "--limit", "6"}},
		{Say: "A look at the numbers, and it is decided.",
			Args: []string{"approve", "0001", "--all", "--note", "tariff of 1 October"}},
		{Say: "A trial on the first three, against the database itself.",
			Args: []string{"apply", "0001", "--to", aids, "--first", "3", "--yes"}},
		{Say: "Then the rest. Meanwhile a colleague changed the fee of one of the aids: it is left alone.",
			Do: colleague, Args: []string{"apply", "0001", "--yes"}, Exit: 3},
		{Say: "The proof reads the database again, any time later.",
			Args: []string{"verify", "0001"}},
		{Say: "An aid was struck off. Others refer to it: its visits would go with it, and that is not done by the way.",
			Args: []string{"derive", "sqlite:" + DatabaseFile + "#aids", "--record-set", "aids", "--delete", "--record", "00102", "--title", "Struck off"}},
		{Args: []string{"approve", "0002", "--all", "--held"}},
		{Args: []string{"apply", "0002", "--to", aids, "--yes"}, Exit: 4},
		{Say: "It was meant. What goes along is kept, whole, and a rollback brings it all back.",
			Args: []string{"apply", "0002", "--with", "cascade", "--yes"}},
		{Args: []string{"rollback", "0002", "--apply", "--yes"}},
		{Say: "What was done, by whom, when.",
			Args: []string{"history"}},
	}
}
