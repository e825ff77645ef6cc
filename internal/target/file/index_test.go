package file

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

func init() { linesAtOnce = 3 } // so that rows are found by an index, too

// By its index a file gives what going through it gives, to the letter: values, how rows stand, and how often.
func TestRowsByIndexAreTheRowsThatStandThere(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		jsonl := rapid.Bool().Draw(r, "JSON Lines")
		newline := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(r, "newline")
		ends := rapid.OneOf(rapid.Just(newline), rapid.Just(newline), rapid.SampledFrom([]string{"\n", "\r\n", newline + newline}))
		keys := rapid.SliceOfN(rapid.SampledFrom([]string{"1", "2", "3", "44", "a b", "é", "007", " 5"}), 3, 12).Draw(r, "keys")
		var b strings.Builder
		name := "register.csv"
		if !jsonl {
			b.WriteString("k,v" + newline + strings.Repeat(newline, rapid.IntRange(0, 2).Draw(r, "blank rows")))
		} else {
			name = "register.jsonl"
		}
		for i, k := range keys {
			v := rapid.SampledFrom([]string{"", "x", "y z", "ü"}).Draw(r, "v")
			switch {
			case jsonl:
				b.WriteString(`{"k":"` + k + `","v":"` + v + `"}`)
			case rapid.Bool().Draw(r, "quoted"):
				b.WriteString(`"` + k + `","` + v + "\n" + v + `"`)
			default:
				b.WriteString(k + "," + v)
			}
			if i < len(keys)-1 || rapid.Bool().Draw(r, "ended") {
				b.WriteString(ends.Draw(r, "end"))
			}
		}
		dir, err := os.MkdirTemp("", "index")
		require.NoError(r, err)
		defer os.RemoveAll(dir)
		path := filepath.Join(dir, name)
		require.NoError(r, os.WriteFile(path, []byte(b.String()), 0o600))
		f, err := Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
		require.NoError(r, err, b.String())
		defer f.Close()
		l := f.form.(*lines)

		asked := []record.Key{record.NewKey("none"), record.NewKey("")}
		for _, k := range []string{"1", "2", "3", "44", "a b", "é", "007", " 5"} {
			asked = append(asked, record.NewKey(k))
		}
		byIndex, err := f.Current(context.Background(), asked)
		require.NoError(r, err)
		require.NotNil(r, l.index)
		l.index = nil
		var byPass []target.State
		for _, k := range asked {
			one, err := f.Current(context.Background(), []record.Key{k})
			require.NoError(r, err)
			byPass = append(byPass, one...)
		}
		require.Nil(r, l.index)
		require.Equal(r, byPass, byIndex, b.String())
	})
}
