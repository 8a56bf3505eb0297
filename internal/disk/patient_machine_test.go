//go:build machine

package disk

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/state"
	"nidalo/internal/env"
)

// steady is a disk that answers after a while, or never.
type steady struct {
	Disk
	takes time.Duration
}

func (d *steady) Sync() error {
	if d.takes == 0 {
		env.Recv(make(chan struct{}))
	}
	env.Wait(d.takes)
	return nil
}
func (d *steady) Identity() state.Identity { return state.Identity{Path: "steady"} }

// A machine that was paused finds that much time has passed since it asked its disks: they are not to blame.
func TestAPausedMachineBlamesNoDisk(t *testing.T) {
	patience := Patience{Read: time.Second, Hung: 15 * time.Second}
	for seed := range uint64(100_000) {
		var got error
		require.NoError(t, env.Run(seed, 10_000, func() {
			env.Go(func() { env.Wait(time.Minute) })
			got = NewPatient(&steady{takes: 10 * time.Millisecond}, patience, func() bool { return false }).Sync()
		}))
		require.NoError(t, got, "seed %d", seed)
	}
	// And one that really hangs is still found out.
	require.NoError(t, env.Run(1, 100_000, func() {
		err := NewPatient(&steady{}, patience, func() bool { return false }).Sync()
		require.ErrorIs(t, err, ErrHung)
	}))
}
