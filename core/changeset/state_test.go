package changeset

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A second look is another person's approval of what somebody approved.
func TestASecondLookIsAnotherPersons(t *testing.T) {
	approved := State{Decision: Approve, By: "petr"}
	assert.True(t, approved.Seconds(Approve, "lina"))
	assert.False(t, approved.Seconds(Approve, "petr"))
	assert.False(t, approved.Seconds(Reject, "lina"))
	assert.False(t, (&State{Decision: Hold, By: "petr"}).Seconds(Approve, "lina"))
	assert.False(t, (&State{Decision: Open}).Seconds(Approve, "lina"))
}
