// Package array is the RAID engine: it keeps the promises of the data path (docs/data-path.md) over a set of disks.
//
// # The rooms of the engine
//
//	array.go      the array as its users see it: read, write, flush, trim; open and close
//	roster.go     members, their conditions, and the record that says so on every one of them
//	create.go     new arrays, new members
//	cache.go      dirty blocks by stripe, bounded, until they are destaged
//	read.go       from the cache or the members, verified; the slow way when something is wrong
//	columns.go    the contents of one stripe over all roles: load, recover, heal
//	destage.go    dirty blocks of some stripes → parity → journal → in place
//	journal.go    batches, group commit, checkpoints
//	replay.go     what a start after a crash does with the journal
//	tables.go     checksum table and written map, paged
//	rebuild.go    filling a member that replaced another
//	check.go      the consistency check
//	retire.go     copying a member that works onto another disk
//	return.go     a member that was away catches up
//	tasks.go      long work: its turn, its state, its progress
//	pace.go       how hard it pushes
//	judge.go      errors, time-outs and slowness of members, and what follows
//	rescue.go     reading what is left of an array that cannot be started
//	readmit.go    bringing members that had left back in place, and starting it all the same
//	map.go        where data lives; inspect.go: what a disk carries
//
// # Order of locks
//
// stripe locks (ascending) → journal.barrier → journal.leading → roster → cache shards and pages. Whoever changes a
// stripe on the members holds its lock exclusively from the first read of old contents until all is in place. The
// barrier is held shared by whoever is between a commit and the end of its writes in place, and exclusively for the
// moment in which a checkpoint decides how far the journal is done.
package array

import (
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

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
	"nidalo/internal/probe"
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
	ErrUnkept = errors.New("what was written to a lost part of the array could not be kept")
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
	// Limits is when what a member does counts against it; zero fields mean DefaultLimits.
	Limits member.Limits
	// Turns decides when tasks may run; nil means at once.
	Turns Turns
	// Event is told what happens to the array and its members; nil means nobody wants to know. It must not call back.
	Event func(Event)
}

// Defaults of Config.
const (
	DefaultCache  = 128 << 20
	DefaultTables = 24 << 20
)

// Event is something that happened.
type Event struct {
	Time   time.Time `json:"time"`
	Kind   string    `json:"kind"`
	Array  string    `json:"array"`
	Disk   string    `json:"disk,omitempty"`
	Detail string    `json:"detail"`
	// Task is what ended, with its figures; nil when the event tells of something else.
	Task *task.State `json:"-"`
}

// Array is a running array.
type Array struct {
	looking bool    // see Look
	rescue  *rescue // nil unless the array is only read, as far as it can be
	cfg     Config
	layout  atomic.Pointer[layout.Map]

	name    atomic.Pointer[string]
	roster  *roster.Roster
	slots   *member.Slots
	cache   *dirty.Cache
	scratch buffer.Scratch
	tables  *table.Tables
	stripes *stripe.Stripes
	journal *journal.Journal

	frozen atomic.Pointer[error] // why nothing may be written any more

	anybody Client // who writes through the Array itself

	judge   *member.Judge
	emptied emptied
	fan     member.Fan
	tasks   *task.List
	works   *task.Works
	pace    atomic.Pointer[task.Pace]
	stats   Stats
	mending mending
	stop    chan struct{}
	workers env.Group
	closing env.Once
}

