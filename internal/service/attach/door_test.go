package attach

import (
	"bytes"
	"log/slog"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

func TestConnectionsOfASessionEnterTogether(t *testing.T) {
	var d Door
	one, err := d.Enter("a")
	require.NoError(t, err)
	two, err := d.Enter("a")
	require.NoError(t, err)
	one()
	two()
	other, err := d.Enter("b")
	require.NoError(t, err)
	other()
	require.Nil(t, d.session)
}

func TestASessionWaitsForTheOneBefore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var d Door
		leave, err := d.Enter("a")
		require.NoError(t, err)
		began := time.Now()
		time.AfterFunc(drainTime/2, leave)
		leave, err = d.Enter("b")
		require.NoError(t, err)
		require.Equal(t, drainTime/2, time.Since(began))
		_, err = d.Enter("c")
		require.ErrorIs(t, err, errNotDrained)
		require.Equal(t, drainTime/2+drainTime, time.Since(began))
		_, err = d.Enter("b")
		require.NoError(t, err, "the session that is inside goes on")
		leave()
	})
}

func TestOnlyOneOfTwoSessionsThatWaitEnters(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var d Door
		leave, err := d.Enter("a")
		require.NoError(t, err)
		results := make(chan error, 2)
		for _, name := range []string{"b", "c"} {
			go func() {
				_, err := d.Enter(name)
				results <- err
			}()
		}
		synctest.Wait()
		leave()
		first, second := <-results, <-results
		if first == nil {
			first, second = second, first
		}
		require.ErrorIs(t, first, errOvertaken)
		require.NoError(t, second)
	})
}

// Memory is shared with the session that is inside, and asked for once; a name that could lead elsewhere is never part of a path.
func TestMemoryIsOfTheSessionInside(t *testing.T) {
	var d Door
	var log bytes.Buffer
	told := slog.New(slog.NewTextHandler(&log, nil))
	for _, name := range []string{"../../../tmp/x", "ABCDEFGHJKL", "ABCDEFGHJKLMN", "abcdefghijkl", "ABCDEFGHJKL\n"} {
		leave, err := d.Enter(name)
		require.NoError(t, err)
		require.Nil(t, d.Memory("x", name, told))
		leave()
	}
	require.Empty(t, log.String(), "nothing was opened")
	leave, err := d.Enter("ABCDEFGHJKLM")
	require.NoError(t, err)
	require.Nil(t, d.Memory("x", "ABCDEFGHJKLN", told), "another session")
	require.Empty(t, log.String())
	for range 2 {
		require.Nil(t, d.Memory("no device", "ABCDEFGHJKLM", told))
	}
	require.Equal(t, 1, strings.Count(log.String(), "no memory is shared"))
	leave()
}
