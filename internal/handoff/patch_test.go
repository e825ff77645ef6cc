package handoff_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/handoff"
	"paletwin/internal/run"
)

// patched is a line of a file of patches.
type patched struct {
	Act   string            `json:"act"`
	Key   map[string]string `json:"key"`
	Patch json.RawMessage   `json:"patch"`
}

// A library of RFC 6902 applies the patches: they carry the change out, their
// twins undo it, and a document that has moved fails its test.
func TestJSONPatch(t *testing.T) {
	docs := map[string]string{
		"1": `{"k":"1","name":"a/b","fee":12.50,"seasonal":true,"due":null}`,
		"2": `{"k":"2","name":"~x","fee":1.00,"seasonal":false,"due":"2026-10-06"}`,
	}
	o := newOffice(t, t.TempDir(), []byte("k,name,due,seasonal,fee\n1,a/b,,true,12.50\n2,~x,2026-10-06,false,1.00\n"), "")
	d := o.compare([]byte("k,name,due,seasonal,fee\n1,\"a\"\"b\",2026-10-06,false,12.75\n3,new,,,3.00\n"))
	folder, _ := o.handOff(d, handoff.Options{Form: handoff.JSONPatch}, run.Options{})
	forward := readPatches(t, filepath.Join(folder, handoff.Forward, "01-changes.jsonl"))
	back := readPatches(t, filepath.Join(folder, handoff.Back, "01-changes.jsonl"))

	require.Len(t, forward, 3)
	assert.Equal(t, []string{"add", "amend", "delete"}, []string{forward[0].Act, forward[1].Act, forward[2].Act})
	assert.JSONEq(t, `[{"op":"add","path":"","value":{"k":"3","name":"new","due":null,"seasonal":null,"fee":3.00}}]`, string(forward[0].Patch))
	after := apply(t, forward[1], docs["1"])
	assert.JSONEq(t, `{"k":"1","name":"a\"b","fee":12.75,"seasonal":false,"due":"2026-10-06"}`, after)
	assert.Contains(t, string(forward[1].Patch), `"value":12.75`, "numbers are written digit by digit")
	assert.JSONEq(t, docs["1"], apply(t, back[1], after))

	// A delete tests every field before it removes the document.
	tests, removes := strings.CutSuffix(string(forward[2].Patch), `,{"op":"remove","path":""}]`)
	require.True(t, removes)
	apply(t, patched{Patch: json.RawMessage(tests + "]")}, docs["2"])
	for _, moved := range []struct {
		p   json.RawMessage
		doc string
	}{
		{forward[1].Patch, strings.Replace(docs["1"], "12.50", "12.51", 1)},
		{json.RawMessage(tests + "]"), strings.Replace(docs["2"], "~x", "theirs", 1)},
	} {
		p, err := jsonpatch.DecodePatch(moved.p)
		require.NoError(t, err)
		_, err = p.Apply([]byte(moved.doc))
		assert.ErrorIs(t, err, jsonpatch.ErrTestFailed)
	}
}

func apply(t *testing.T, p patched, doc string) string {
	patch, err := jsonpatch.DecodePatch(p.Patch)
	require.NoError(t, err)
	out, err := patch.Apply([]byte(doc))
	require.NoError(t, err, "%s on %s", p.Patch, doc)
	return string(out)
}

func readPatches(t *testing.T, file string) []patched {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	var all []patched
	for _, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
		var p patched
		require.NoError(t, json.Unmarshal([]byte(line), &p), line)
		all = append(all, p)
	}
	return all
}
