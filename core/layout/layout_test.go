package layout

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"paletwin/core/record"
)

func TestEqual(t *testing.T) {
	assert.True(t, (*Layout)(nil).Schema().Equal("v", record.Text(""), record.Null()), "blank against null is no change")
	assert.False(t, (*Layout)(nil).Schema().Equal("v", record.Text("0"), record.Null()))
	assert.False(t, (*Layout)(nil).Schema().Equal("v", record.Text("8.0"), record.Text("8.00")), "without a layout, equal means equal bytes")
}

func TestMatchColumns(t *testing.T) {
	for _, c := range []struct {
		name            string
		fields, heading []string
		column          []int
		ignored         []int
	}{
		{"exact", []string{"a", "b"}, []string{"b", "a"}, []int{1, 0}, nil},
		{"exact wins over case", []string{"a", "A"}, []string{"A", "a"}, []int{1, 0}, nil},
		{"case and spaces", []string{"aid_no"}, []string{" AID_NO "}, []int{0}, nil},
		{"byte-order mark", []string{"aid_no"}, []string{"\ufeffaid_no"}, []int{0}, nil},
		{"byte-order mark in the wrong code page", []string{"aid_no"}, []string{"ï»¿aid_no"}, []int{0}, nil},
		{"letters in the wrong code page", []string{"größe", "Łódź"}, []string{"grÃ¶ÃŸe", "ÅÃ³dÅº"}, []int{0, -1}, []int{1}},
		{"not if two fit", []string{"a"}, []string{"A ", " A"}, []int{-1}, []int{0, 1}},
		{"only the copy's", []string{"a"}, []string{"a", "x"}, []int{0}, []int{1}},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := MatchColumns(c.fields, c.heading)
			assert.Equal(t, c.column, m.Column)
			assert.Equal(t, c.ignored, m.Ignored)
		})
	}
}
