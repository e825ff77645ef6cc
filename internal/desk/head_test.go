package desk

import (
	"io/fs"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/disk"
)

// One line behind a head is a command that was killed; what is less than the
// head, other than it, or two lines more, is damage.
func TestAHeadKnowsItsEnd(t *testing.T) {
	const one, two, three = "{\"a\":1}\n", "{\"b\":2}\n", "{\"c\":3}\n"
	head := chainHead{Size: int64(len(one + two)), First: LineDigest([]byte(one)), Last: LineDigest([]byte(two))}
	for data, whole := range map[string]bool{
		one + two: true, one + two + three: true, one: false, "": false, one + two + three + three: false,
		three + two: false, one + three: false, two + one: false,
	} {
		assert.Equal(t, whole, head.check([]byte(data), true) == nil, "%q", data)
	}
	for lines, whole := range map[string]bool{"": true, one: true, one + two: true, one + two + three: false} {
		assert.Equal(t, whole, chainHead{}.check([]byte(lines), false) == nil, "%q, begun and not yet known", lines)
	}
}

// A chain's first line is what its head knows, whatever stands behind it; where no digest of it is known, the chain is read.
func TestFirstLines(t *testing.T) {
	const one, two = "{\"a\":1}\n", "{\"b\":2}\n"
	d := &Desk{FS: disk.OS{}, Dir: t.TempDir()}
	x := &Dossier{desk: d, Dir: d.Dir, Meta: &Meta{Version: covered}}
	write := func(text string) { require.NoError(t, os.WriteFile(x.Path("j.jsonl"), []byte(text), 0o600)) }
	require.NoError(t, (&heads{Chains: map[string]chainHead{}}).write(d.FS, x.Path(headName)))
	_, err := x.ReadFirst("j.jsonl")
	require.ErrorIs(t, err, fs.ErrNotExist)
	write(one)
	line, err := x.ReadFirst("j.jsonl")
	require.NoError(t, err)
	assert.Equal(t, one, string(line)+"\n", "it was begun, and its head does not know it yet")
	require.NoError(t, x.SetHead("j.jsonl", int64(len(one+two)), LineDigest([]byte(one)), LineDigest([]byte(two))))
	for text, good := range map[string]bool{one + two: true, one + strings.ToUpper(two): true, one: false, "": false, two + one: false, strings.ReplaceAll(one+two, "\n", " "): false} {
		write(text)
		line, err := x.ReadFirst("j.jsonl")
		if !good {
			assert.ErrorAs(t, err, new(*DamageError), "%q", text)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, one, string(line)+"\n")
	}
	require.NoError(t, os.Remove(x.Path("j.jsonl")))
	_, err = x.ReadFirst("j.jsonl")
	assert.ErrorAs(t, err, new(*DamageError))
}
