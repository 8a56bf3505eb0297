package task

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Beyond parity. As long as more members of a guarded set are lost than it has parity, no disk that is left tells where the lost ones had something. A blank disk that
// was filled then would say that they had nothing. So none takes a place, and one that is being filled waits. Members that come back catch up, see stripe/beyond.go.

// ErrPartial is wrapped when no disk can take the place of a lost member since too many others are lost.
var ErrPartial = errors.New("more members are lost than there are parity disks, so nothing tells what the disk should hold")

// errBeyond ends a piece of a rebuild that has to be done again.
var errBeyond = errors.New("a member was lost meanwhile")

// beyondSince says whether one of some blank members of a guarded set may have been filled as if others had had nothing, since an epoch.
func (w *Works) beyondSince(epoch uint64, all []*rebuilding) bool {
	return w.host.Layout().Volumes() != nil && !probe.FilledBeyond.On() && slices.ContainsFunc(all, func(r *rebuilding) bool { return r.m.Base == 0 }) &&
		(w.host.Roster.Epoch() != epoch || w.host.Roster.Partial())
}

// awaitOthers waits until a blank member of a guarded set can be filled.
func (w *Works) awaitOthers(t *Task, m *member.Member) error {
	const look = time.Second
	began, waiting := env.Now(), false
	for m.Base == 0 && w.host.Roster.Partial() && !probe.FilledBeyond.On() {
		if m.Condition() != record.Rebuilding {
			return fmt.Errorf("%s is %s", m.Name(), m.Condition())
		}
		if err := w.host.Alive(); err != nil {
			return err
		}
		if !waiting {
			probe.FillingWaits.Seen()
			t.become(state.TaskWaiting, "waits for a lost member to come back: without it nothing tells what the disk should hold")
			waiting = true
		}
		if !t.going() {
			break
		}
		env.Wait(look, t.cancel)
	}
	if !waiting {
		return nil
	}
	t.become(state.TaskRunning, "")
	t.rested(env.Since(began))
	return t.Point(0) // it may be paused or cancelled
}

// ErrRestorable is wrapped by GiveUp when nothing has to be given up.
var ErrRestorable = errors.New("what was on it can be restored")

// GiveUp puts a blank disk in the place of a lost data disk of a guarded set that nothing can restore any more: its volume is empty then. What the parity disks hold is of what the
// volume had, so it counts no more, and is worked out anew as soon as all other data disks are there. The disk belongs to the array when nil is returned.
func (w *Works) GiveUp(slot int, d disk.Disk) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	lay := w.host.Layout()
	if _, there := lay.Volume(slot); !there || w.host.Slots.At(slot).Live() {
		return fmt.Errorf("slot %d is no volume whose disk is lost", slot)
	}
	if !w.host.Roster.Partial() {
		return ErrRestorable
	}
	if w.tasks.Running(state.TaskCheck) {
		return errors.New("a consistency check is under way")
	}
	place, err := w.placeFor(slot, d)
	if err != nil {
		return err
	}
	old := w.host.Slots.At(slot)
	w.clearSlot(slot)
	m := member.New(w.host.Judge, member.Known{Slot: slot, Disk: d, Identity: env.NewID(), Place: place, Condition: record.Missing})
	if err := w.blank(m); err != nil {
		return err
	}
	_ = w.host.Flush() // clients are told what it could not keep
	parity, err := w.begin(m)
	if err != nil {
		return err
	}
	old.Release()
	probe.VolumeGivenUp.Seen()
	w.host.Say(event.VolumeGivenUp, m.Name(), fmt.Sprintf("the volume of slot %d is empty now: nothing was left to restore it from", slot))
	for _, p := range parity {
		w.resumeRebuild(p.Slot)
	}
	// The disk is a member: that pages are not witnessed yet is no reason to take it back.
	_ = w.seeAgainAround(&Task{}, slot, true)
	return nil
}

// begin makes a blank disk that is prepared the member of its slot, with clients kept away, and says which parity disks are to be filled anew.
func (w *Works) begin(m *member.Member) (parity []*member.Member, err error) {
	for _, p := range parityOf(w.host.Layout()) {
		if o := w.host.Slots.At(p); o.Live() && !probe.GivenUpParityKept.On() {
			w.clearSlot(p)
			parity = append(parity, o)
		}
	}
	release, err := w.still()
	if err == nil {
		err = w.host.Roster.Empty(m, parity)
		release()
	}
	if err != nil {
		for _, p := range parity {
			if p.Condition() == record.Rebuilding { // and was before
				w.resumeRebuild(p.Slot)
			}
		}
	}
	return parity, err
}