// Stats counts what the engine did since it was opened. All fields are read and written atomically.
type Stats struct {
	GivenBack    atomic.Int64 // bytes that became never-written and were given back to the disks
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

// Layout is the map of the array as it is now. Whoever needs it more than once for the same thing asks once.
func (a *Array) Layout() *layout.Map { return a.layout.Load() }

// Capacity is the usable capacity in bytes.
func (a *Array) Capacity() int64 { return a.Layout().Capacity() }

func (a *Array) now() time.Time {
	if a.cfg.Now != nil {
		return a.cfg.Now()
	}
	return env.Now()
}

func (a *Array) event(kind, disk, format string, args ...any) {
	if a.cfg.Event != nil {
		a.cfg.Event(Event{Time: a.now(), Kind: kind, Array: a.Name(), Disk: disk, Detail: fmt.Sprintf(format, args...)})
	}
}

// freeze stops all writing: from here on the members keep the state from which a start can recover.
func (a *Array) freeze(err error) {
	if a.frozen.CompareAndSwap(nil, &err) {
		a.cache.Wake()
		if errors.Is(err, ErrStopped) {
			return
		}
		a.event("array-failed", "", "%v", err)
	}
}

// fail is freeze for an array that has failed.
func (a *Array) fail(why error) { a.freeze(fmt.Errorf("%w: %w", ErrFailed, why)) }

// say is event for a text that is made.
func (a *Array) say(kind, disk, text string) { a.event(kind, disk, "%s", text) }

func (a *Array) alive() error {
	if err := a.frozen.Load(); err != nil {
		return *err
	}
	return nil
}

// pieces cuts the range [off, off+len(p)) into strips and calls f for each in order.
func (a *Array) pieces(p []byte, off int64, f func(dirty.Piece) error) error {
	for lay := a.Layout(); len(p) > 0; {
		st, in := lay.Locate(off)
		role, from := int(in/st.Strip), in%st.Strip
		n := min(int64(len(p)), st.Strip-from)
		if err := f(dirty.Piece{Stripe: st, Role: role, From: from, Buf: p[:n]}); err != nil {
			return err
		}
		p, off = p[n:], off+n
	}
	return nil
}

// WriteAt, Receive, Zero, Flush and FlushRange act for one client that learns of every error, of its own writes and of others.
func (a *Array) WriteAt(p []byte, off int64) error { return a.anybody.WriteAt(p, off) }

// Receive is Client.Receive.
func (a *Array) Receive(off, length int64, fill func([]byte) error) error {
	return a.anybody.Receive(off, length, fill)
}

// Zero is Client.Zero.
func (a *Array) Zero(off, length int64) error { return a.anybody.Zero(off, length) }

// Flush is Client.Flush.
func (a *Array) Flush() error { return a.anybody.Flush() }

// FlushRange is Client.FlushRange.
func (a *Array) FlushRange(off, length int64) error { return a.anybody.FlushRange(off, length) }

func (a *Array) write(by *Client, p []byte, off int64) error {
	if err := a.Layout().Check(off, int64(len(p))); err != nil {
		return err
	}
	a.stats.BytesWritten.Add(int64(len(p)))
	return a.pieces(p, off, func(pc dirty.Piece) error {
		pc.By = by
		if n := int64(len(pc.Buf)); pc.From%Block != 0 || n%Block != 0 {
			return a.writePartBlocks(pc)
		}
		return a.cache.Put(pc)
	})
}

// ErrNotTaken is returned by Receive when it has not called fill, and the data must come by WriteAt.
var ErrNotTaken = errors.New("not taken")

func (a *Array) receive(by *Client, off, length int64, fill func([]byte) error) error {
	if off%Block != 0 || length%Block != 0 || a.Layout().Check(off, length) != nil || !a.cache.RoomNow(length) {
		return ErrNotTaken
	}
	a.stats.BytesWritten.Add(length)
	for lay := a.Layout(); length > 0; {
		st, in := lay.Locate(off)
		role, from := int(in/st.Strip), in%st.Strip
		n := min(length, st.Strip-from)
		pc := dirty.Piece{Stripe: st, Role: role, From: from, By: by}
		if err := a.cache.PutFrom(pc, int(n), fill); err != nil {
			return err
		}
		off, length = off+n, length-n
	}
	return nil
}

// writePartBlocks writes a piece whose ends are not on block boundaries: the blocks at the ends are read first. The
// stripe is held, so that what was read stays what the members hold until it is in the cache.
func (a *Array) writePartBlocks(pc dirty.Piece) error {
	if err := a.cache.Room(int64(len(pc.Buf)) + 2*Block); err != nil {
		return err
	}
	defer a.stripes.Lock([]layout.ID{pc.Stripe.ID()}, true)()
	start := pc.From &^ (Block - 1)
	end := (pc.From + int64(len(pc.Buf)) + Block - 1) &^ (Block - 1)
	whole := dirty.Piece{Stripe: pc.Stripe, Role: pc.Role, From: start, Buf: make([]byte, end-start), By: pc.By}
	err := a.readLocked(whole.Part(0, Block))
	if last := int64(len(whole.Buf)) - Block; err == nil && last > 0 {
		err = a.readLocked(whole.Part(last, Block))
	}
	if err != nil {
		return err
	}
	a.cache.Merge(whole, pc.Buf, pc.From-start)
	return nil
}

func (a *Array) flushRange(by *Client, off, length int64) error {
	if err := a.alive(); err != nil {
		return err
	}
	if length == 0 {
		return nil
	}
	var ids []layout.ID
	for lay, at := a.Layout(), off; at < off+length; {
		st, in := lay.Locate(at)
		if a.cache.Holds(st.ID()) {
			ids = append(ids, st.ID())
		}
		at += st.StripeSize() - in
	}
	return a.flush(by, ids)
}

func (a *Array) zero(by *Client, off, length int64) error {
	if err := a.Layout().Check(off, length); err != nil {
		return err
	}
	zeros := make([]byte, Block)
	if head := off % Block; head != 0 && length > 0 {
		n := min(Block-head, length)
		if err := a.write(by, zeros[:n], off); err != nil {
			return err
		}
		off, length = off+n, length-n
	}
	if tail := length % Block; tail != 0 {
		length -= tail
		if err := a.write(by, zeros[:tail], off+length); err != nil {
			return err
		}
	}
	lay := a.Layout()
	dirty := a.holdings(lay)
	for length > 0 {
		st, in := lay.Locate(off)
		n := min(length, st.StripeSize()-in)
		if n == st.StripeSize() {
			// Skip what was never written, so that trimming a large array costs what it holds.
			if next := dirty.next(st.Ordinal()); next > st.Ordinal() {
				n = min(length, lay.Offset(next)-off)
				off, length = off+n, length-n
				continue
			}
		}
		if err := a.cache.Zero(by, st, in, n); err != nil {
			return err
		}
		off, length = off+n, length-n
	}
	return nil
}

// holdings tells which stripes may hold anything. What is acknowledged is in the cache or in the tables, and goes from the
// one to the other at any moment, entering the tables before it leaves the cache: so the cache must be looked at first.
type holdings struct {
	a     *Array
	lay   *layout.Map
	dirty []int64 // ordinals, ascending: what the cache held
}

func (a *Array) holdings(lay *layout.Map) *holdings {
	return &holdings{a, lay, a.cache.Ordinals(lay)}
}

// next is the ordinal of the first stripe at or after one that may hold anything; the number of stripes when there is none.
func (h *holdings) next(number int64) int64 {
	if probe.TablesBeforeCache.On() {
		next := h.a.stripes.NextWritten(number)
		dirty := h.a.cache.Ordinals(h.lay)
		if i, _ := slices.BinarySearch(dirty, number); i < len(dirty) {
			next = min(next, dirty[i])
		}
		return next
	}
	i, _ := slices.BinarySearch(h.dirty, number)
	if h.dirty = h.dirty[i:]; len(h.dirty) > 0 && h.dirty[0] == number {
		return number
	}
	next := h.a.stripes.NextWritten(number)
	if len(h.dirty) > 0 {
		next = min(next, h.dirty[0])
	}
	return next
}

// Extent is a stretch of the array that was written, or never.
type Extent struct {
	Length  int64
	Written bool
}

// Extents describes [off, off+length) in order, at most limit of them; what it leaves out at the end is not described.
// Blocks count as written when they may hold anything but zeros.
func (a *Array) Extents(off, length int64, limit int) ([]Extent, error) {
	if err := a.Layout().Check(off, length); err != nil {
		return nil, err
	}
	var out []Extent
	add := func(n int64, written bool) bool {
		if len(out) > 0 && out[len(out)-1].Written == written {
			out[len(out)-1].Length += n
			return true
		}
		if len(out) == limit {
			return false
		}
		out = append(out, Extent{n, written})
		return true
	}
	lay := a.Layout()
	held := a.holdings(lay)
	for length > 0 {
		st, in := lay.Locate(off)
		if next := held.next(st.Ordinal()); next > st.Ordinal() {
			n := min(length, lay.Offset(next)-off)
			if !add(n, false) {
				return out, nil
			}
			off, length = off+n, length-n
			continue
		}
		n := min(length, st.StripeSize()-in)
		written, err := a.writtenBlocks(st)
		if err != nil {
			return nil, err
		}
		for left := n; left > 0; {
			step := min(left, Block-in%Block)
			if !add(step, written[in/Block]) {
				return out, nil
			}
			in, off, left, length = in+step, off+step, left-step, length-step
		}
	}
	return out, nil
}

// destageAll destages stripes that no client waits for. A client learns at its next flush what was given up of its writes.
func (a *Array) destageAll(ids []layout.ID) (err error) {
	for len(ids) > 0 {
		n := a.batchLength(ids)
		switch _, now := a.destage(ids[:n]); {
		case errors.Is(now, ErrUnkept):
			err = now
		case now != nil:
			return now
		}
		ids = ids[n:]
	}
	return err
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
		a.tasks.StopAll()
		err = a.Flush()
		close(a.stop)
		a.workers.Wait()
		if err == nil {
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
		a.tasks.StopAll()
		close(a.stop)
		a.workers.Wait()
		a.letGo()
	})
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
	a.workers.Go(func() { a.judge.Compare(a.stop, a.slots.All) })
}

// destageLoop writes out full stripes as they come, and others when they are old or memory is short.
func (a *Array) destageLoop() {
	for {
		if env.Wait(500*time.Millisecond, a.stop, a.cache.Work()) == 0 {
			return
		}
		for a.alive() == nil {
			ids := a.cache.Pick(env.Now())
			if len(ids) == 0 {
				break
			}
			if err := a.destageAll(ids); err != nil && !errors.Is(err, ErrUnkept) {
				a.cache.SetStuck(err)
				break
			}
			a.cache.SetStuck(nil)
		}
	}
}
