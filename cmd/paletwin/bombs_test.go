//go:build linux

package main

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// most is how much memory a file may cost that is no table, or hardly one, in KiB.
const most = 512 << 10

// costs runs the program and returns its output, code and peak of memory in KiB. It has a minute, which is many times what it needs.
func costs(t *testing.T, dir string, args ...string) (out string, code int, peak int64) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = dir
	b, err := cmd.CombinedOutput()
	require.NoError(t, ctx.Err(), "%s takes more than a minute", strings.Join(args, " "))
	if err != nil {
		require.IsType(t, &exec.ExitError{}, err)
	}
	return string(b), cmd.ProcessState.ExitCode(), cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss
}

// archive writes a zip archive of parts, each given in pieces.
func archive(t *testing.T, file string, parts map[string]func(w io.Writer)) {
	t.Helper()
	f, err := os.Create(file)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	for name, write := range parts {
		w, err := z.Create(name)
		require.NoError(t, err)
		write(w)
	}
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())
}

func says(text string) func(io.Writer) {
	return func(w io.Writer) { _, _ = io.WriteString(w, text) }
}

// workbook is a workbook of one sheet, with its shared texts.
func workbook(t *testing.T, file, texts string, sheet func(w io.Writer)) {
	const pkg, doc = "http://schemas.openxmlformats.org/package/2006/", "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	archive(t, file, map[string]func(io.Writer){
		"_rels/.rels":                says(`<Relationships xmlns="` + pkg + `relationships"><Relationship Id="r" Type="` + doc + `/officeDocument" Target="xl/workbook.xml"/></Relationships>`),
		"xl/workbook.xml":            says(`<workbook xmlns:r="` + doc + `"><sheets><sheet name="S" sheetId="1" r:id="r"/></sheets></workbook>`),
		"xl/_rels/workbook.xml.rels": says(`<Relationships xmlns="` + pkg + `relationships"><Relationship Id="r" Type="` + doc + `/worksheet" Target="worksheets/sheet1.xml"/></Relationships>`),
		"xl/sharedStrings.xml":       says("<sst>" + texts + "</sst>"),
		"xl/worksheets/sheet1.xml":   func(w io.Writer) { says("<worksheet><sheetData>")(w); sheet(w); says("</sheetData></worksheet>")(w) },
	})
}

// spreadsheet is an OpenDocument spreadsheet of one sheet.
func spreadsheet(t *testing.T, file, rows string) {
	archive(t, file, map[string]func(io.Writer){"content.xml": says(`<office:document-content xmlns:office="o" xmlns:table="t" xmlns:text="x"><office:body><office:spreadsheet><table:table table:name="S">` +
		`<table:table-row><table:table-cell office:value-type="string"><text:p>k</text:p></table:table-cell></table:table-row>` + rows + `</table:table></office:spreadsheet></office:body></office:document-content>`)})
}

// TestNothingEatsTheMachine: small files that would unfold to more than any memory, and tables of more columns than any program shows, are
// refused or read, within half a gigabyte.
func TestNothingEatsTheMachine(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	key := `<row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c><c r="B1" t="inlineStr"><is><t>v</t></is></c></row>`
	workbook(t, at("shared.xlsx"), "<si><t>"+strings.Repeat("x", 30_000)+"</t></si>", func(w io.Writer) {
		says(key)(w)
		for i := range 1_000_000 {
			fmt.Fprintf(w, `<row><c><v>%d</v></c><c t="s"><v>0</v></c></row>`, i)
		}
	})
	workbook(t, at("cells.xlsx"), "", func(w io.Writer) {
		says(key)(w)
		row := "<row>" + strings.Repeat("<c/>", 16_384) + "</row>"
		for range 30_000 { // half a billion cells
			says(row)(w)
		}
	})
	workbook(t, at("far.xlsx"), "", func(w io.Writer) {
		says(key)(w)
		for i := range 100_000 {
			fmt.Fprintf(w, `<row r="%[1]d"><c r="A%[1]d"><v>1</v></c><c r="XFD%[1]d"><v>1</v></c></row>`, i+2)
		}
	})
	workbook(t, at("runs.xlsx"), "<si>"+strings.Repeat("<r><t>"+strings.Repeat("x", 500_000)+"</t></r>", 10)+"</si>", says(key))
	cell := func(repeats, text string) string {
		return `<table:table-cell office:value-type="string" ` + repeats + `><text:p>` + text + `</text:p></table:table-cell>`
	}
	spreadsheet(t, at("columns.ods"), `<table:table-row table:number-rows-repeated="1000000">`+cell(`table:number-columns-repeated="2000000000"`, "k")+"</table:table-row>")
	spreadsheet(t, at("rows.ods"), `<table:table-row table:number-rows-repeated="2000000000">`+cell("", strings.Repeat("y", 100_000))+"</table:table-row>")
	spreadsheet(t, at("spaces.ods"), `<table:table-row>`+cell("", `k<text:s text:c="2000000000"/>`)+"</table:table-row>")
	spreadsheet(t, at("lines.ods"), `<table:table-row>`+cell("", strings.Repeat("x", 500_000))+`<table:table-cell>`+strings.Repeat("<text:p>"+strings.Repeat("z", 500_000)+"</text:p>", 4)+`</table:table-cell></table:table-row>`)
	var sparse strings.Builder
	for i := range 30_000 {
		fmt.Fprintf(&sparse, "{\"k\":%d,\"f%d\":1}\n", i, i)
	}
	require.NoError(t, os.WriteFile(at("sparse.jsonl"), []byte(sparse.String()), 0o600))
	for _, name := range []string{"shared.xlsx", "cells.xlsx", "far.xlsx", "runs.xlsx", "columns.ods", "rows.ods", "spaces.ods", "lines.ods", "sparse.jsonl"} {
		out, code, peak := costs(t, dir, "compare", name, name)
		t.Logf("%s: %d MiB, %d: %s", name, peak>>10, code, out)
		assert.Equal(t, 3, code, name)
		assert.Regexp(t, `unpacks to more|what repeats|longer than a spreadsheet's can be|cell beyond|heading`, out, name)
		assert.Less(t, peak, int64(most), name)
	}
	var wide [2]strings.Builder
	for n := range wide {
		wide[n].WriteString("k")
		for c := range 20_000 {
			fmt.Fprintf(&wide[n], ",c%d", c)
		}
		for r := range 20 {
			fmt.Fprintf(&wide[n], "\n%d", r)
			for c := range 20_000 {
				fmt.Fprintf(&wide[n], ",%d", (c*7+r)%1000+n*(r*c)%2)
			}
		}
		require.NoError(t, os.WriteFile(at(fmt.Sprintf("wide%d.csv", n)), []byte(wide[n].String()), 0o600))
	}
	out, code, peak := costs(t, dir, "compare", "wide0.csv", "wide1.csv", "--key", "k", "--json")
	t.Logf("20,000 columns: %d MiB", peak>>10)
	assert.Zero(t, code, out)
	assert.Less(t, peak, int64(most), "every column edited")
	out, code, peak = costs(t, dir, "compare", "wide0.csv", "wide0.csv", "--key", "k", "--json")
	t.Logf("20,000 columns, nothing edited: %d MiB", peak>>10)
	assert.Zero(t, code, out)
	assert.Less(t, peak, int64(most))
}

