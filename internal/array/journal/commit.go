package journal

import (
	"cmp"
	"fmt"
	"iter"
	"slices"

	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// How batches overlap.
//
// While one batch is synced the next is written: two are in flight at most, so a member that answers slowly is given work without
// a pause. What waits meanwhile is the third, and goes together. Four rules keep a crash simple:
//
//  1. Batches are committed in the order of their numbers: one whose entries are durable waits for the one before it. So a flush that
//     has returned needs its own batch and all older ones, and none that is newer.
//  2. Batches in flight never share a stripe, because a destage holds its stripes until they are in place. So which of them
//     happened can be decided one by one, and what a member lacks of one is computed from blocks that the other does not change.
//  3. Every entry names the last batch that was committed when it was written. A start knows from the highest name
//     it finds which batches must be there, and that those above may have been cut short.
//  4. What is above is completed or dropped in order: the first that cannot be completed was never committed, so
//     neither was any later one, and all of them are dropped.
//
// A crash between any two steps therefore leaves: nothing of n and n+1; parts of either; n whole and parts of n+1; or n+1 whole
// and parts of n, and then n is completed or both are dropped. No block of n+1 is in place before n is committed.
//
// A member's ring has the entries in the order of their numbers. When the power goes, the later of two may be whole and the
// earlier not even have a header. A walk along the ring then looks on for as far as a batch with a follower may be long
// (longestOverlapped); a larger batch is not overlapped.
//
// Rejected: commits in any order, where a start would have to tell one that was never committed from one that lost more members than the
// level survives, and could not. Rejected: more than two in flight; a third finds no disk idle, and makes batches smaller.
// Rejected: a mark on disk for each commit, which costs a write and a sync that nothing else needs.

// Overlap is how many batches may be in flight.
const Overlap = member.Headers

// longestOverlapped is how many blocks a member's share of a batch may have for the next one to begin before it is committed. A start looks as far
// on every member, so it is small: what is larger takes its time on the disks, not on the way there.
const longestOverlapped = 256

// Reservation is room in the rings of some members, each once.
type Reservation []Need

// Need is room in the ring of one member, in blocks.
type Need struct {
	M      *member.Member
	Blocks int64
}

// Add adds blocks for a member.
func (r *Reservation) Add(m *member.Member, blocks int64) {
	for i := range *r {
		if (*r)[i].M == m {
			(*r)[i].Blocks += blocks
			return
		}
	}
	*r = append(*r, Need{m, blocks})
}

// Reserve waits until every ring has room for the given number of blocks, making room by checkpoints.
func (j *Journal) Reserve(need Reservation) error {
	for {
		if err := j.host.Alive(); err != nil {
			return err
		}
		pass := j.passes.Load()
		j.mu.Lock()
		pages, most := j.host.Tables.DirtyPages()
		fits, others, half := pages < most, false, pages > most/2
		for _, x := range need {
			m, n := x.M, x.Blocks
			// An entry that does not fit before the end starts at 0, so up to its own length is wasted.
			half = half || m.Ring.Live > m.Ring.Blocks/2
			if m.Ring.Live+m.Ring.Reserved+2*n > m.Ring.Blocks {
				fits = false
				others = others || m.Ring.Reserved > 0
				if 2*n > m.Ring.Blocks {
					j.mu.Unlock()
					return fmt.Errorf("journal of %s: %d blocks are too few for a change of %d", m.Name(), m.Ring.Blocks, n)
				}
			}
		}
		if fits {
			for _, x := range need {
				x.M.Ring.Reserved += 2 * x.Blocks
			}
			j.mu.Unlock()
			if half {
				select {
				case j.full <- struct{}{}:
				default:
				}
			}
			return nil
		}
		j.mu.Unlock()
		probe.JournalFull.Seen()
		if err := j.checkpointSince(pass); err != nil {
			return err
		}
		if others {
			j.mu.Lock()
			if stillShort(need) {
				j.freed.Wait()
			}
			j.mu.Unlock()
		}
	}
}

func stillShort(need Reservation) bool {
	short, held := false, false
	for _, x := range need {
		if ring := &x.M.Ring; ring.Live+ring.Reserved+2*x.Blocks > ring.Blocks {
			short = true
			held = held || ring.Reserved > 0
		}
	}
	return short && held
}

// Unreserve gives room back that Reserve found.
func (j *Journal) Unreserve(need Reservation) {
	j.mu.Lock()
	for _, x := range need {
		x.M.Ring.Reserved -= 2 * x.Blocks
	}
	j.freed.Broadcast()
	j.mu.Unlock()
}

// flight is a batch on its way to the journals.
type flight struct {
	number uint64
	parts  []part
	errs   []error // of writing them; only its writer looks at them
	group  []*Change
	before *flight       // the batch before, as long as it is in flight
	over   chan struct{} // is closed when the batch is committed, or will not be
	err    error         // why not
}

// part is one member's share of a batch.
type part struct {
	m       *member.Member
	entry   record.JournalEntry
	payload [][]byte
	at      int64 // block of the ring
}

// commit makes a change durable in the journals, together with all others that are waiting. On return without error the
// change happens whatever comes.
func (j *Journal) commit(c *Change) error {
	j.mu.Lock()
	j.queue = append(j.queue, c)
	j.mu.Unlock()
	if j.lead(c) {
		c.flight.err = j.write(c.flight)
		close(c.flight.over)
		return c.flight.err
	}
	env.Recv(c.flight.over)
	return c.flight.err
}

// lead puts everything that waits into a batch, unless another caller did so with this change, and says whether there is one to be
// written.
func (j *Journal) lead(c *Change) bool {
	j.leading.Lock()
	defer j.leading.Unlock()
	if c.flight != nil {
		return false
	}
	number := j.batch + 1 // only a leader raises it
	oldest, before := j.flights[number%Overlap], j.flights[(number-1)%Overlap]
	f := &flight{number: number, before: before, over: make(chan struct{})}
	if oldest != nil {
		env.Recv(oldest.over)
		f.parts, f.errs = oldest.parts[:0], oldest.errs[:0]
		oldest.parts, oldest.errs = nil, nil
	}
	if before != nil && before.long() {
		env.Recv(before.over)
	}
	j.mu.Lock()
	f.group, j.queue = j.queue, nil
	j.mu.Unlock()
	if len(f.group) > 1 {
		probe.GroupCommit.Seen()
	}
	for _, c := range f.group {
		c.flight = f
	}
	if f.err = j.takers(f); f.err != nil || len(f.parts) == 0 {
		close(f.over)
		return false
	}
	j.enlist(f)
	j.flights[number%Overlap] = f
	return true
}

// long says whether the next batch has to wait for this one.
func (f *flight) long() bool {
	return slices.ContainsFunc(f.parts, func(p part) bool { return p.entry.HeaderBlocks()+p.entry.Payload() > longestOverlapped })
}

// takers finds the members that take part in a batch, each with its share. A batch that leaves a member out must not be on the others
// before the roster that says so: a start would take the member for current. One that drops out from here on is named in the batch, and
// known to lack it. And what the batch changes is marked by then, for those that are away.
func (j *Journal) takers(f *flight) error {
	for sure := false; !sure; {
		if err := j.host.Alive(); err != nil {
			return err
		}
		j.host.Roster.Settle()
		j.forsake(f.group)
		f.gather(j.host.Slots)
		if j.host.Roster.Unsettled() && j.host.Alive() == nil {
			continue
		}
		if !j.host.Roster.Marks() {
			break
		}
		wrote, err := j.host.Roster.Mark(j.stripes(f.group), j.owed(f.group))
		if err != nil {
			return err
		}
		sure = !wrote
	}
	if len(f.parts) == 0 && !probe.EmptyBatchReached.On() {
		return j.host.Alive() // the members that it concerns have all left; if the last of them has just failed, so has the array
	}
	return nil
}

// gather sorts the writes of several changes by member, leaving out members that are no longer live.
func (f *flight) gather(slots *member.Slots) {
	parts := f.parts[:0]
	of := func(m *member.Member) *part {
		i := slices.IndexFunc(parts, func(p part) bool { return p.m == m })
		if i < 0 {
			i = len(parts)
			parts = slices.Grow(parts, 1)[:i+1]
			parts[i] = part{m: m, payload: parts[i].payload[:0], entry: record.JournalEntry{Runs: parts[i].entry.Runs[:0]}}
		}
		return &parts[i]
	}
	for _, c := range f.group {
		if c.Moved > 0 {
			for _, m := range slots.All() {
				if m.Live() {
					of(m) // a start believes in a boundary when all tell of it
				}
			}
		}
		for _, w := range c.Writes {
			if !w.M.Live() {
				continue
			}
			p := of(w.M)
			p.entry.Runs = append(p.entry.Runs, record.Run{Kind: w.Kind, Start: w.Block, Count: w.N, Sums: w.Sums})
			if w.Kind == record.RunPayload {
				p.payload = append(p.payload, w.Buf[:w.N*record.Block])
			}
		}
	}
	slices.SortFunc(parts, func(x, y part) int { return cmp.Compare(x.m.Slot, y.m.Slot) })
	f.parts = parts
}

// stripes are the ordinals of those that some changes touch, each once or more.
func (j *Journal) stripes(group []*Change) iter.Seq[int64] {
	lay := j.host.Layout()
	return func(yield func(int64) bool) {
		for _, c := range group {
			for _, w := range c.Writes {
				if st, _, ok := lay.On(w.M.Slot, w.Block); ok && !yield(st.Ordinal()) {
					return
				}
			}
		}
	}
}

// enlist gives a batch its number, and each share its place in the ring.
func (j *Journal) enlist(f *flight) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.batch = f.number
	var involved uint64
	for i := range f.parts {
		involved |= 1 << f.parts[i].m.Slot
	}
	sure := j.sure
	if probe.NamesItselfCommitted.On() {
		sure = f.number - 1
	}
	if sure != f.number-1 {
		probe.BatchesOverlap.Seen()
	}
	boundary := int64(0)
	for _, c := range f.group {
		boundary = max(boundary, c.Moved)
	}
	for i := range f.parts {
		p := &f.parts[i]
		p.entry.Moved = boundary
		p.entry.Batch, p.entry.Sure, p.entry.Involved, p.entry.Slot = f.number, sure, involved, p.m.Slot
		p.at = p.m.Ring.Take(int64(p.entry.HeaderBlocks() + p.entry.Payload()))
	}
}

