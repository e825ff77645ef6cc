// Package officetest has LibreOffice save files, for tests that need to know
// what it really does.
package officetest

import (
	"context"
	_ "embed"
	"encoding/xml"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Languages are the numbers by which import filters know locales.
var Languages = map[string]string{"en-US": "1033", "en-GB": "2057", "de-DE": "1031", "fr-FR": "1036"}

// Shown is the filter that saves CSV in UTF-8 as cells are shown.
const Shown = "csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,true"

// Import is the filter that reads CSV in UTF-8 under a locale.
func Import(locale string, quotedIsText, special bool) string {
	word := map[bool]string{true: "true", false: "false"}
	return "CSV:44,34,UTF8,1,," + Languages[locale] + "," + word[quotedIsText] + "," + word[special]
}

// Need is Tool for LibreOffice.
func Need(t *testing.T) { Tool(t, "soffice", "libreoffice-calc") }

// Tool skips the test where a program is not there or PALETWIN_TEST_TOOLS is none,
// and fails it where that is required; pkg is Debian's package that has it. It
// returns the program's path.
func Tool(t *testing.T, program, pkg string) string {
	wanted := os.Getenv("PALETWIN_TEST_TOOLS")
	if wanted == "none" {
		t.Skip("no tools are to be used")
	}
	path, err := exec.LookPath(program)
	switch {
	case err == nil:
	case wanted == "required":
		t.Fatalf("%s is required and not there: apt-get install %s", program, pkg)
	default:
		t.Skipf("%s is not there", program)
	}
	return path
}

// Convert has LibreOffice, set to a locale, read a file by a filter ("" for its
// own choice) and save it in a format, a filter or an ending alone. It returns
// the new file.
func Convert(t *testing.T, file, locale, in, format string) string {
	dir := t.TempDir()
	profile := `<?xml version="1.0" encoding="UTF-8"?><oor:items xmlns:oor="http://openoffice.org/2001/registry"><item oor:path="/org.openoffice.Setup/L10N">` +
		`<prop oor:name="ooSetupSystemLocale" oor:op="fuse"><value>` + locale + `</value></prop></item></oor:items>`
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "profile/user"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "profile/user/registrymodifications.xcu"), []byte(profile), 0o600))
	args := []string{"-env:UserInstallation=file://" + dir + "/profile", "--headless", "--convert-to", format, "--outdir", filepath.Join(dir, "out")}
	if in != "" {
		args = append(args, "--infilter="+in)
	}
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Minute)
	defer stop()
	said, err := exec.CommandContext(ctx, "soffice", append(args, file)...).CombinedOutput()
	require.NoError(t, err, "%s", said)
	ext, _, _ := strings.Cut(format, ":")
	base := filepath.Base(file)
	return filepath.Join(dir, "out", strings.TrimSuffix(base, filepath.Ext(base))+"."+ext)
}

//go:embed rows.bas
var rowsBas string

// Rows has LibreOffice do what rows.bas says of a list of jobs.
func Rows(t *testing.T, jobs string) {
	dir := t.TempDir()
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Minute)
	defer stop()
	profile := "-env:UserInstallation=file://" + dir + "/profile"
	// A profile is made once, over whatever stands there.
	said, err := exec.CommandContext(ctx, "soffice", profile, "--headless", "--terminate_after_init").CombinedOutput()
	require.NoError(t, err, "%s", said)
	library := filepath.Join(dir, "profile/user/basic/Standard")
	require.NoError(t, os.MkdirAll(library, 0o755))
	var escaped strings.Builder
	require.NoError(t, xml.EscapeText(&escaped, []byte(rowsBas)))
	for name, text := range map[string]string{
		"Rows.xba": `<script:module xmlns:script="http://openoffice.org/2000/script" script:name="Rows" script:language="StarBasic">` + escaped.String() + `</script:module>`,
		"script.xlb": `<library:library xmlns:library="http://openoffice.org/2000/library" library:name="Standard" library:readonly="false" library:passwordprotected="false">` +
			`<library:element library:name="Rows"/></library:library>`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(library, name), []byte(`<?xml version="1.0" encoding="UTF-8"?>`+text), 0o600))
	}
	list := filepath.Join(dir, "jobs.txt")
	require.NoError(t, os.WriteFile(list, []byte(jobs), 0o600))
	said, err = exec.CommandContext(ctx, "soffice", profile, "--headless", "--norestore", `macro:///Standard.Rows.Jobs("`+list+`")`).CombinedOutput()
	require.NoError(t, err, "%s", said)
	failed, _ := os.ReadFile(list + ".failed")
	require.Empty(t, string(failed))
}

// ConvertAll is Convert of several files at once, into a folder.
func ConvertAll(t *testing.T, format, dir string, files ...string) {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Minute)
	defer stop()
	args := []string{"-env:UserInstallation=file://" + t.TempDir() + "/profile", "--headless", "--convert-to", format, "--outdir", dir}
	said, err := exec.CommandContext(ctx, "soffice", append(args, files...)...).CombinedOutput()
	require.NoError(t, err, "%s", said)
}

var gonePart = regexp.MustCompile(`(?i)(\$?('[^;()]*'|[A-Za-z0-9]+)[.!])?[$A-Z]*#REF!(:[$A-Z]*#REF!)?`)

// Seen are the lines that rows.bas writes, sorted. What is gone has several forms in LibreOffice, which differ in their values: both are made alike.
func Seen(t *testing.T, file string) []string {
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	for i, line := range lines {
		line = gonePart.ReplaceAllString(line, "#REF!")
		if formula, _, ok := strings.Cut(line, " -> "); ok && strings.Contains(formula, " =") {
			line = formula
		}
		lines[i] = line
	}
	slices.Sort(lines)
	return lines
}