// keepOwn brings in place what a data disk that comes back has in its own journal, where nothing else tells what it should hold, and takes that
// out of what is left over. Batches that the others dropped never happened.
func (w *Works) keepOwn(m *member.Member, left *journal.Leftover) error {
	lay := w.host.Layout()
	if _, there := lay.Volume(m.Slot); !there || m.Base == 0 {
		return nil
	}
	own, known := w.ownJournal(m, left.Entries)
	left.Runs = without(left.Runs, known)
	blocks := slices.Sorted(maps.Keys(own))
	if len(blocks) == 0 {
		return nil
	}
	marked := func(yield func(int64) bool) {
		for _, block := range blocks {
			if st, _, ok := lay.On(m.Slot, block); ok && !yield(st.Ordinal()) {
				return
			}
		}
	}
	if _, err := w.host.Roster.Mark(marked, func(func(int, int64) bool) {}); err != nil {
		return err
	}
	if err := w.forsake(m, own, blocks); err != nil {
		return err
	}
	var runs []record.Run
	for _, block := range blocks {
		k := own[block]
		probe.OwnJournalKept.Seen()
		if runs = append(runs, k.Run); k.Kind != record.RunPayload {
			continue
		}
		buf := make([]byte, record.Block)
		if err := m.Disk.ReadAt(buf, m.Ring.Start+k.from*record.Block); err != nil {
			return err
		}
		if err := m.Disk.WriteAt(buf, m.Offset(block)); err != nil {
			return err
		}
	}
	if err := m.Sync(); err != nil {
		return err
	}
	return w.host.Journal.Note(m, runs, w.host.Roster.Epoch())
}

// forsake marks the parity that is here as lost where it may not be of what a data disk keeps: that disk may be the only one that got its last batches, as many as may be
// in flight. A parity disk that comes back later finds the change marked in the roster.
func (w *Works) forsake(m *member.Member, own map[int64]ownBlock, blocks []int64) error {
	if probe.NewsForParityKept.On() {
		return nil
	}
	var numbers []uint64
	for _, k := range own {
		numbers = append(numbers, k.batch)
	}
	slices.Sort(numbers)
	numbers = slices.Compact(numbers)
	first := numbers[max(0, len(numbers)-journal.Overlap)]
	for len(blocks) > 0 {
		st, _, _ := w.host.Layout().On(m.Slot, blocks[0])
		var cols []int
		for len(blocks) > 0 {
			here, col, _ := w.host.Layout().On(m.Slot, blocks[0])
			if here.ID() != st.ID() {
				break
			}
			if own[blocks[0]].batch >= first {
				cols = append(cols, col)
			}
			blocks = blocks[1:]
		}
		if err := w.loseParity(st, cols); err != nil {
			return err
		}
	}
	return nil
}

// loseParity marks the parity of some columns of a stripe as lost, on all members that have it.
func (w *Works) loseParity(st layout.Stripe, cols []int) error {
	if len(cols) == 0 {
		return nil
	}
	defer w.host.Stripes.Lock([]layout.ID{st.ID()}, true)()
	need := journal.Reservation{}
	for role := st.Data; role < st.Width(); role++ {
		if m := w.host.Slots.At(st.Slot(role)); m.Live() {
			need.Add(m, int64(len(cols))+4)
		}
	}
	if err := w.host.Journal.Reserve(need); err != nil {
		return err
	}
	defer w.host.Journal.Unreserve(need)
	w.host.Journal.Barrier.RLock()
	defer w.host.Journal.Barrier.RUnlock()
	var ch journal.Change
	for _, n := range need {
		if !n.M.Usable(st) { // its catch-up comes here later
			continue
		}
		for _, col := range cols {
			ch.Writes = append(ch.Writes, journal.Write{M: n.M, Kind: record.RunLost, Block: st.Block(n.M.Slot) + int64(col), N: 1})
		}
	}
	if len(ch.Writes) == 0 {
		return nil
	}
	probe.ParityForsakenLate.Seen()
	return w.bring(&ch)
}

// ownBlock is a block of a run in a journal.
type ownBlock struct {
	record.Run
	from  int64 // block of the ring with the contents
	batch uint64
}

// ownJournal is what the journal of a data disk has last of blocks that nothing else tells: own, of batches that happened; known, of all.
func (w *Works) ownJournal(m *member.Member, entries []*journal.Found) (own map[int64]ownBlock, known map[int64]bool) {
	lay, void := w.host.Layout(), w.host.Roster.Now().Roster[m.Slot].Void
	own, known = map[int64]ownBlock{}, map[int64]bool{}
	for _, e := range entries {
		at := e.Contents
		for _, run := range e.Runs {
			for i := range run.Count {
				block, from := run.Start+int64(i), at
				if run.Kind == record.RunPayload {
					at++
				}
				st, _, ok := lay.On(m.Slot, block)
				if !ok || w.host.Slots.Protects(st) || w.host.Roster.Owed(m.Slot, st) {
					continue
				}
				if known[block] = true; void != 0 && e.Batch >= void {
					continue
				}
				one := record.Run{Kind: run.Kind, Start: block, Count: 1}
				if len(run.Sums) > 0 {
					one.Sums = run.Sums[i : i+1]
				}
				own[block] = ownBlock{one, from, e.Batch}
			}
		}
	}
	return own, known
}

// without leaves some blocks out of runs.
func without(runs []record.Run, blocks map[int64]bool) (out []record.Run) {
	if len(blocks) == 0 {
		return runs
	}
	for _, r := range runs {
		for i := range r.Count {
			if b := r.Start + int64(i); !blocks[b] {
				out = append(out, record.Run{Kind: record.RunLost, Start: b, Count: 1})
			}
		}
	}
	return out
}
