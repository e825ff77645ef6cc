package desk

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is kept under the name of one of Windows' devices has another file's name, so that the desk may go there; what dossiers were
// called before that was known stays.
func TestNamesOfDevices(t *testing.T) {
	d := &Desk{Dir: "desk"}
	for name, file := range map[string]string{"nul": "nul-1", "CON": "con-1", "com7": "com7-1", "com": "com", "console": "console", "aids": "aids"} {
		for _, path := range []string{d.selectionPath(name), d.senderPath(name)} {
			assert.Equal(t, file+".yaml", filepath.Base(path))
		}
	}
	assert.Equal(t, "nul-1.yaml", filepath.Base(d.LayoutPath("nul")))
	assert.Equal(t, "con", Slug("Con"))
	assert.Equal(t, "changes.con.jsonl", ChangesName("con"))
}
