package desk

import (
	"testing"

	"github.com/stretchr/testify/assert"
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
