//go:build unix

package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/glyph"
	"paletwin/internal/thorough"
)

// hostile are texts that somebody puts into names and values for what they do on the way: one table for all surfaces.
var hostile = []string{
	"\x1b[2J", "\x1b]0;title\a", "\x1b[31mred\x1b[0m", "\x1b[8mhidden", "\x1bPq#0\x1b\\", "\x1b[?1049h", "\x9b31m", "\u009b2J", "\a\a", "a\x08b", "\x7f", "a\rb", "\v\f", "\x00",
	"zero\u200bwidth", "\u202etxt.exe", "\u2066isolate\u2069", "\ufeffbom", "tag\U000e0041", "filler\u3164", "soft\u00adhyphen", "\u2028line", "vs\ufe01", "\u180e", "\u200e\u200f", "joiner\u200dhere", "x\u0085y", "\xff\xfe", "\xc3(", "\xed\xa0\x80",
	"=1+1", "+cmd|' /C calc'!A0", "@SUM(1)", "＝1+1", "'; DROP TABLE aids; --", "' OR 1=1", "\\'; --", "$(touch x)", "`id`", "| ls", "; ls", "&& ls", "%n%s%x", "%[1]s", "{{.}}", "${x}",
	"<script>alert(1)</script>", "\"><img src=x onerror=alert(1)>", "</script>", "javascript:alert(1)", "]]>", "<!--", "&lt;", "http://127.0.0.1:1/x",
	"../../etc/passwd", "..\\..\\x", "/etc/passwd", "C:\\x", "CON", "NUL", "-rf", "--help", "~", "*", "?", "a/b", ".", "..", " ", "  lead", "trail ", "\ttab",
	"null", "NULL", "true", "NaN", "Infinity", "1e999", "0x10", "007", "1,5", "2026-02-30", "#REF!", "#N/A", "__proto__", "constructor", "a,b", "a;b", "a\"b", "a\nb",
	"👩\u200d🚒", "क\u094d\u200dष", "می\u200cخواهم", "Łódź", "漢字", strings.Repeat("ß", 300), "e\u0301", "\u0301", "ﬁ", "Ⅷ", "ｆｕｌｌ",
}

// obeyed is what a terminal obeys beside line ends.
var obeyed = regexp.MustCompile("\x1b\\[[0-9;]*m|\r\x1b\\[K")

// hidden says what of an output is obeyed or not seen; "" is nothing.
func hidden(out string) string {
	for _, line := range strings.Split(obeyed.ReplaceAllString(out, ""), "\n") {
		if glyph.Shown(line) != line {
			return line
		}
		if strings.ContainsFunc(line, unicode.IsControl) {
			return line
		}
	}
	return ""
}

// Whatever stands in values, headings, file names, titles, notes and layouts: no command prints what a terminal would obey or nobody would see,
// to a terminal or elsewhere, and none fails with a panic.
func TestHostileTextsOnEverySurface(t *testing.T) {
	t.Parallel()
	first, step := thorough.Every(t, 20)
	for i := first - 1; i < 2*len(hostile); i += step {
		text, run := hostile[i/2], command
		if i%2 == 1 {
			run = onTerminal
		}
		t.Run("", func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			cell := `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
			inName := strings.NewReplacer("/", "_", "\x00", "_").Replace(text)
			if inName == "." || inName == ".." || len(inName) > 100 || strings.HasPrefix(inName, "-") {
				inName = "x" + inName[:min(len(inName), 40)]
			}
			snapshot, copied := "s"+inName+".csv", "e"+inName+".csv"
			write := func(name, body string) {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(body), 0o600))
			}
			write(snapshot, "k,"+cell+",w\n1,"+cell+",a\n2,b,"+cell+"\n3,c,c\n4,d,d\n5,e,e\n")
			write(copied, "k,"+cell+",w\n1,x,a\n2,b,"+cell+"\n3,"+cell+",c\n4,d,"+cell+"\n6,"+cell+",new\n")
			write("register.csv", "k,"+cell+",w\n1,"+cell+",a\n2,b,"+cell+"\n3,c,c\n4,d,d\n5,e,e\n")
			title := strings.ReplaceAll(text, "\x00", "_")
			for _, args := range [][]string{
				{"compare", snapshot, copied, "--key", "k", "--title=" + title, "--record-set=" + title}, {"show", "1"}, {"show", "1", "--wear"}, {"show", "1", "--record", "1"}, {"show", "1", "--json"}, {"show", "1", "--with", "markdown"}, {"show", title}, {"show", "1", "--field=" + title},
				{"approve", "1", "--all", "--held", "--note=" + title}, {"review", "sheet", "1", "--csv", "-o", "out.csv"}, {"review", "page", "1", "-o", "page.html"}, {"review", "collect", "1", snapshot},
				{"apply", "1", "--to", "register.csv", "--rehearse"}, {"apply", "1", "--to", "register.csv", "--yes"}, {"verify", "1"}, {"verify", "1", copied}, {"history"}, {"history", "1"}, {"history", "--record", "1"}, {"history", "--check"}, {"history", "--open"}, {"desk"}, {"close", "1", "--note=" + title}, {"history"}, {"reopen", "1"},
				{"handoff", "1", "--again", "--form", "csv", "-o", "load"}, {"handoff", "1", "--again", "--form", "sql"}, {"rollback", "1", "--apply", "--yes"}, {"restore", "1"},
				{"layout", "draft", snapshot, "--record-set=" + title}, {"layout", "draft", snapshot, "-o", "-"}, {"lend", snapshot, "-o", "lent.xlsx", "--key", "k"}, {"derive", snapshot, "--key", "k", "--set", "w = " + title, "--title=" + title}, {"derive", snapshot, "--key", "k", "--where", title},
				{title}, {"compare", title, title}, {"take", title, "-o", "x.csv"}, {"apply", "1", "--to", title, "--yes"}, {"show", "1", "--where", title}, {"standin", title},
			} {
				if _, err := os.Stat(filepath.Join(dir, title)); err == nil && args[0] == "standin" {
					continue // it would be served, and not end
				}
				out, code := run(t, program, dir, []string{"CLICOLOR_FORCE=1", "TTY_FORCE=1", "COLORTERM=truecolor", "TERM=xterm"}, args...)
				require.Empty(t, hidden(out), "%q: %q", args, out)
				require.NotContains(t, out, "panic:", "%q", args)
				assert.Contains(t, []int{0, 1, 2, 3, 4}, code, "%q", args)
			}
			if b, err := os.ReadFile(filepath.Join(dir, "load", "README.txt")); err == nil {
				require.Empty(t, hidden(string(b)))
			}
		})
	}
}
