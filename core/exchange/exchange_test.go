package exchange_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/exchange"
	"nidalo/core/record"
	"nidalo/core/state"
)

var (
	old   = state.Identity{Path: "lab/A3", Bay: "A3", Model: "Quern QN-12", Serial: "QRN-0207"}
	fresh = state.Identity{Path: "lab/A3", Bay: "A3", Model: "Tamarack TK-4000", Serial: "TMK-0301"}
	began = time.Date(2026, 11, 2, 3, 0, 0, 0, time.UTC)
)

func blank(id state.Identity, size int64) exchange.Disk {
	return exchange.Disk{Identity: id, State: state.DiskBlank, Size: size}
}

func seen(after time.Duration, is record.Condition, in state.Identity, disks ...exchange.Disk) exchange.Sight {
	return exchange.Sight{Now: began.Add(after), Array: true, Condition: is, Disk: in, Disks: disks, Need: 100}
}

func TestAnExchangeWithAVet(t *testing.T) {
	x := &exchange.Exchange{Name: "tides", Slot: 2, Old: old, Step: exchange.TakeOut, Quick: true, Started: began}
	require.Len(t, x.Path(), 5)
	require.Equal(t, exchange.DeclareFail, x.Next(seen(0, record.Active, old, blank(old, 100))))
	require.Equal(t, exchange.Nothing, x.Next(seen(time.Minute, record.Failed, old, exchange.Disk{Identity: old, State: state.DiskInUse, Size: 100})))
	require.Contains(t, x.Says, "take A3")
	require.Equal(t, exchange.Nothing, x.Next(seen(2*time.Minute, record.Failed, old)))
	require.Equal(t, exchange.PutIn, x.Step)
	require.Equal(t, exchange.BeginVet, x.Next(seen(3*time.Minute, record.Failed, old, blank(fresh, 100))))

	see := seen(4*time.Minute, record.Failed, old, blank(fresh, 100))
	see.Vetted = exchange.Refused
	require.Equal(t, exchange.Nothing, x.Next(see))
	require.Contains(t, x.Says, "did not pass")
	another := fresh
	another.Serial = "TMK-0302"
	require.Equal(t, exchange.BeginVet, x.Next(seen(5*time.Minute, record.Failed, old, blank(another, 100))), "another disk is tested anew")
	see = seen(6*time.Minute, record.Failed, old, blank(another, 100))
	see.Vetted = exchange.Passed
	require.Equal(t, exchange.PutNew, x.Next(see))

	x.In, x.Step = see.Now, exchange.Rebuild
	see = seen(7*time.Minute, record.Rebuilding, another)
	see.Stopped = "the rebuild is paused"
	require.Equal(t, exchange.Nothing, x.Next(see))
	require.Equal(t, "the rebuild is paused", x.Says)
	require.Equal(t, exchange.BeginCheck, x.Next(seen(time.Hour, record.Active, another)))
	see = seen(2*time.Hour, record.Active, another)
	see.Checked, see.Read, see.Wrong = exchange.Passed, 1<<20, 1
	require.Equal(t, exchange.CloseDown, x.Next(see))
	require.Equal(t, exchange.Done, x.Step)
	require.Contains(t, x.Result, "2h0m0s altogether, 59m0s of it without QRN-0207; 1.0MiB checked, 1 block wrong")
	require.Equal(t, exchange.Nothing, x.Next(see))
}

func TestWhatCannotTakeThePlaceIsSaid(t *testing.T) {
	for says, d := range map[string]exchange.Disk{
		"needed":         blank(fresh, 99),
		"again":          {Identity: old, State: state.DiskInUse, Size: 100},
		"nidalo erase":   {Identity: fresh, State: state.DiskInUse, Size: 100, Holds: []string{"a file system"}},
		"not to be":      {Identity: fresh, State: state.DiskBlank, Size: 100, Bad: "it failed"},
		"read-only":      {Identity: fresh, State: state.DiskReadOnly, Size: 100},
		"put a blank di": {Identity: state.Identity{Path: "lab/B1", Bay: "B1", Serial: "TMK-0400"}, State: state.DiskBlank, Size: 100},
	} {
		x := &exchange.Exchange{Name: "tides", Slot: 2, Old: old, Step: exchange.PutIn, Started: began, Exposed: began}
		require.Equal(t, exchange.Nothing, x.Next(seen(0, record.Failed, old, d)))
		require.Contains(t, x.Says, says)
	}
}

func TestAnExchangeThatOthersBringToItsEnd(t *testing.T) {
	x := &exchange.Exchange{Name: "tides", Old: old, Step: exchange.PutIn, Started: began, Exposed: began, Skip: true}
	require.Equal(t, exchange.Nothing, x.Next(seen(0, record.Rebuilding, fresh)))
	require.Equal(t, exchange.Rebuild, x.Step, "it was replaced by command")
	require.Equal(t, exchange.CloseDown, x.Next(seen(time.Minute, record.Active, fresh)))
	require.Contains(t, x.Result, "not checked")

	x = &exchange.Exchange{Name: "tides", Old: old, Step: exchange.PutIn, Started: began, Exposed: began}
	require.Equal(t, exchange.BeginCheck, x.Next(seen(0, record.Active, fresh)), "a spare was quick")

	x = &exchange.Exchange{Name: "tides", Old: old, Step: exchange.TakeOut, Started: began, Exposed: began}
	require.Equal(t, exchange.CloseDown, x.Next(seen(0, record.Rebuilding, old)))
	require.Equal(t, exchange.Left, x.Step, "the old disk was taken back")

	x = &exchange.Exchange{Name: "tides", Old: old, New: fresh, Step: exchange.Rebuild, Started: began, Exposed: began}
	require.Equal(t, exchange.Nothing, x.Next(seen(0, record.Failed, fresh)))
	require.Equal(t, exchange.PutIn, x.Step, "the new disk failed in the rebuild")

	x = &exchange.Exchange{Name: "tides", Old: old, Step: exchange.TakeOut, Started: began}
	require.Equal(t, exchange.Nothing, x.Next(exchange.Sight{Now: began}))
	require.Equal(t, "the array is not in service", x.Says)
}

func TestWithoutBaysTheNewDiskIsOneThatWasNotHere(t *testing.T) {
	file := state.Identity{Path: "/srv/disks/c.img"}
	x := &exchange.Exchange{Name: "tides", Old: file, Step: exchange.PutIn, Started: began, Exposed: began, Known: []string{"/srv/disks/c.img", "/srv/disks/d.img"}}
	stick := state.Identity{Path: "/dev/sdz", Serial: "TMK-0999"}
	part := state.Identity{Path: "/srv/disks/x", Serial: "TMK-0998-part1"}
	require.Equal(t, exchange.Nothing, x.Next(seen(0, record.Missing, file, blank(stick, 100), blank(part, 100))), "another kind of disk is not meant")
	was, came := state.Identity{Path: "/srv/disks/d.img"}, state.Identity{Path: "/srv/disks/e.img"}
	require.Equal(t, exchange.Nothing, x.Next(seen(0, record.Missing, file, blank(was, 100))))
	require.Equal(t, exchange.PutNew, x.Next(seen(0, record.Missing, file, blank(was, 100), blank(came, 100))))
	require.Equal(t, came, x.New)
}
