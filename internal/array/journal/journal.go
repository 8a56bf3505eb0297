// Package journal makes a change of several members one change, and says when what it holds is in place: batches, group commit,
// checkpoints, and what a start finds.
package journal

import (
	"errors"
	"fmt"
	"iter"
	"slices"
	"sync/atomic"
	"time"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/table"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Journal makes a change of several members one change. Each member has a ring of its own and journals only its own
// blocks; a batch is one entry on each member it touches. It is committed once every entry is durable, and only then do
// its blocks go in place. docs/data-path.md shows why that leaves no hole: whichever members are lost, the entries of
// the others bring their blocks to the new state, and what the lost ones would hold follows from the code.
type Journal struct {
	host Host
	// Barrier: see env.RankBarrier.
	Barrier env.RWMutex
	leading env.Mutex        // one batch at a time begins
	flights [Overlap]*flight // those begun last, by their numbers; guarded by leading
	mu      env.Mutex        // queue and ring accounts
	freed   *env.Cond        // of mu: a reservation or ring space came free
	queue   []*Change
	batch   uint64 // the last batch begun
	sure    uint64 // the last batch committed
	ckpt    env.Mutex
	passes  atomic.Uint64         // checkpoints begun
	passed  uint64                // the last one begun that was done without error; guarded by ckpt
	number  atomic.Uint64         // the last checkpoint's: pages carry it
	settled atomic.Uint64         // the last batch that a finished checkpoint covers: what the head of a disk that joins may claim
	trouble atomic.Pointer[error] // why the last checkpoint failed, or nil
	full    chan struct{}         // some ring is half full
}

// Host is what the journal takes from outside.
type Host struct {
	Slots   *member.Slots
	Tables  *table.Tables
	Fan     *member.Fan
	Roster  Roster
	Layout  func() *layout.Map
	Alive   func() error                             // why nothing may be written any more, or nil
	Freeze  func(why error)                          // nothing more may be written
	Say     func(kind event.Kind, disk, text string) // tells what happened to a disk, or to the array
	Covers  func() (covered func(durable bool))      // a checkpoint begins, with the barrier held; it ends by calling what is returned
	Emptied func(m *member.Member, block, n int64)   // blocks became never-written
	Idle    func()                                   // nothing was written for a while
	Counts  *Counts
}

// Counts is what the journal counts.
type Counts struct{ Bytes, Checkpoints atomic.Int64 }

// Roster is what the journal asks of the roster of the array.
type Roster interface {
	// Settle returns when the roster on the members names every member that is out.
	Settle()
	// Unsettled says whether a member is out that it does not name.
	Unsettled() bool
	// Marks says whether there is anything to be marked: a member is away.
	Marks() bool
	// Mark notes, durably, that some stripes change, by their ordinals. owed are slots whose own data changes without them, each with a
	// stripe. It says whether that had to be written.
	Mark(stripes iter.Seq[int64], owed iter.Seq2[int, int64]) (wrote bool, err error)
	Starts() uint64
	// Begin counts a start, for numbers of checkpoints that no page has.
	Begin() error
}

// Write is one run of a change.
type Write struct {
	M     *member.Member
	Kind  record.RunKind
	Block int64
	N     int
	Buf   []byte   // new contents, for RunPayload and RunInPlace
	Sums  []uint32 // of buf
	Hole  bool     // some of the blocks were never written: a file may have no room for them yet
}

// Change is what one destage commits.
type Change struct {
	Writes []Write
	Owed   []Owed  // beside what follows from the writes
	Moved  int64   // how far it takes a change of layout, of which all members are told; 0: it is no part of one
	flight *flight // the batch it is in
}

// New makes the journal of an array.
func New(host Host) *Journal {
	j := &Journal{host: host, full: make(chan struct{}, 1)}
	env.Ranked(&j.Barrier, env.RankBarrier)
	env.Ranked(&j.leading, env.RankLeader)
	env.Ranked(&j.ckpt, env.RankPass)
	j.freed = env.NewCond(&j.mu)
	return j
}

// Checkpoint moves the start of the live part of all journals up to now: what they hold is in place and durable, and so
// are the checksum pages that go with it.
func (j *Journal) Checkpoint() error { return j.checkpointSince(j.passes.Load()) }

// checkpointSince makes a checkpoint unless one that began after pass is done by the time it could begin.
func (j *Journal) checkpointSince(pass uint64) error {
	j.ckpt.Lock()
	defer j.ckpt.Unlock()
	if err := j.host.Alive(); err != nil {
		return err
	}
	if j.passed > pass {
		return nil
	}
	this := j.passes.Add(1)
	j.host.Counts.Checkpoints.Add(1)
	err := j.makeCheckpoint()
	switch was := j.trouble.Load(); {
	case err == nil:
		j.passed = this
		if was != nil {
			j.host.Say(event.CheckpointRecovered, "", "the journals are emptied again")
			j.trouble.Store(nil)
		}
	case j.host.Alive() == nil:
		j.trouble.Store(&err)
		if was == nil {
			j.host.Say(event.CheckpointFailed, "", err.Error()+"; nothing is lost, because flushed data stays in the journals until there is room")
		}
	}
	return err
}

// Trouble is why the journals cannot be emptied at the moment, or nil. Nothing that was flushed is lost by it.
func (j *Journal) Trouble() error {
	if err := j.trouble.Load(); err != nil {
		return *err
	}
	return nil
}

// makeCheckpoint makes a checkpoint, step by step. A page is clean only when it was written and synced, and a head is written
// only after everything it relies on is durable. After an error the pages stay dirty and the heads where they were, and the
// next checkpoint does all of it again, under another number.
//
//	1  note the dirty pages, the last batch and the rings, with the barrier held: nothing is between commit and place then,
//	   so the pages and the writes issued so far stand for exactly the batches up to that one
//	2  write the checksum pages, sync       a crash leaves newer sums than the heads say; replay enters the same again
//	3  write the map pages, sync            after the pages they speak of: a start never reads a page that was not written
//	4  write the witnesses of both, sync    after what they speak of: they never say more than is there. A crash before leaves
//	                                        pages that are newer than their witnesses, which accuses no member
//	5  write the heads, sync                any one head is enough to say that everything is in place
//	6  use the space in the rings again     only now that no start goes back to it
func (j *Journal) makeCheckpoint() error {
	number, err := j.nextCheckpoint()
	if err != nil {
		return err
	}
	c, err := j.begin()
	if err != nil {
		return err
	}
	defer func() { c.covered(c.durable) }()
	defer func() { j.host.Tables.Release(c.sums, c.maps, c.seen) }()
	if probe.MapsBeforeSums.On() {
		c.sums, c.maps = c.maps, c.sums
	}
	if err := j.settle(c.sums, number, true); err != nil {
		return err
	}
	if err := j.settle(c.maps, number, false); err != nil {
		return err
	}
	c.seen = j.host.Tables.Testimonies(slices.Concat(c.sums, c.maps), c.seen)
	if err := j.settle(c.seen, number, false); err != nil {
		return err
	}
	if err := member.Parallel(len(c.marks), func(i int) error {
		if k := c.marks[i]; k.m.Live() {
			return j.writeHead(k.m, c.batch+1, k.head, 0)
		}
		return nil
	}); err != nil {
		return err
	}
	if err := j.SyncAll(); err != nil {
		return err
	}
	j.end(c)
	return nil
}

// checkpoint is what is to be made durable by one.
type checkpoint struct {
	batch            uint64 // the last that it covers
	marks            []mark
	sums, maps, seen []*table.DirtyPage
	covered          func(durable bool)
	durable          bool
}

// mark is how far a ring was when a checkpoint began.
type mark struct {
	m          *member.Member
	head, live int64
}

// begin is step 1 of a checkpoint.
func (j *Journal) begin() (*checkpoint, error) {
	j.Barrier.Lock()
	defer j.Barrier.Unlock()
	if err := j.host.Alive(); err != nil { // a batch that could not be written may have stopped the array: it counts, and is not in place
		return nil, err
	}
	c := &checkpoint{}
	c.sums, c.maps, c.seen = j.host.Tables.Snapshot()
	c.covered = j.host.Covers()
	j.mu.Lock()
	defer j.mu.Unlock()
	c.batch = j.batch
	for _, m := range j.host.Slots.All() {
		if m.Live() && !(m.Asleep() && m.Ring.Slept && m.Ring.Live == 0) { // else its head says that it sleeps, with nothing in its ring
			c.marks = append(c.marks, mark{m, m.Ring.Head, m.Ring.Live})
		}
	}
	return c, nil
}

// end is step 6.
func (j *Journal) end(c *checkpoint) {
	j.mu.Lock()
	for _, k := range c.marks {
		if k.m.Ring.Live -= k.live; k.m.Ring.Live > 0 {
			probe.CommitInCheckpoint.Seen()
		}
	}
	j.freed.Broadcast()
	j.mu.Unlock()
	j.settled.Store(c.batch)
	c.durable = true
}

// settle writes some pages and makes them durable; always: also what else was written when there are none.
func (j *Journal) settle(pages []*table.DirtyPage, number uint64, always bool) error {
	if probe.SumPagesNotWritten.On() && always {
		j.host.Tables.Clean(pages)
		return nil
	}
	if err := j.writePages(pages, number); err != nil {
		if probe.CleanAfterError.On() {
			j.host.Tables.Clean(pages)
		}
		return err
	}
	switch {
	case probe.HeadBeforeData.On():
	case probe.WitnessedTooEarly.On() && (always || len(pages) > 0 && pages[0].Kind() != record.WitnessPage):
	case always || len(pages) > 0:
		if err := j.SyncAll(); err != nil {
			return err
		}
	}
	j.host.Tables.Clean(pages)
	return nil
}

// nextCheckpoint is a number that no page was ever written under. The numbers of a start are many, but not without end.
func (j *Journal) nextCheckpoint() (uint64, error) {
	for {
		starts := j.host.Roster.Starts()
		n := max(j.number.Load()+1, record.FirstCheckpoint(starts))
		if n > record.LastCheckpoint(starts) {
			if err := j.host.Roster.Begin(); err != nil {
				return 0, err
			}
			continue
		}
		if was := j.number.Load(); was < n && j.number.CompareAndSwap(was, n) {
			return n, nil
		}
	}
}

// settleAfter is how long nothing may have been written before the journals are emptied, and settleLatest how long they
// may go without that while something is: a start then has little to replay, and a member that is pulled little to catch
// up.
const (
	settleAfter  = 3 * time.Second
	settleLatest = 60 * time.Second
)

// Run makes room before anybody has to wait for it: when a ring is half full, or half of the table pages in
// memory are changed. It also settles the journals when little is going on.
func (j *Journal) Run(stop <-chan struct{}) {
	var seen, settled uint64
	last := env.Now()
	for {
		switch env.Wait(settleAfter, stop, j.full) {
		case 0:
			return
		case -1:
			j.host.Idle()
			j.mu.Lock()
			batch := j.batch
			j.mu.Unlock()
			quiet := batch == seen
			seen = batch
			since := env.Since(last)
			if batch == settled || !quiet && since < settleLatest || since < restLatest && j.wouldWake() {
				continue
			}
			if last = env.Now(); j.Checkpoint() == nil {
				settled = batch
			}
		case 1:
			_ = j.Checkpoint() // it says itself what is wrong
		}
	}
}

// writePages writes pages, each member's in order, members at the same time.
func (j *Journal) writePages(pages []*table.DirtyPage, number uint64) error {
	var bounds []int
	for i := range pages {
		if i == 0 || pages[i].Member() != pages[i-1].Member() {
			bounds = append(bounds, i)
		}
	}
	bounds = append(bounds, len(pages))
	return member.Parallel(len(bounds)-1, func(i int) error {
		for _, d := range pages[bounds[i]:bounds[i+1]] {
			if err := j.host.Tables.Write(d, number); err != nil {
				return err
			}
		}
		return nil
	})
}

// writeHead writes the head that is not the newest; ring positions wrap to 0 at the end.
func (j *Journal) writeHead(m *member.Member, batch uint64, position int64, slept uint64) error {
	m.Ring.Sequence++
	m.Ring.Slept = slept != 0
	h := record.JournalHead{Sequence: m.Ring.Sequence, Batch: batch, Position: position % m.Ring.Blocks, Joined: m.Ring.Joined, Slept: slept}
	off := m.Place().JournalStart + int64(h.Sequence%record.JournalHeads)*record.Block
	if err := m.Disk.WriteAt(h.Encode(m.Tag), off); err != nil {
		return m.WriteProblem(err)
	}
	return nil
}

// SyncAll makes everything written to live members durable.
func (j *Journal) SyncAll() error {
	all := append(j.host.Slots.Copies(), j.host.Slots.All()...)
	return member.Parallel(len(all), func(i int) error {
		m := all[i]
		if !m.Live() {
			return nil
		}
		if err := m.Sync(); err != nil {
			return m.WriteProblem(err)
		}
		return nil
	})
}

// Empty writes both heads of a disk that is about to be a member, so that nothing in its ring counts. They claim only
// what a finished checkpoint covers: batches that were committed since are in the journals of the others and nowhere else,
// and a start believes the highest head there is.
func (j *Journal) Empty(m *member.Member) error {
	batch := j.settled.Load() + 1
	if probe.JoiningHeadClaims.On() {
		batch = j.batch + 1
	}
	m.Ring.Joined = batch
	for range record.JournalHeads {
		m.Ring.Sequence++
		h := record.JournalHead{Sequence: m.Ring.Sequence, Batch: batch, Joined: batch}
		if err := m.Disk.WriteAt(h.Encode(m.Tag), m.Place().JournalStart+int64(h.Sequence%record.JournalHeads)*record.Block); err != nil {
			return err
		}
	}
	m.Ring.Head, m.Ring.Live = 0, 0
	return m.Sync()
}

// Apart does something that no checkpoint is to come between.
func (j *Journal) Apart(do func() error) error {
	j.ckpt.Lock()
	defer j.ckpt.Unlock()
	return do()
}

// Between is Apart with a number that is as good as that of a checkpoint.
func (j *Journal) Between(do func(checkpoint uint64) error) error {
	return j.Apart(func() error {
		number, err := j.nextCheckpoint()
		if err != nil {
			return err
		}
		return do(number)
	})
}

// Prepare makes a disk an empty member but for its record: nothing written, nothing in the journal.
func (j *Journal) Prepare(m *member.Member) error {
	if err := m.Reserve(m.Place().JournalStart, m.Place().JournalSize); err != nil {
		return err
	}
	number, err := j.nextCheckpoint()
	if err != nil {
		return err
	}
	for s := range m.Place().All() {
		if err := blank(m, s, number); err != nil {
			return err
		}
	}
	return j.Empty(m)
}

// Blank writes the map of a segment in which nothing was ever written.
func (j *Journal) Blank(m *member.Member, s *record.Segment) error {
	number, err := j.nextCheckpoint()
	if err != nil {
		return err
	}
	return blank(m, s, number)
}

func blank(m *member.Member, s *record.Segment, checkpoint uint64) error {
	const chunk = 256
	begin := s.FirstMap()
	for first := int64(0); first < s.MapPages; first += chunk {
		n := min(chunk, s.MapPages-first)
		buf := make([]byte, n*record.Block)
		for i := range n {
			record.SealPage(buf[i*record.Block:(i+1)*record.Block], record.MapPage, m.Tag, begin+first+i, checkpoint)
		}
		if err := m.Disk.WriteAt(buf, s.MapStart+first*record.Block); err != nil {
			return err
		}
	}
	return nil
}

// Lose marks the blocks of some runs, ascending, as lost in the own tables of a disk that is away, on the disk.
func (j *Journal) Lose(m *member.Member, runs []record.Run, epoch uint64) error {
	lost := make([]record.Run, len(runs))
	for i, r := range runs {
		lost[i] = record.Run{Kind: record.RunLost, Start: r.Start, Count: r.Count}
	}
	return j.Note(m, lost, epoch)
}

// Note notes, durably, what some runs, ascending, mean for the tables of a disk that is not a member yet.
func (j *Journal) Note(m *member.Member, runs []record.Run, epoch uint64) error {
	if len(runs) == 0 {
		return nil
	}
	number, err := j.nextCheckpoint()
	if err != nil {
		return err
	}
	if err = j.host.Tables.Note(m, runs, epoch, number); errors.Is(err, table.ErrDamaged) {
		return fmt.Errorf("%w: %w", roster.ErrStale, err)
	}
	return err
}
