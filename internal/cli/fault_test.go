package cli

import (
	"bytes"
	"context"
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"paletwin/internal/disk"
)

// panics is a file system in which looking at a folder is a fault.
type panics struct{ disk.OS }

func (panics) Stat(string) (fs.FileInfo, error) { panic("no such luck") }

// A fault of the program is told as one, and ends with 1: 2 is for who typed something wrong.
func TestAFaultEndsWithOne(t *testing.T) {
	var out, errs bytes.Buffer
	a := &app{fs: panics{}, stdin: &bytes.Buffer{}, stdout: &out, stderr: &errs, wd: t.TempDir(), now: time.Now, user: "lina"}
	assert.Equal(t, exitFailed, a.run(context.Background(), []string{"history"}))
	assert.Contains(t, errs.String(), "this is a fault of the program, and none of yours: no such luck")
	assert.Contains(t, errs.String(), "goroutine")
}
