package clock

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestMomentsGoOnAndAreTimesOnTheWall(t *testing.T) {
	before := time.Now()
	first := Now()
	time.Sleep(2 * time.Millisecond)
	second := Now()
	after := time.Now()

	assert.GreaterOrEqual(t, time.Duration(second-first), 2*time.Millisecond)
	assert.GreaterOrEqual(t, Since(first), time.Duration(second-first))
	assert.False(t, first.Wall().Before(before.Add(-time.Second)))
	assert.False(t, second.Wall().After(after.Add(time.Second)))
}
