// Package array is the RAID engine: it keeps the promises of the data path (docs/data-path.md) over a set of disks.
//
// This package is its front, and puts its rooms together (wiring.go); docs/architecture.md walks through them.
//
//	write.go      a write, from a client to the journals; flush, trim        update.go   what it means for the members of a stripe
//	read.go       from the cache or the members, verified                   extents.go  what was ever written
//	create.go     new arrays; opening them, to use or to look at
//	rescue.go     reading what is left when it cannot be started            readmit.go  bringing members that had left back in place
//	giveback.go   what is emptied is given back to the disks                places.go   what a place on a disk is for, and mending it
//	rest.go        disks that sleep
//	turn.go, ranges.go                                                      changes of layout, and what keeps clients apart from them
//	members.go, works.go, tasks.go, map.go, inspect.go                      the state of an array, and requests to it
//
// # Order of locks
//
// env.Rank states it once, and the crash machine checks every lock against it. A change of a stripe on the members holds the stripe's lock
// exclusively from the first read of old contents until all is in place. A change holds the barrier shared from its commit to the end of its
// writes in place; a checkpoint holds it exclusively while it decides how far the journal is done.
package array

import (
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/buffer"
	"nidalo/internal/array/dirty"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/stripe"
	"nidalo/internal/array/table"
	"nidalo/internal/array/task"
	"nidalo/internal/env"
)

// Block is the unit of checksums in bytes.
const Block = record.Block

var (
	// ErrFailed is wrapped by everything once more members are lost than the level survives, or the array had to stop
	// to keep what it has.
	ErrFailed = errors.New("the array has failed")
	// ErrUnreadable is wrapped by reads of blocks that redundancy could not restore.
	ErrUnreadable = errors.New("unreadable beyond redundancy")
	// ErrUnkept is returned by flushes when something written before has no place: its member is away, and what its parity
	// would be follows from blocks that are lost.
	ErrUnkept = errors.New("writes to a lost part of the array could not be kept")
	// ErrStopped is returned after Close.
	ErrStopped = errors.New("the array is stopped")
)

// Config is what the engine takes from outside.
type Config struct {
	// Cache bounds the dirty data in memory, bytes. 0 means DefaultCache.
	Cache int64
	// Tables bounds the pages of checksum tables and written maps in memory, bytes. 0 means DefaultTables.
	Tables int64
	// Now is the clock by which events and changes are dated; nil means that of env. How long things take goes by env alone.
	Now func() time.Time
	// KeepEmptied leaves blocks that became never-written on the members, instead of giving them back.
	KeepEmptied bool
	// MovePiece is how much a change of layout moves at once, in bytes; 0 means the usual. For tests.
	MovePiece int64
	// Limits is when what a member does counts against it; zero fields mean DefaultLimits.
	Limits member.Limits
	// Turns decides when tasks may run; nil means at once.
	Turns Turns
	// Agree is asked before a roster of a new epoch is written to any member, and before the first write of a start. When it fails the array
	// stops, and nothing of that roster was written. since is the state of the newest roster that all its members have; zero after a start.
	// Without Agree nobody else has a say. It must not call the array.
	Agree func(rec *record.Record, since record.State) error
	// Writer is the host that uses the array, as it stands in its records: record.WriterOf. 0: not known.
	Writer uint64
	// Event is told what happens to the array and its members; nil means that nothing listens. It must not call back.
	Event func(Event)
}

// Defaults of Config.
const (
	DefaultCache  = 128 << 20
	DefaultTables = 24 << 20
)

// Event is something that happened.
type Event struct {
	event.Event
	Task *task.State // the task that ended, with its figures; nil when the event tells of something else
}

// Array is a running array.
type Array struct {
	looking bool     // see Look
	rescue  *rescued // nil unless the array is only read, as far as it can be
	cfg     Config
	layout  atomic.Pointer[layout.Map]
	ranges  ranges
	ahead   int64 // at a start: how far a batch took a change of layout beyond what the record has; else 0

	name    atomic.Pointer[string]
	roster  *roster.Roster
	slots   *member.Slots
	cache   *dirty.Cache
	scratch buffer.Scratch
	tables  *table.Tables
	stripes *stripe.Stripes
	journal *journal.Journal

	frozen atomic.Pointer[error] // why nothing may be written any more

	anybody Client // of writes through the Array itself

	judge    *member.Judge
	emptied  emptied
	fan      member.Fan
	working  member.Fan   // of what changes mean: how soon a stripe is worked out
	reading  member.Fan   // of long reads
	readers  atomic.Int64 // long reads under way
	reckoned atomic.Int64 // long reads of which something was computed
	joints   joints
	tasks    *task.List
	works    *task.Works
	pace     atomic.Pointer[task.Pace]
	stats    Stats
	mending  mending
	resting  resting
	stop     chan struct{}
	workers  env.Group
	behind   atomic.Int64 // blocks on their way into place behind flushes
	closing  env.Once
}