// TestWhatIsNoFile: pipes, devices, sockets and folders are refused wherever a file is named, and nothing waits for them.
func TestWhatIsNoFile(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"aids.csv": "aid_no,fee\n1,2\n2,3\n", "edited.csv": "aid_no,fee\n1,5\n2,3\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	out, code, _ := costs(t, dir, "compare", "aids.csv", "edited.csv", "--key", "aid_no")
	require.Zero(t, code, out)
	out, code, _ = costs(t, dir, "approve", "-", "--all")
	require.Zero(t, code, out)
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	l, err := net.Listen("unix", filepath.Join(dir, "socket"))
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o700))
	for _, odd := range []string{"pipe", "/dev/zero", "socket", "folder"} {
		for _, args := range [][]string{
			{"compare", odd, "edited.csv"}, {"compare", "aids.csv", odd}, {"compare", "aids.csv", "edited.csv", "--delete-list", odd}, {"compare", "aids.csv", "--keep-list", odd},
			{"compare", "aids.csv", "edited.csv", "--layout", odd}, {"lend", odd}, {"layout", "draft", odd}, {"layout", "test", "aids.csv", "--layout", odd},
			{"derive", odd, "--set", "fee=1", "--key", "aid_no"}, {"derive", "aids.csv", "--set", "fee=1", "--key", "aid_no", "--records", odd}, {"derive", "aids.csv", "--key", "aid_no", "--set-from", odd},
			{"derive", "aids.csv", "--key", "aid_no", "--add", odd}, {"approve", "0001", "--records", odd}, {"show", "0001", "--records", odd}, {"review", "collect", "0001", odd},
			{"apply", "0001", "--to", odd, "--yes"}, {"verify", "0001", odd}, {"handoff", "0001", "--current", odd}, {"handoff", "collect", "0001", odd}, {"take", odd},
		} {
			out, code, peak := costs(t, dir, args...)
			line := strings.Join(args, " ") + ": " + out
			assert.NotZero(t, code, line)
			assert.NotContains(t, out, "fault of the program", line)
			assert.Less(t, peak, int64(most), line)
		}
	}
	for _, folder := range []string{"layouts/aids.yaml", "desk.yaml", "layouts/list.csv"} {
		own := t.TempDir()
		for _, name := range []string{"aids.csv", "edited.csv"} {
			b, err := os.ReadFile(filepath.Join(dir, name))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(own, name), b, 0o600))
		}
		require.NoError(t, os.MkdirAll(filepath.Join(own, "layouts"), 0o700))
		if folder == "layouts/list.csv" {
			require.NoError(t, os.WriteFile(filepath.Join(own, "layouts/aids.yaml"), []byte("record_set: aids\nkey: [aid_no]\nfields:\n  fee: {kind: reference, to: {list: list.csv, by: k}}\n"), 0o600))
		}
		require.NoError(t, syscall.Mkfifo(filepath.Join(own, folder), 0o600))
		out, code, _ := costs(t, own, "compare", "aids.csv", "edited.csv", "--key", "aid_no")
		assert.NotZero(t, code, "%s: %s", folder, out)
	}
}