// write writes a batch to the journals, and returns when it is committed. Nothing may touch a block of it in place before. A crash in
// here leaves the batch on some members or on none; the start finishes it or drops it, as a whole.
func (j *Journal) write(f *flight) error {
	f.errs = slices.Grow(f.errs[:0], len(f.parts))[:len(f.parts)]
	clear(f.errs)
	bytes := 0
	for i := range f.parts {
		bytes += f.parts[i].entry.Payload() * record.Block
	}
	_ = j.host.Fan.Out(len(f.parts), bytes, func(i int) error {
		if f.errs[i] = j.writeEntry(&f.parts[i]); f.errs[i] == nil && !probe.EntryNotSynced.On() {
			f.errs[i] = f.parts[i].m.Sync()
		}
		return nil
	})
	for i, err := range f.errs {
		if member.NoRoom(err) {
			// Some members may hold this batch and others not; going on with a next one would tear it for good.
			j.host.Freeze(fmt.Errorf("the journal of %w; make space there and start the array again", err))
		} else if err != nil {
			_ = f.parts[i].m.WriteProblem(err)
		}
	}
	if f.before != nil && !probe.CommittedOutOfOrder.On() {
		env.Recv(f.before.over)
		f.before = nil
	}
	if slices.ContainsFunc(f.parts, func(p part) bool { return !p.m.Live() }) && !probe.LateLeaverNotMarked.On() {
		probe.BatchLacksMember.Seen()
		// One that just left may lack the batch, and only members that leave next may know of it.
		j.host.Roster.Settle()
		j.forsake(f.group)
		if _, err := j.host.Roster.Mark(j.stripes(f.group), j.owed(f.group)); err != nil {
			j.host.Freeze(fmt.Errorf("the roster could not be written: %w", err))
		}
	}
	err := j.host.Alive()
	if err == nil {
		j.mu.Lock()
		j.sure = f.number
		j.mu.Unlock()
	}
	f.group = nil
	return err
}

// writeEntry writes a member's share of a batch. It counts once it is synced, which is the caller's to do.
func (j *Journal) writeEntry(p *part) error {
	header := &p.m.Ring.Headers[p.entry.Batch%Overlap]
	*header = p.entry.EncodeHeader(p.m.Tag, *header)
	bufs := make([][]byte, 1, 1+len(p.payload)) // its own: a disk that hangs may still have it
	bufs[0] = *header
	bufs = append(bufs, p.payload...)
	j.host.Counts.Bytes.Add(int64(disk.Length(bufs)))
	return p.m.Write(bufs, p.m.Ring.Start+p.at*record.Block)
}
