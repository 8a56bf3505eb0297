package member

import (
	"errors"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestOperationsOnAMemberThatAnswersAtOnceKeepTheirOrder(t *testing.T) {
	var fan Fan
	var order []int
	bad := errors.New("a bad sector")
	require.ErrorIs(t, fan.OnOne(8, func(i int) error {
		if order = append(order, i); i == 5 {
			return bad
		}
		return nil
	}), bad)
	require.Equal(t, []int{0, 1, 2, 3, 4, 5}, order, "none after one that failed")
}

// Four operations on a member that is waited for each wait for the other three, so they are on their way at the same time or never end.
func TestAMemberThatIsWaitedForHasSeveralOnTheirWay(t *testing.T) {
	var fan Fan
	fan.answer.Store(int64(10 * quickMember))
	var here atomic.Int64
	all := make(chan struct{})
	require.NoError(t, fan.Out(2, 4096, func(int) error {
		return fan.OnOne(2, func(int) error {
			if here.Add(1) == 4 {
				close(all)
			}
			select {
			case <-all:
				return nil
			case <-time.After(20 * time.Second):
				return errors.New("the others do not come")
			}
		})
	}))
}