// Stats counts what the engine did since it was opened. All fields are read and written atomically.
type Stats struct {
	GivenBack    atomic.Int64 // bytes that became never-written and were given back to the disks
	Joined       atomic.Int64 // flushes that went with another
	Stripes      stripe.Counts
	Replayed     atomic.Int64 // batches replayed at the start
	Journal      journal.Counts
	InPlace      atomic.Int64 // bytes of data and parity written in place
	TableBytes   atomic.Int64 // bytes of table pages written
	FullStripes  atomic.Int64
	PartialRuns  atomic.Int64
	BytesRead    atomic.Int64 // by clients
	BytesWritten atomic.Int64
}

// Stats gives access to the counters.
func (a *Array) Stats() *Stats { return &a.stats }

// Layout is the current map of the array. A request loads it once, when it holds what it is about, and keeps it.
func (a *Array) Layout() *layout.Map { return a.layout.Load() }

// Capacity is the usable capacity in bytes.
func (a *Array) Capacity() int64 { return a.Layout().Capacity() }

func (a *Array) now() time.Time {
	if a.cfg.Now != nil {
		return a.cfg.Now()
	}
	return env.Now()
}

func (a *Array) event(kind event.Kind, disk, format string, args ...any) {
	a.tell(Event{Event: event.Event{Kind: kind, Disk: disk, Detail: fmt.Sprintf(format, args...)}})
}

// tell passes an event on, if anybody listens.
func (a *Array) tell(e Event) {
	if a.cfg.Event != nil {
		e.Time, e.Array = a.now(), a.Name()
		a.cfg.Event(e)
	}
}

// freeze stops all writing: from here on the members keep the state from which a start can recover.
func (a *Array) freeze(err error) {
	if a.frozen.CompareAndSwap(nil, &err) {
		a.cache.Wake()
		if errors.Is(err, ErrStopped) {
			return
		}
		a.event(event.ArrayFailed, "", "%v", err)
	}
}

// fail is freeze for an array that has failed.
func (a *Array) fail(why error) { a.freeze(fmt.Errorf("%w: %w", ErrFailed, why)) }

// say is event for a text that is made.
func (a *Array) say(kind event.Kind, disk, text string) { a.event(kind, disk, "%s", text) }

func (a *Array) alive() error {
	if err := a.frozen.Load(); err != nil {
		return *err
	}
	return nil
}

// Close flushes, empties the journal and lets the members go. The array is unusable afterwards, also on error.
func (a *Array) Close() error {
	err := ErrStopped
	a.closing.Do(func() {
		if a.looking {
			err = nil
			a.letGo()
			return
		}
		a.resting.end()
		a.tasks.StopAll()
		err = a.Flush()
		close(a.stop)
		a.workers.Wait()
		a.placed()
		if err == nil {
			for _, m := range a.slots.All() {
				m.Wake()
			}
			err = a.journal.Checkpoint()
		}
		if err == nil {
			a.giveBack(a.emptied.due())
			err = a.roster.Update(func(r *record.Record) { r.Clean = true })
		}
		a.letGo()
	})
	return err
}

// Abandon lets the members go without writing anything more, as a crash would. For tests and for disks that are gone.
func (a *Array) Abandon() {
	a.closing.Do(func() {
		a.freeze(ErrStopped)
		a.resting.end()
		a.tasks.StopAll()
		close(a.stop)
		a.workers.Wait()
		a.placed()
		a.letGo()
	})
}

// placed waits for the writes in place that go on behind flushes, which hold the barrier, but not for long: a disk may hang.
func (a *Array) placed() {
	done := make(chan struct{})
	env.Go(func() {
		a.journal.Barrier.Lock()
		defer a.journal.Barrier.Unlock()
		close(done)
	})
	env.Wait(member.ReleaseWait, done)
}

// letGo closes all disks, and returns when they are, but for those that hang.
func (a *Array) letGo() {
	a.freeze(ErrStopped)
	all := append(a.slots.Copies(), a.slots.All()...)
	for _, m := range all {
		m.Release()
	}
	for _, m := range all {
		m.Released()
	}
}

// start runs the background workers.
func (a *Array) start() {
	for range env.Workers() {
		a.workers.Go(a.destageLoop)
	}
	a.workers.Go(func() { a.journal.Run(a.stop) })
	a.workers.Go(func() { a.judge.Watch(a.stop) })
	a.workers.Go(a.giveBackLoop)
	a.workers.Go(func() { a.judge.Compare(a.stop, a.peers) })
}

// peers are the members among which reads and writes are spread evenly: in a guarded set those with parity alone.
func (a *Array) peers() []*member.Member {
	lay := a.Layout()
	return slices.DeleteFunc(a.slots.All(), func(m *member.Member) bool {
		_, data := lay.Volume(m.Slot)
		return data
	})
}
