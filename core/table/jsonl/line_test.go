package jsonl

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What is read quickly is what encoding/json reads.
func FuzzQuickMembers(f *testing.F) {
	for _, line := range []string{`{"a":"x","b": 1.50e0 , "c":null,"d":{"e":[1, 2]},"f":true}`, `{"a":1,"a":2}`, ` {} `, `null`, `[]`, `{"a":"\u00e9\ud800","\u0062":"é"}`, "{\"a\xff\":\"\xfe\"}",
		`{"a":{"b":1,"b":2}}`, `{"a":1} x`, `{"a":01}`, `{"a":"\q"}`, `{"a":1,}`, "{\"a\":\"\x01\"}", `{"":""}`, `{"é":"ü"}`, `{"a" : -0.0}`, "{}\v ", ``} {
		f.Add([]byte(line))
	}
	f.Fuzz(func(t *testing.T, line []byte) {
		quick, ok := quickMembers(line)
		if !ok {
			return
		}
		slow, err := slowMembers(line)
		require.NoError(t, err)
		require.Len(t, quick, len(slow))
		for i := range slow {
			require.Equal(t, slow[i].name, quick[i].name)
			require.Equal(t, string(slow[i].raw), string(quick[i].raw))
			require.Equal(t, [2]int{slow[i].from, slow[i].to}, [2]int{quick[i].from, quick[i].to})
		}
	})
}
