package array_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

// forge makes a block of a member another one that everything on the disks vouches for: its sum, its page and the witness.
func forge(t *testing.T, paths []string, slot int, block int64, data []byte) {
	disks, own := make([]disk.Disk, len(paths)), make([]*record.Record, len(paths))
	for i, p := range paths {
		d, err := disk.Open(p)
		require.NoError(t, err)
		defer d.Close()
		disks[i] = d
		own[i], err = disk.ReadRecord(d)
		require.NoError(t, err)
	}
	// edit changes a page, and returns the number it is of and its checksum.
	edit := func(slot int, kind record.PageKind, start, page int64, change func(buf []byte)) (uint64, uint32) {
		buf, at := make([]byte, record.Block), start+page*record.Block
		require.NoError(t, disks[slot].ReadAt(buf, at))
		number, _, err := record.CheckPage(buf, kind, own[slot].Tag(), page)
		require.NoError(t, err)
		change(buf)
		record.SealPage(buf, kind, own[slot].Tag(), page, number)
		require.NoError(t, disks[slot].WriteAt(buf, at))
		return number, record.PageSumOf(buf)
	}
	place := own[slot].Place
	require.NoError(t, disks[slot].WriteAt(data, place.DataStart+block*record.Block))
	page := block / record.SumsPerPage
	number, sum := edit(slot, record.SumPage, place.SumStart, page, func(buf []byte) {
		record.SetPageSum(buf, int(block%record.SumsPerPage), record.Sum(data))
	})
	holder, q := own[slot].Roster[slot].Witness, place.MapPages+page
	edit(holder, record.WitnessPage, own[holder].Place.WitnessStart, q/record.WitnessesPerPage, func(buf []byte) {
		record.SetPageWitness(buf, own[slot].Tag(), int(q%record.WitnessesPerPage), record.Witness{Checkpoint: number, Sum: sum})
	})
}

// Where blocks contradict each other and all of them are vouched for, the code shows which one is wrong if it can; else the
// check leaves it to the administrator, also across a restart.
func TestACheckBlamesOnlyWhomItMay(t *testing.T) {
	for _, shape := range []struct {
		level   layout.Level
		members int
		shows   bool // which one is wrong
	}{{layout.Parity1, 3, false}, {layout.Mirror, 2, false}, {layout.Mirror, 3, true}, {layout.Parity2, 5, true}, {layout.Parity3, 5, true}} {
		f := newFolder(t)
		a, traps, _ := trapped(t, f, shape.level, shape.members, array.Config{})
		paths := make([]string, len(traps))
		for i := range traps {
			paths[i] = traps[i].Identity().Path
		}
		want := noise(1, mib)
		require.NoError(t, a.WriteAt(want, 0))
		require.NoError(t, a.Close())
		const wrong = 1
		forge(t, paths, wrong, 3, noise(9, record.Block))

		a, err := f.reopen(array.Config{})
		require.NoError(t, err)
		result, err := a.CheckNow(false)
		require.NoError(t, err)
		require.EqualValues(t, 1, result.Mismatches)
		if shape.shows {
			require.Equal(t, wrong, result.Places[0].Slot, "%s", shape.level)
		}
		result, err = a.CheckNow(true)
		require.NoError(t, err)
		if !shape.shows {
			require.EqualValues(t, 1, result.Unrepairable)
			require.Zero(t, result.Repaired, "nothing shows which is wrong")
			a.SetPace(task.Pace{Rate: 1})
			require.NoError(t, a.StartCheckBlaming(true, wrong))
			require.NoError(t, a.Close(), "before the check has come far")
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			a.WaitTasks()
		}
		requireReads(t, a, want, 0)
		result, err = a.CheckNow(false)
		require.NoError(t, err)
		require.Zero(t, result.Mismatches)
		require.NoError(t, a.Close())
	}
}
