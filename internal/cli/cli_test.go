package cli

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

func TestKeysOnTheCommandLine(t *testing.T) {
	for text, want := range map[string]record.Key{
		"00417": record.NewKey("00417"), "aid_no=00417": record.NewKey("00417"), "a,b=c": record.NewKey("a,b=c"),
	} {
		k, err := parseKey(text, []string{"aid_no"})
		require.NoError(t, err)
		assert.Equal(t, want, k)
	}
	k, err := parseKey("due=2026-03-01,aid_no=00417", []string{"aid_no", "due"})
	require.NoError(t, err)
	assert.Equal(t, record.NewKey("00417", "2026-03-01"), k)
	for _, bad := range []string{"00417", "aid_no=00417", "aid_no=00417,when=x"} {
		_, err := parseKey(bad, []string{"aid_no", "due"})
		var u *usageError
		assert.ErrorAs(t, err, &u, bad)
	}
}

func TestRecordSetsAreNamedByTheirFiles(t *testing.T) {
	for file, want := range map[string]string{"aids.csv": "aids", "export/aids-2026-10-01.csv": "aids", "aids_2.csv": "aids", "2026.csv": "2026", "-": "records", "price list 7.csv": "price list"} {
		assert.Equal(t, want, recordSetName(file), file)
	}
}

func TestSizes(t *testing.T) {
	for text, want := range map[string]int64{"": 0, "512MiB": 512 << 20, "2G": 2 << 30, "64 KB": 64 << 10, "100": 100} {
		n, err := parseSize(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, n, text)
	}
	for _, bad := range []string{"0", "-1", "lots", "1.5G", "9999999999999G"} {
		_, err := parseSize(bad)
		assert.Error(t, err, bad)
	}
}

// Every refusal has a remedy, and no error comes out as a chain of Go's.
func TestErrorsAreWords(t *testing.T) {
	for _, code := range []string{run.IsInput, run.OtherTarget, run.UnknownKeys, run.MissingColumn, run.TwiceThere, run.NoRoom, run.WholeOnly, run.OtherRecords, run.NotKept, run.NothingDone, run.NoTarget, run.Unfinished, run.UnfinishedThere, run.SecondLook, run.Closed} {
		assert.NotEmpty(t, explain(&run.Refusal{Code: code, Text: "x"}).Do, code)
	}
	for _, code := range []table.Code{table.Empty, table.Binary, table.NUL, table.NotUTF8, table.Unclosed, table.StrayQuote, table.TwiceHeading, table.BlankHeading, table.Broken, table.TooLarge, table.NoSheet, table.NoEncoding} {
		assert.NotEmpty(t, explain(&table.Error{Code: code, File: "f"}).Do, code)
	}
	for _, c := range []struct {
		err  error
		code string
		exit int
	}{
		{&fs.PathError{Op: "open", Path: "a.csv", Err: fs.ErrNotExist}, "missing-file", 1},
		{&fs.PathError{Op: "write", Path: "a.csv", Err: syscall.ENOSPC}, "disk-full", 1},
		{errors.Join(context.Canceled, nil), "interrupted", 1},
		{usage("no"), "usage", 2},
	} {
		m := explain(c.err)
		assert.Equal(t, c.code, m.Code)
		assert.Equal(t, c.exit, m.exit)
		assert.NotContains(t, m.Text, "open a.csv:")
		assert.Equal(t, strings.ToLower(m.Text[:1]), m.Text[:1], "messages start with a small letter")
	}
}

