package open

import (
	"context"
	"encoding/csv"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/table"
	ours "paletwin/core/table/csv"
)

// soffice returns LibreOffice, or skips the test; where tools are required it
// fails instead.
func soffice(t *testing.T) string {
	p, err := exec.LookPath("soffice")
	if err != nil {
		if os.Getenv("PALETWIN_TEST_TOOLS") == "required" {
			t.Fatal("soffice is required and not there: apt-get install libreoffice-calc")
		}
		t.Skip("soffice is not there")
	}
	return p
}

// The demo's snapshot, taken by LibreOffice as text and saved in its formats,
// reads back cell for cell.
func TestLibreOfficeFilesReadExactly(t *testing.T) {
	office, dir := soffice(t), t.TempDir()
	f, err := os.Open("../../../internal/demo/data/aids.csv")
	require.NoError(t, err)
	want, err := csv.NewReader(f).ReadAll()
	require.NoError(t, err)
	require.NoError(t, f.Close())
	var quoted []byte
	for _, row := range want {
		for i, c := range row {
			if i > 0 {
				quoted = append(quoted, ',')
			}
			quoted = ours.AppendCell(quoted, c, ',', true)
		}
		quoted = append(quoted, '\n')
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "aids.csv"), quoted, 0o600))
	for _, format := range []string{"xlsx", "ods"} {
		t.Run(format, func(t *testing.T) {
			ctx, stop := context.WithTimeout(context.Background(), 3*time.Minute)
			defer stop()
			// Token 7: quoted fields are text; 1033: en-US.
			cmd := exec.CommandContext(ctx, office, "-env:UserInstallation=file://"+dir+"/profile", "--headless",
				"--infilter=CSV:44,34,UTF8,1,,1033,true,false", "--convert-to", format, "--outdir", dir, filepath.Join(dir, "aids.csv"))
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
			data, err := os.ReadFile(filepath.Join(dir, "aids."+format))
			require.NoError(t, err)
			m, err := Open("aids."+format, data, table.Options{})
			require.NoError(t, err)
			assert.Equal(t, want[0], m.Heading)
			s := ours.Body(m)
			for n, row := range want[1:] {
				ok, err := s.Next()
				require.True(t, ok && err == nil)
				require.Equal(t, n+2, s.Row)
				var got []string
				for _, c := range ours.Split(nil, s.Raw(), m.Comma) {
					got = append(got, string(ours.Unquote(c)))
				}
				require.Equal(t, row, got, "row %d", n+2)
			}
			ok, err := s.Next()
			assert.False(t, ok || err != nil, "nothing follows")
		})
	}
}

func TestWhatIsNoTable(t *testing.T) {
	for name, c := range map[string]struct {
		data string
		code table.Code
	}{
		"old workbook": {"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", table.Binary},
		"cut archive":  {"PK\x03\x04...", table.Broken},
		"empty":        {"", table.Empty},
		"empty array":  {"[]", table.Empty},
		"text in JSON": {`[{"k":1},`, table.Broken},
	} {
		_, err := Open("x", []byte(c.data), table.Options{})
		var e *table.Error
		require.ErrorAs(t, err, &e, name)
		assert.Equal(t, c.code, e.Code, name)
	}
}
