// Package rig sets up the rooms of the engine on members in files, without an array, for the tests of those rooms.
package rig

import (
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/internal/array/buffer"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/stripe"
	"nidalo/internal/array/table"
	"nidalo/internal/disk"
)

// T is what a rig needs of a test.
type T interface {
	require.TestingT
	Cleanup(func())
}

// Rig is a level 5 array of members on files, room by room.
type Rig struct {
	*journal.Journal
	Slots   *member.Slots
	Tables  *table.Tables
	Roster  *roster.Roster
	Stripes *stripe.Stripes
	Layout  *layout.Map
	Frozen  error
	Events  []string
	Counts  journal.Counts

	t   T
	dir string
}

// New makes members on new files, or takes those that are there.
func New(t T, dir string, members int) *Rig {
	r := &Rig{Slots: member.NewSlots(members), t: t, dir: dir}
	disks := make([]disk.Disk, members)
	sizes := make([]int64, members)
	fresh := false
	for slot := range members {
		path := r.path(slot)
		if _, err := os.Stat(path); err != nil {
			fresh = true
			require.NoError(t, os.WriteFile(path, nil, 0o600))
			require.NoError(t, os.Truncate(path, 12<<20))
		}
		d, err := disk.Open(path)
		require.NoError(t, err)
		disks[slot] = d
		place, err := record.PlaceFor(d.Size(), 0)
		require.NoError(t, err)
		sizes[slot] = place.DataSize
	}
	lay, err := layout.New(layout.Parity1, layout.MinStrip, 0, sizes)
	require.NoError(t, err)
	rec := &record.Record{}
	if fresh {
		rec = &record.Record{Array: uuid.New(), Name: "tides", Created: time.Now(), Level: layout.Parity1, Strip: layout.MinStrip, Epoch: 1, EpochID: uuid.New(), Starts: 1}
		for slot := range members {
			rec.Roster = append(rec.Roster, record.Entry{ID: uuid.New(), Condition: record.Active, Size: disks[slot].Size(), DataSize: sizes[slot],
				Since: time.Now(), Witness: record.WitnessOf(slot, members)})
		}
	} else {
		rec = r.RecordOn(disks[0])
	}
	alive := func() error { return r.Frozen }
	say := func(kind event.Kind, _, text string) { r.Events = append(r.Events, string(kind)+": "+text) }
	whole := func() *layout.Map { return lay }
	r.Roster = roster.New(roster.Host{Slots: r.Slots, Layout: whole, Now: time.Now, Alive: alive, Freeze: func(why error) { r.Frozen = why }, Say: say,
		Forget: func(m *member.Member) { r.Tables.Forget(m) }}, rec)
	judge := member.NewJudge(member.Limits{}, r.Roster, new(atomic.Int64))
	for slot, e := range rec.Roster {
		place, err := record.PlaceFor(disks[slot].Size(), e.DataSize)
		require.NoError(t, err)
		r.Slots.Put(member.New(judge, member.Known{Slot: slot, Disk: disks[slot], Identity: e.ID, Place: place, Condition: e.Condition}))
	}
	r.Tables = table.New(table.Host{Slots: r.Slots, Roster: r.Roster, Say: say, Missed: func(*member.Member, error) {}, Wrote: new(atomic.Int64)}, 0)
	r.Journal = journal.New(journal.Host{Slots: r.Slots, Tables: r.Tables, Fan: &member.Fan{}, Roster: r.Roster, Layout: whole, Alive: alive,
		Freeze: func(why error) { r.Frozen = why }, Say: say, Covers: func() func(bool) { return func(bool) {} }, Idle: func() {},
		Emptied: func(*member.Member, int64, int64) {}, Counts: &r.Counts})
	r.Layout = lay
	r.Stripes = stripe.New(stripe.Host{Slots: r.Slots, Tables: r.Tables, Scratch: &buffer.Scratch{}, Layout: whole, Epoch: r.Roster.Epoch, Alive: alive, Counts: &stripe.Counts{}})
	if fresh {
		r.Anew()
		for _, m := range r.Slots.All() {
			require.NoError(t, r.Prepare(m))
		}
		require.NoError(t, r.Roster.Update(func(*record.Record) {}))
	} else {
		require.NoError(t, r.Roster.Begin())
	}
	t.Cleanup(r.Leave)
	return r
}

// Leave closes the files, as a crash would.
func (r *Rig) Leave() {
	for _, m := range r.Slots.All() {
		m.Released()
	}
}

// RecordOn is the record that a disk carries.
func (r *Rig) RecordOn(d disk.Disk) *record.Record {
	buf := make([]byte, record.Size)
	require.NoError(r.t, d.ReadAt(buf, 0))
	rec, err := record.Decode(buf)
	require.NoError(r.t, err)
	return rec
}

// Reopen opens the disk of a member that left.
func (r *Rig) Reopen(slot int) disk.Disk {
	r.Slots.At(slot).Released()
	d, err := disk.Open(r.path(slot))
	require.NoError(r.t, err)
	return d
}

func (r *Rig) path(slot int) string { return filepath.Join(r.dir, string(rune('a'+slot))) }

// Change is one block of some members at the same place, each filled with a byte.
func (r *Rig) Change(block int64, fill byte, slots ...int) *journal.Change {
	c := &journal.Change{}
	for _, slot := range slots {
		buf := slices.Repeat([]byte{fill}, record.Block)
		c.Writes = append(c.Writes, journal.Write{M: r.Slots.At(slot), Kind: record.RunPayload, Block: block, N: 1, Buf: buf, Sums: record.SumsOf(buf)})
	}
	return c
}

// Put commits a change, and brings it in place when that is wanted.
func (r *Rig) Put(c *journal.Change, place bool) {
	need := journal.Reservation{}
	for _, w := range c.Writes {
		need.Add(w.M, 2)
	}
	require.NoError(r.t, r.Reserve(need))
	defer r.Unreserve(need)
	r.Barrier.RLock()
	defer r.Barrier.RUnlock()
	require.NoError(r.t, r.Commit(c))
	if place {
		require.NoError(r.t, r.Place(c))
	}
}

// Write changes a whole column of a stripe: one block of each data strip, filled with fill + its role, and the parity.
func (r *Rig) Write(st layout.Stripe, col int, fill byte) *journal.Change {
	blocks := make([][]byte, st.Width())
	for role := range blocks {
		blocks[role] = slices.Repeat([]byte{fill + byte(role)}, record.Block)
	}
	parity.Encode(blocks[st.Data:], blocks[:st.Data])
	c := &journal.Change{}
	for role, buf := range blocks {
		m := r.Slots.At(st.Slot(role))
		c.Writes = append(c.Writes, journal.Write{M: m, Kind: record.RunPayload, Block: st.Block(m.Slot) + int64(col), N: 1, Buf: buf, Sums: record.SumsOf(buf)})
	}
	return c
}

// Holds reads a block of a member from its disk, past the tables.
func (r *Rig) Holds(slot int, block int64) []byte {
	buf := make([]byte, record.Block)
	require.NoError(r.t, r.Slots.At(slot).ReadData([][]byte{buf}, block))
	return buf
}
