package task

import (
	"sync/atomic"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
)

// Rows of a piece are read after all rows of the piece before have been begun, and no more of both at a time than there is room for.
func TestThePiecesOfARebuildAreReadInTurn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		rows := make(chan struct{}, 2)
		first := &inTurn{rows: rows, begun: make(chan struct{})}
		second := &inTurn{rows: rows, after: first.begun, begun: make(chan struct{})}
		first.left.Store(3)
		second.left.Store(1)
		var ofFirst, ofSecond atomic.Int64
		begin := func(p *inTurn, count *atomic.Int64) {
			go func() {
				p.begin()
				count.Add(1)
			}()
			synctest.Wait()
		}
		begun := func(wantFirst, wantSecond int64, why string) {
			synctest.Wait()
			assert.Equal(t, []int64{wantFirst, wantSecond}, []int64{ofFirst.Load(), ofSecond.Load()}, why)
		}

		begin(second, &ofSecond)
		begun(0, 0, "the piece before has not begun")
		begin(first, &ofFirst)
		begin(first, &ofFirst)
		begin(first, &ofFirst)
		begun(2, 0, "two rows are being read, and there is room for two")
		first.end()
		begun(3, 0, "all of the first are being read, and there is no room")
		first.end()
		begun(3, 1, "there is room for the second")
	})
}
