package desk

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/thorough"
)

// FuzzDossier believes descriptions that may be anything, their digests done anew. What is believed leads nowhere.
func FuzzDossier(f *testing.F) {
	for _, version := range []string{"v1", "v2", "v3", "v4", "v5"} {
		found, err := filepath.Glob(filepath.Join("../../cmd/paletwin/testdata", version, "dossiers/*/dossier.json"))
		require.NoError(f, err)
		for _, name := range found {
			b, err := os.ReadFile(name)
			require.NoError(f, err)
			f.Add(b, filepath.Base(filepath.Dir(name)))
		}
	}
	f.Fuzz(func(t *testing.T, b []byte, folder string) {
		thorough.Bounded(t, func() {
			m := new(Meta)
			if json.Unmarshal(b, m) != nil {
				return
			}
			if _, err := m.digest(); err != nil || m.believe(folder) != nil {
				return
			}
			for _, in := range m.inputs() {
				name := in.File
				if len(name) > 6 && name[:6] == "../../" {
					name = name[6:]
				}
				assert.Equal(t, name, filepath.Base(name))
			}
			for name := range m.Files {
				assert.True(t, filepath.IsLocal(name), name)
			}
			assert.Equal(t, Slug(m.Slug), m.Slug)
			assert.NotEmpty(t, (&Dossier{Meta: m}).tag())
			for _, s := range m.RecordSets {
				assert.Equal(t, ChangesName(s.Name), filepath.Base(ChangesName(s.Name)))
			}
			for _, x := range m.Sets {
				assert.True(t, filepath.IsLocal(setDir("", x.Set)), x.Set)
			}
			if m.Undoes != nil {
				assert.NotEqual(t, m.Number, m.Undoes.Dossier)
			}
		})
	})
}
