// Command changes reads a change set as every command does, its seal checked,
// and nothing else: the floor for commands that work on one. With -decode, and
// the file of decisions, it also decodes every change with the decisions on it; with -table it reads a table
// instead, whatever format it is in.
//
//	changes [-decode] CHANGES [DECISIONS]
//	changes -table FILE
package main

import (
	"flag"
	"fmt"
	"log"
	"os"

	"paletwin/core/changeset"
	"paletwin/core/table"
	"paletwin/core/table/open"
	"paletwin/internal/disk"
)

func main() {
	decode := flag.Bool("decode", false, "decode every change, with the decisions on it")
	isTable := flag.Bool("table", false, "read a table")
	flag.Parse()
	m, err := disk.OS{}.Map(flag.Arg(0))
	if err != nil {
		log.Fatal(err)
	}
	defer m.Close()
	if *isTable {
		img, err := open.Open(flag.Arg(0), m.Data, table.Options{})
		if err != nil {
			log.Fatal(err)
		}
		fmt.Println(len(img.Data))
		return
	}
	r, err := changeset.Parse(m.Data)
	if err != nil {
		log.Fatal(err)
	}
	units := 0
	if *decode {
		if units, err = decodeAll(r, flag.Arg(1)); err != nil {
			log.Fatal(err)
		}
	}
	fmt.Println(r.Seal.Changes(), units)
}

func decodeAll(r *changeset.Reader, decisions string) (units int, err error) {
	b, err := os.ReadFile(decisions)
	if err != nil {
		return 0, err
	}
	ledger, err := changeset.OpenLedger(b, r.Header.RecordSet, "")
	if err != nil {
		return 0, err
	}
	for line := range r.Lines() {
		c, err := line.Change(r.Header.Fields)
		if err != nil {
			return 0, err
		}
		units += len(ledger.States(line, c))
	}
	return units, nil
}
