package demo

import (
	"io/fs"
	"os"
	"path/filepath"

	"github.com/xuri/excelize/v2"
)

// ServiceDir is the folder whose tables the service's story has a stand-in serve.
const ServiceDir = "service"

// ServiceMoods are what the stand-in does in the service's story: it is busy for a moment, and one aid is in use.
var ServiceMoods = []string{"busy,method=POST,after=3,times=1,wait=1", "refuses,field=depot,key=00381,says=aid 00381 is part of an open work order; close it first"}

// WriteService writes the folder.
func WriteService(dir string) error {
	to := filepath.Join(dir, ServiceDir)
	files, err := fs.Sub(data, "data")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(to, "layouts"), 0o755); err != nil {
		return err
	}
	for _, name := range []string{"aids", "depots", "staff", "visits"} {
		for _, file := range []string{name + ".csv", "layouts/" + name + ".yaml"} {
			b, err := fs.ReadFile(files, file)
			if err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(to, filepath.FromSlash(file)), b, 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

// editLent edits the copy that was lent: all its buoys go to D07.
func editLent(dir string) error {
	x, err := excelize.OpenFile(filepath.Join(dir, "edit.xlsx"))
	if err != nil {
		return err
	}
	defer x.Close()
	sheet := x.GetSheetName(0)
	rows, err := x.GetRows(sheet)
	if err != nil {
		return err
	}
	for n, row := range rows {
		for col, v := range row {
			if v != "D03" {
				continue
			}
			cell, err := excelize.CoordinatesToCellName(col+1, n+1)
			if err != nil {
				return err
			}
			if err := x.SetCellStr(sheet, cell, "D07"); err != nil {
				return err
			}
		}
	}
	return x.Save()
}

// ServiceStory is an update of the register behind a service, at an address that ends with a slash.
func ServiceStory(root string) []Step {
	aids := root + "aids"
	return []Step{
		{Say: "The register answers behind a web service now. First a snapshot: all its pages, every value as the service writes it.",
			Args: []string{"take", aids, "-o", "october.csv"}},
		{Say: "A copy to edit, of the buoys that depot D03 keeps.",
			Args: []string{"lend", "october.csv", "--record-set", "aids", "--where", `depot == "D03" && kind == "buoy"`, "-o", "edit.xlsx"}},
		{Say: "The colleague who got it sends them to depot D07. What will change?",
			Do: editLent, Args: []string{"compare", "october.csv", "edit.xlsx", "--record-set", "aids", "--title", "Buoys to D07"}},
		{Args: []string{"show", "0001"}},
		{Args: []string{"approve", "0001", "--all", "--note", "as agreed with both depots"}},
		{Say: "A rehearsal reads and checks everything, and sends nothing that writes.",
			Args: []string{"apply", "0001", "--to", aids, "--rehearse"}},
		{Say: "A trial on the first three.",
			Args: []string{"apply", "0001", "--to", aids, "--first", "3", "--yes"}},
		{Say: "Then the rest. The service is busy for a moment, which is waited for; and one aid it refuses, in its own words.",
			Args: []string{"apply", "0001", "--yes"}, Exit: 4},
		{Say: "The proof reads the service again, any time later.",
			Args: []string{"verify", "0001"}},
		{Say: "One buoy stays with its old depot after all: that one alone is put back.",
			Args: []string{"rollback", "0001", "--record", "00389", "--apply", "--yes"}},
		{Say: "What was done, by whom, when.",
			Args: []string{"history"}},
	}
}
