package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/expr"
)

const docs = "../../docs"

func schema(t *testing.T, name string) *jsonschema.Schema {
	s, err := jsonschema.NewCompiler().Compile(filepath.Join(docs, "schema", name+".json"))
	require.NoError(t, err)
	return s
}

// validate checks each line of JSON against a schema.
func validate(t *testing.T, s *jsonschema.Schema, lines []byte, from string) {
	for line := range bytes.Lines(lines) {
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(line))
		require.NoError(t, err, "%s: %s", from, line)
		assert.NoError(t, s.Validate(v), "%s: %s", from, line)
	}
}

// Everything that the demo writes keeps to the schemas, and so does what is made of several copies, and of
// several record sets.
func TestDemoFilesKeepToTheSchemas(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "demo")
	out, err := exec.Command(program, "demo", dir).CombinedOutput()
	require.NoError(t, err, "%s", out)
	for name, text := range map[string]string{"routines/both.yaml": "sets:\n  aids: {where: 'aid_no == \"00102\"', set: ['remarks = \"seen\"']}\n  visits: {where: 'aid_no == \"00102\"', set: ['crew = \"crew A\"']}\n"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "places"), 0o755))
	for _, set := range []string{"aids", "visits"} {
		b, err := os.ReadFile(filepath.Join(dir, set+".csv"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "places", set+".csv"), b, 0o600))
	}
	for _, line := range []string{`derive aids.csv --where aid_no=="00244" --set depot="D06" -o tomas.csv`, `compare aids.csv autumn-round.csv tomas.csv`, `approve - --finding copies-disagree --of tomas.csv`,
		`layout draft --joined round --snapshot visits=visits.csv --snapshot aids=aids.csv --snapshot depots=depots.csv`,
		`lend --joined round --snapshot visits=visits.csv --snapshot aids=aids.csv --snapshot depots=depots.csv`,
		`compare --joined round --snapshot visits=visits.csv --snapshot aids=aids.csv --snapshot depots=depots.csv round-lent.xlsx --title Joined`,
		`derive --routine both --snapshot visits=visits.csv --snapshot aids=aids.csv`, `approve - --all --held`, `apply - --to places --yes`} {
		cmd := exec.Command(program, strings.Fields(line)...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", line, out)
	}
	b, err := os.ReadFile(filepath.Join(dir, "layouts/round.yaml"))
	require.NoError(t, err)
	var v any
	require.NoError(t, yaml.Unmarshal(b, &v))
	j, err := json.Marshal(v)
	require.NoError(t, err)
	validate(t, schema(t, "joined"), j, "round.yaml")
	keepToTheSchemas(t, dir, true)
	service := filepath.Join(t.TempDir(), "service")
	out, err = exec.Command(program, "demo", "service", service).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Regexp(t, `refused  00381  the service says 400: depot: aid 00381 is part of an open work order; close it first\n  waited 1 time, 1s in all`, string(out))
	keepToTheSchemas(t, service, false)
}

// keepToTheSchemas validates the files of a desk.
func keepToTheSchemas(t *testing.T, dir string, several bool) {
	t.Helper()
	book, err := os.ReadFile(filepath.Join(dir, "dossiers/book.jsonl"))
	require.NoError(t, err)
	validate(t, schema(t, "book"), book, "book.jsonl")
	for pattern, name := range map[string]string{
		"changes.*.jsonl": "change-set", "decisions.jsonl": "decision", "findings.jsonl": "finding",
		"runs/*/rollback.jsonl": "rollback", "runs/*/journal.jsonl": "journal", "dossier.json": "dossier", "head.json": "head",
	} {
		files, err := filepath.Glob(filepath.Join(dir, "dossiers/*", pattern))
		require.NoError(t, err)
		require.NotEmpty(t, files, pattern)
		parts, err := filepath.Glob(filepath.Join(dir, "dossiers/*/sets/*", pattern))
		require.NoError(t, err)
		require.Equal(t, several, len(parts) > 0, pattern)
		for _, f := range append(files, parts...) {
			b, err := os.ReadFile(f)
			require.NoError(t, err)
			if name == "dossier" {
				var one bytes.Buffer
				require.NoError(t, json.Compact(&one, b))
				b = one.Bytes()
			}
			validate(t, schema(t, name), b, f)
		}
	}
}

// The examples in formats.md keep to the schemas, section by section.
func TestFormatExamplesKeepToTheSchemas(t *testing.T) {
	b, err := os.ReadFile(filepath.Join(docs, "formats.md"))
	require.NoError(t, err)
	examples := 0
	for section := range strings.SplitSeq(string(b), "\n## ") {
		name, _, _ := strings.Cut(section, "\n")
		name = map[string]string{"changes.&lt;set&gt;.jsonl": "change-set", "findings.jsonl": "finding", "decisions.jsonl": "decision", "rollback.jsonl": "rollback", "journal.jsonl": "journal", "head.json": "head", "book.jsonl": "book", "closed.json": "closed"}[name]
		if name == "" {
			continue
		}
		for _, m := range regexp.MustCompile("(?s)```json\n(.*?)```").FindAllStringSubmatch(section, -1) {
			validate(t, schema(t, name), []byte(m[1]), "formats.md")
			examples++
		}
	}
	assert.Equal(t, 13, examples)
}

