package handoff_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"paletwin/core/table"
	"paletwin/core/table/open"
	"paletwin/internal/disk"
	"paletwin/internal/handoff"
	"paletwin/internal/target"
	"paletwin/internal/target/targettest"
)

// exported is a system as an export of it tells.
type exported struct {
	key      []string
	register string
}

func (p exported) Open(t *testing.T) target.Target {
	img, err := open.Open("export.csv", []byte(p.register), table.Options{})
	require.NoError(t, err)
	dir := t.TempDir()
	s := &handoff.System{Options: handoff.Options{Form: handoff.CSV, Shape: handoff.Full}, FS: disk.OS{}, Set: "aids", Key: p.key,
		Export: &handoff.Export{Image: img, Raw: []byte(p.register), Ext: ".csv", Fresh: true}, Dir: func(int) string { return dir + "/load" }}
	require.NoError(t, s.Open())
	return s
}

func (p exported) Set(t *testing.T, _, _, _ string) { t.Fatal("nobody changes an export") }

func TestASystemThatTakesFilesIsProven(t *testing.T) {
	targettest.Prove(t, targettest.Kind{
		Make: func(_ *testing.T, key []string, register string) targettest.Place { return exported{key, register} },
		Read: func(name string, b []byte) (*table.Image, error) { return open.Open(name, b, table.Options{}) },
	})
}
