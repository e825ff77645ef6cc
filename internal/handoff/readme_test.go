package handoff

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReadMeHidesNothing(t *testing.T) {
	assert.Equal(t, "Hand-off of ␛]0;x␇ <U+202E>txt\nnext␉line\n", seen("Hand-off of \x1b]0;x\a \u202etxt\nnext\tline\n"))
}