// What a run had done when it broke is said, whatever broke it; nothing is called
// unwritten that may have been written.
func TestBrokenRunsAreToldTruly(t *testing.T) {
	full := &fs.PathError{Op: "write", Path: "a.csv", Err: syscall.ENOSPC}
	for _, c := range []struct {
		err  error
		text string
	}{
		{full, "the disk is full; nothing was changed in the target"},
		{&run.Broken{Run: 2, Of: 900, Err: full}, "the disk is full; nothing was written"},
		{&run.Broken{Run: 2, Of: 900, Unknown: 100, Err: full}, "the disk is full; run 2 was writing 100 records, and what became of them is not known yet"},
		{&run.Broken{Run: 2, Done: 200, Of: 900, Err: target.ErrMoved}, "the target changed after it was read; run 2 had written 200 of 900 records"},
		{&run.Broken{Run: 2, Done: 200, Of: 900, Unknown: 100, Err: context.Canceled}, "interrupted; run 2 had written 200 of 900 records, and what became of 100 more is not known yet"},
		{&run.Broken{Run: 2, Done: 900, Of: 900, Written: true, Err: full}, "the disk is full; run 2 had written 900 of 900 records, and what failed came after that"},
		{target.ErrMoved, "the target changed after it was read; nothing was written"},
		{errCutShort, "interrupted in the middle of what was being done"},
	} {
		assert.Equal(t, c.text, explain(c.err).Text)
	}
	assert.Contains(t, explain(&run.Broken{Done: 1, Of: 2, Err: full}).Do, "rollback")
}

func TestStopAfter(t *testing.T) {
	for text, want := range map[string]run.Stop{"": {}, "10": {Refusals: 10}, "5%": {Percent: 5}, "0.5%": {Percent: 0.5}} {
		f := applyFlags{stopAfter: text}
		require.NoError(t, f.check())
		assert.Equal(t, want, f.StopAfter)
	}
	for _, bad := range []string{"0", "-3", "1.5", "200%", "x"} {
		f := applyFlags{stopAfter: bad}
		assert.Error(t, f.check(), bad)
	}
}

func TestRowLists(t *testing.T) {
	assert.Equal(t, "row 4", rowList([]int{4}))
	assert.Equal(t, "rows 4, 9 and 12", rowList([]int{4, 9, 12}))
	many := make([]int, 50)
	assert.Contains(t, rowList(many), "and 30 more")
}

// The exit codes of apply, in their order.
func TestExitCodesOfApply(t *testing.T) {
	whole := &run.Verification{}
	for _, c := range []struct {
		rep   run.Report
		leave bool
		want  int
	}{
		{run.Report{Steps: run.Steps{Done: 1}, Verify: whole}, false, 0},
		{run.Report{Steps: run.Steps{Done: 1, Refused: 1, Conflict: 1}, Verify: whole}, true, 4},
		{run.Report{Steps: run.Steps{Done: 1, Conflict: 1}, Verify: whole}, true, 3},
		{run.Report{Left: run.Left{Open: 1}}, false, 3},
		{run.Report{Left: run.Left{Held: 1}}, true, 0},
		{run.Report{Left: run.Left{Approved: 7}, Verify: whole}, false, 0},
		{run.Report{Partly: 1, Verify: whole}, true, 3},
		{run.Report{Stopped: true, Verify: whole}, true, 3},
		{run.Report{Verify: &run.Verification{Besides: 1}}, true, 3},
	} {
		assert.Equal(t, c.want, applyCode(&c.rep, c.leave), "%+v", c.rep)
	}
}

// There are at most 70 flags, so that a person can know them; the others are settings. None is in two groups of the help, and
// every one of the help's and of the settings' names is one.
func TestFlagsAreFew(t *testing.T) {
	a := &app{stdout: io.Discard, stderr: io.Discard}
	root := newRoot(a)
	all := map[string]bool{}
	take := func(f *pflag.Flag) {
		if f.Name != "help" && f.Name != "version" {
			all[f.Name] = true
		}
	}
	root.PersistentFlags().VisitAll(take)
	paths := map[string]*cobra.Command{}
	var walk func(c *cobra.Command, path string)
	walk = func(c *cobra.Command, path string) {
		paths[path] = c
		if c.Hidden {
			return
		}
		c.LocalFlags().VisitAll(take)
		for _, sub := range c.Commands() {
			walk(sub, strings.TrimSpace(path+" "+sub.Name()))
		}
	}
	walk(root, "")
	assert.LessOrEqual(t, len(all), 70, "%v", slices.Sorted(maps.Keys(all)))
	grouped := map[string]bool{}
	for _, g := range groups {
		for _, name := range g.flags {
			assert.True(t, all[name], name)
			assert.False(t, grouped[name], name)
			grouped[name] = true
		}
	}
	for path, names := range settingsOf {
		for _, name := range names {
			assert.NotNil(t, a.tuned[paths[path]].set.Lookup(name), "%s %s", path, name)
		}
	}
}
