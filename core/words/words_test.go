package words_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"paletwin/core/words"
)

func TestNumbersInSentences(t *testing.T) {
	assert.Equal(t, []string{"0 records", "1 record", "2 records"}, []string{words.Count(0, "record"), words.Count(1, "record"), words.Count(2, "record")})
	assert.Equal(t, "512 MiB", words.Size(512<<20+5))
}
