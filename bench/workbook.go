package main

import (
	"archive/zip"
	"bufio"
	"fmt"
	"os"
	"strings"
)

// workbook measures runs on a register that is a workbook of 16 columns, against unzipping and zipping the same bytes.
func (b *bench) workbook() {
	const changed = 1000
	book, register, target := b.path("book.xlsx"), b.path("book.csv"), b.path("book-target.xlsx")
	amended, fewer := b.path("book-amended.csv"), b.path("book-fewer.csv")
	must(os.MkdirAll(b.dir, 0o755))
	row := func(n int) []string {
		cells := []string{fmt.Sprintf("%06d", n), fmt.Sprintf("D%02d", n*7%50), fmt.Sprintf("buoy %d", n*13%5000)}
		for c := len(cells); c < 16; c++ {
			cells = append(cells, fmt.Sprintf("%d.%d", n*c%9000, n%9+1))
		}
		return cells
	}
	heading := []string{"id", "depot", "name"}
	for c := len(heading); c < 16; c++ {
		heading = append(heading, fmt.Sprintf("field_%d", c))
	}
	step := b.records / changed
	b.write(register, func(w *bufio.Writer) {
		fmt.Fprintln(w, strings.Join(heading, ","))
		for n := range b.records {
			fmt.Fprintln(w, strings.Join(row(n), ","))
		}
	})
	b.write(amended, func(w *bufio.Writer) {
		fmt.Fprintln(w, strings.Join(heading, ","))
		for n := range b.records {
			cells := row(n)
			if n%step == 3 {
				cells[2], cells[5] = "Gull Rock "+cells[0], "77.5"
			}
			fmt.Fprintln(w, strings.Join(cells, ","))
		}
	})
	b.write(fewer, func(w *bufio.Writer) {
		fmt.Fprintln(w, strings.Join(heading, ","))
		for n := range b.records {
			if n%step != 3 {
				fmt.Fprintln(w, strings.Join(row(n), ","))
			}
		}
	})
	b.write(book, func(w *bufio.Writer) { writeBook(w, heading, b.records, row) })
	floor := []string{b.bin("stdlib"), "-zip", book}
	for _, of := range [][2]string{{amended, "amends"}, {fewer, "deletes"}} {
		b.pair(fmt.Sprintf("apply of %d %s to a workbook of %d × 16 (backup, write, read back, verify), against unzipping and zipping it", changed, of[1], b.records), b.records, func() {
			b.clean()
			must(os.RemoveAll(target))
			run("cp", book, target)
			run(b.paletwin("compare", register, of[0], "--key", "id", "--allow", "amend,delete", "--missing", "delete", "--with", "slips=off")...)
			run(b.paletwin("approve", "1", "--all", "--held")...)
		}, b.paletwin("apply", "1", "--to", target, "--yes"), floor)
	}
	for _, ext := range []string{"xlsx", "ods"} {
		lent, kept := b.path("lent."+ext), b.path("lent-before."+ext)
		b.clean()
		must(os.RemoveAll(lent))
		lend := b.paletwin("lend", register, "--key", "id", "-o", lent)
		run(lend...)
		b.pair("lend as "+ext+", against unzipping and zipping what it makes", b.records, func() { must(os.Rename(lent, kept)) }, lend, []string{b.bin("stdlib"), "-zip", kept})
		b.pair("compare of what was lent as "+ext+", against reading it", b.records, nil, b.paletwin("compare", register, lent, "--rehearse"), []string{b.bin("changes"), "-table", lent})
		must(os.RemoveAll(lent))
		must(os.RemoveAll(kept))
	}
	b.clean()
	for _, name := range []string{book, register, target, amended, fewer} {
		must(os.RemoveAll(name))
	}
}

// write writes a file.
func (b *bench) write(name string, rows func(w *bufio.Writer)) {
	f, err := os.Create(name)
	must(err)
	w := bufio.NewWriter(f)
	rows(w)
	must(w.Flush())
	must(f.Close())
}

// writeBook writes a workbook as spreadsheet programs do: three columns of shared texts, the others numbers.
func writeBook(w *bufio.Writer, heading []string, records int, row func(n int) []string) {
	z := zip.NewWriter(w)
	part := func(name, text string) {
		f, err := z.Create(name)
		must(err)
		_, err = f.Write([]byte(text))
		must(err)
	}
	part("[Content_Types].xml", `<?xml version="1.0"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="xml" ContentType="application/xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/></Types>`)
	part("_rels/.rels", `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`)
	part("xl/workbook.xml", `<workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Aids" sheetId="1" r:id="rId1"/></sheets></workbook>`)
	part("xl/_rels/workbook.xml.rels", `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="rId2" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/sharedStrings" Target="sharedStrings.xml"/></Relationships>`)
	f, err := z.Create("xl/worksheets/sheet1.xml")
	must(err)
	out := bufio.NewWriter(f)
	numbers := map[string]int{}
	var texts []string
	text := func(s string) int {
		n, ok := numbers[s]
		if !ok {
			n = len(texts)
			numbers[s] = n
			texts = append(texts, s)
		}
		return n
	}
	fmt.Fprint(out, `<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>`)
	for n := -1; n < records; n++ {
		cells := heading
		if n >= 0 {
			cells = row(n)
		}
		fmt.Fprintf(out, `<row r="%d" spans="1:16">`, n+2)
		for c, s := range cells {
			if n < 0 || c < 3 {
				fmt.Fprintf(out, `<c r="%c%d" t="s"><v>%d</v></c>`, 'A'+c, n+2, text(s))
			} else {
				fmt.Fprintf(out, `<c r="%c%d"><v>%s</v></c>`, 'A'+c, n+2, s)
			}
		}
		fmt.Fprint(out, `</row>`)
	}
	fmt.Fprint(out, `</sheetData></worksheet>`)
	must(out.Flush())
	f, err = z.Create("xl/sharedStrings.xml")
	must(err)
	out = bufio.NewWriter(f)
	fmt.Fprintf(out, `<sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" uniqueCount="%d">`, len(texts))
	for _, s := range texts {
		fmt.Fprintf(out, `<si><t>%s</t></si>`, s)
	}
	fmt.Fprint(out, `</sst>`)
	must(out.Flush())
	must(z.Close())
}
