package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// largeDesk is a desk with so many dossiers, as their folders.
func largeDesk(t testing.TB, dossiers int) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{"a.csv": "k,v\n1,a\n2,b\n", "b.csv": "k,v\n1,a\n2,c\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	out, code := command(t, program, dir, nil, "compare", "a.csv", "b.csv", "--key", "k", "--title", "one")
	require.Zero(t, code, out)
	from := filepath.Join(dir, "dossiers/0001-one")
	for n := 2; n <= dossiers; n++ {
		require.NoError(t, os.CopyFS(filepath.Join(dir, "dossiers", fmt.Sprintf("%04d-one", n)), os.DirFS(from)))
	}
	return dir
}

// asZsh types a line and two tabs in a zsh that has the completion, and prints what the terminal shows.
const asZsh = `zmodload zsh/zpty
zpty -b z zsh -f -i
zpty -w z 'PS1="> "; autoload -Uz compinit; compinit -u -d "$PWD/zcompdump"; eval "$(paletwin completion zsh)"; compdef _paletwin paletwin; print ""GO'
zpty -r z out '*GO*'
zpty -n -w z $'paletwin show 030\t'
for i in {1..100}; do sleep 0.1; zpty -r -t z more && out+=$more; [[ $out == *"show 0300"* ]] && break; done
print -r -- $out
zpty -d z
`

// In each shell that is there, on a desk of 300 dossiers, a dossier is completed as a person types it.
func TestCompletionInShells(t *testing.T) {
	dir := largeDesk(t, 300)
	for shell, args := range map[string][]string{
		"bash": {"--norc", "-c", `source <(paletwin completion bash); _init_completion() { words=("${COMP_WORDS[@]}"); cword=$COMP_CWORD; cur=030; prev=show; }
COMP_WORDS=(paletwin show 030); COMP_CWORD=2; COMP_LINE="paletwin show 030"; COMP_POINT=17; COMP_TYPE=63; __start_paletwin; printf "show %s\n" "${COMPREPLY[@]}"`},
		"fish": {"--no-config", "-c", `paletwin completion fish | source; for w in (complete -C "paletwin show 030"); echo show $w; end`},
		"zsh":  {"-f", "-c", asZsh},
		"pwsh": {"-NoProfile", "-Command", `paletwin completion powershell | Out-String | Invoke-Expression; (TabExpansion2 -inputScript 'paletwin show 030' -cursorColumn 17).CompletionMatches | % { "show " + $_.CompletionText }`},
	} {
		t.Run(shell, func(t *testing.T) {
			if _, err := exec.LookPath(shell); err != nil {
				if os.Getenv("PALETWIN_TEST_TOOLS") == "required" && shell != "pwsh" { // which Debian does not have
					t.Fatal(err)
				}
				t.Skip(err)
			}
			cmd := exec.Command(shell, args...)
			cmd.Dir = dir
			cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+string(os.PathListSeparator)+os.Getenv("PATH"), "TERM=dumb")
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.Contains(t, string(out), "show 0300")
			assert.NotContains(t, strings.ReplaceAll(string(out), "show 0300", ""), "0299")
		})
	}
}

// How long a shell waits, on a desk of 300 dossiers.
func BenchmarkCompletion(b *testing.B) {
	dir := largeDesk(b, 300)
	for b.Loop() {
		out, err := completing(dir)
		require.NoError(b, err, out)
	}
}

func completing(dir string) (string, error) {
	cmd := exec.Command(program, "__complete", "show", "03")
	cmd.Dir = dir
	out, err := cmd.Output()
	return string(out), err
}