// Every code is documented with its level and meaning, and no other is.
func TestFindingsAreDocumented(t *testing.T) {
	b, err := os.ReadFile(filepath.Join(docs, "findings.md"))
	require.NoError(t, err)
	rows := regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\| (\\w+) \\| (.*) \\|$").FindAllStringSubmatch(string(b), -1)
	var documented, known []string
	for _, r := range rows {
		documented = append(documented, r[1]+" "+r[2]+" "+r[3])
	}
	for _, c := range changeset.Codes() {
		known = append(known, c.Name+" "+string(c.Level)+" "+c.Means)
	}
	assert.ElementsMatch(t, known, documented)
}

// Every picture in docs/screenshots is linked from the README, and every
// link in the docs leads somewhere.
func TestLinksLead(t *testing.T) {
	files, err := filepath.Glob(filepath.Join(docs, "*.md"))
	require.NoError(t, err)
	link := regexp.MustCompile(`\]\(([^)#:]+)(#[^)]*)?\)`)
	linked := map[string]bool{}
	for _, f := range append(files, "../../README.md", "../../CONTRIBUTING.md") {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		for _, m := range link.FindAllStringSubmatch(string(b), -1) {
			to := filepath.Join(filepath.Dir(f), m[1])
			_, err := os.Stat(to)
			assert.NoError(t, err, "%s links to %s", f, m[1])
			linked[filepath.Base(to)] = true
		}
	}
	shots, err := filepath.Glob(filepath.Join(docs, "screenshots/*.png"))
	require.NoError(t, err)
	for _, s := range shots {
		assert.True(t, linked[filepath.Base(s)], "%s is linked from nowhere", s)
	}
	assert.Less(t, len(shots), 20)
}

// The layouts of the demo, and the example in the guide, are as the schema
// says and are understood.
func TestLayoutsKeepToTheSchema(t *testing.T) {
	s := schema(t, "layout")
	desk := filepath.Join(t.TempDir(), "desk")
	out, code := command(t, program, t.TempDir(), nil, "demo", desk)
	require.Zero(t, code, out)
	guide, err := os.ReadFile(filepath.Join(docs, "layouts.md"))
	require.NoError(t, err)
	example := regexp.MustCompile("(?s)```yaml\n(.*?)```").FindSubmatch(guide)
	require.NotNil(t, example)
	require.NoError(t, os.WriteFile(filepath.Join(desk, "layouts/example.yaml"), example[1], 0o600))
	files, err := filepath.Glob(filepath.Join(desk, "layouts/*.yaml"))
	require.NoError(t, err)
	require.Len(t, files, 5)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		var v any
		require.NoError(t, yaml.Unmarshal(b, &v))
		j, err := json.Marshal(v)
		require.NoError(t, err)
		validate(t, s, j, f)
		out, code := command(t, program, desk, nil, "layout", "show", strings.TrimSuffix(filepath.Base(f), ".yaml"))
		assert.Zero(t, code, out)
	}
}

// Every function in docs/expressions.md does what its example says.
func TestExamplesOfExpressions(t *testing.T) {
	b, err := os.ReadFile(filepath.Join(docs, "expressions.md"))
	require.NoError(t, err)
	rows := regexp.MustCompile("(?m)^\\| `.*` \\| .* \\| `(.*)` \\| `(.*)` \\|$").FindAllStringSubmatch(string(b), -1)
	require.Greater(t, len(rows), 30)
	env, err := expr.NewEnv(nil, depots{})
	require.NoError(t, err)
	for _, r := range rows {
		p, err := env.Compile(r[1])
		if !assert.NoError(t, err, r[1]) {
			continue
		}
		v, err := p.Eval(&expr.Input{})
		if assert.NoError(t, err, r[1]) {
			assert.Equal(t, r[2], fmt.Sprint(v), r[1])
		}
	}
}

// depots are the lists of the examples.
type depots struct{}

func (depots) Lookup(list, value, column string) (string, bool, error) {
	return "Tarn Mouth depot", list == "depots.csv" && value == "D03" && column == "name", nil
}

func (depots) Translate(value, list string) (string, bool, error) { return "", false, nil }

// Every command in the guides is one that the program knows, with its flags:
// in an empty folder it fails for want of files, and not for what was typed.
func TestCommandsOfTheGuidesAreKnown(t *testing.T) {
	files, err := filepath.Glob(filepath.Join(docs, "*.md"))
	require.NoError(t, err)
	blocks := regexp.MustCompile("(?s)```sh\n(.*?)```")
	path := "PATH=" + filepath.Dir(program) + string(os.PathListSeparator) + os.Getenv("PATH")
	known := 0
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		for _, block := range blocks.FindAllStringSubmatch(string(b), -1) {
			for line := range strings.SplitSeq(strings.ReplaceAll(block[1], "\\\n", " "), "\n") {
				if !strings.HasPrefix(line, "paletwin ") {
					continue
				}
				known++
				out, _ := command(t, "sh", t.TempDir(), []string{path}, "-c", line+" </dev/null")
				for _, wrong := range []string{"unknown flag", "unknown shorthand", "there is no command", "one too many", "flag needs an argument", "Syntax error"} {
					assert.NotContains(t, out, wrong, "%s: %s", filepath.Base(f), line)
				}
			}
		}
	}
	assert.Greater(t, known, 30)
}
