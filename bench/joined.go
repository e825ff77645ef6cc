package main

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
)

// joined measures the compare of a joined sheet with three record sets, against that of the same rows as
// one set: a visit a row, ten of each aid, 150 aids of each depot, sorted by due date, so that an aid's rows
// lie far from each other. One visit in a hundred is amended, and one depot in all of its rows.
func (b *bench) joined() {
	dir := b.path("joined", fmt.Sprint(b.records))
	if _, err := os.Stat(filepath.Join(dir, "sheet.csv")); err != nil {
		must(os.MkdirAll(dir, 0o755))
		joinedData(dir, b.records)
	}
	at := func(name string) string { return filepath.Join(dir, name) }
	b.pair("compare of a joined sheet with three record sets, against its rows as one set", b.records, b.clean,
		b.paletwin("compare", "--joined", at("round.yaml"), "--snapshot", "visits="+at("visits.csv"), "--snapshot", "aids="+at("aids.csv"), "--snapshot", "depots="+at("depots.csv"), at("sheet.csv")),
		b.paletwin("compare", at("flat.csv"), at("sheet.csv"), "--key", "aid_no,due"))
	b.clean()
}

const joinedLayout = `record_set: round
list: visits
joins:
  visits: {key: [aid_no, due], columns: {aid_no: aid_no, due: due, crew: crew, remark: remark}}
  aids: {key: aid_no, columns: {aid_no: aid_no, name: name, depot: depot, state: state, fee: fee}}
  depots: {key: code, columns: {depot: code, phone: phone, street: street}}
`

func joinedData(dir string, rows int) {
	files := map[string]*bufio.Writer{}
	for _, name := range []string{"visits.csv", "aids.csv", "depots.csv", "flat.csv", "sheet.csv", "round.yaml"} {
		f, err := os.Create(filepath.Join(dir, name))
		must(err)
		files[name] = bufio.NewWriter(f)
		defer func() { must(files[name].Flush()); must(f.Close()) }()
	}
	write := func(name, format string, args ...any) {
		_, err := fmt.Fprintf(files[name], format, args...)
		must(err)
	}
	aids := max(1, rows/10)
	depots := max(1, aids/150)
	write("round.yaml", "%s", joinedLayout)
	write("visits.csv", "aid_no,due,crew,remark\n")
	write("aids.csv", "aid_no,name,depot,state,fee\n")
	write("depots.csv", "code,phone,street\n")
	for _, name := range []string{"flat.csv", "sheet.csv"} {
		write(name, "aid_no,due,crew,remark,name,depot,state,fee,phone,street\n")
	}
	for d := range depots {
		write("depots.csv", "D%03d,021 %04d 10,Quay %d\n", d, d, d)
	}
	for a := range aids {
		write("aids.csv", "%06d,Buoy %d,D%03d,lit,%d.5\n", a, a, a*7919%depots, a%90)
	}
	for i := range rows {
		a := i % aids
		d := a * 7919 % depots
		due, crew, phone := fmt.Sprintf("20%02d-03-01", 30+i/aids), string(rune('A'+i%3)), fmt.Sprintf("021 %04d 10", d)
		line := func(name, crew, phone string) {
			write(name, "%06d,%s,%s,remark %d,Buoy %d,D%03d,lit,%d.5,%s,Quay %d\n", a, due, crew, i, a, d, a%90, phone, d)
		}
		write("visits.csv", "%06d,%s,%s,remark %d\n", a, due, crew, i)
		line("flat.csv", crew, phone)
		if i%100 == 0 {
			crew = "Z"
		}
		if d == 1%depots {
			phone = "021 9999 10"
		}
		line("sheet.csv", crew, phone)
	}
}
