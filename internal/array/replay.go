package array

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/probe"
)

// found is one entry of a member's journal as it was found at the start.
type found struct {
	record.JournalEntry
	payload int64 // block of the ring at which the payload begins
	end     int64
}

// start is the block of the ring at which the entry begins.
func (f *found) start() int64 { return f.payload - int64(f.HeaderBlocks()) }

// scan is what one member's journal holds.
type scan struct {
	m       *member.Member
	head    record.JournalHead
	headOK  bool
	refuted bool  // its head claims what is not so
	budget  int64 // blocks that may still be read, see newScan
	entries map[uint64]*found
}

// newScan begins to look at a journal. What it holds may be damaged or forged, and entries that lie in each other could be
// read for hours: after a few times the length of the ring no more is.
func newScan(m *member.Member) *scan {
	return &scan{m: m, entries: map[uint64]*found{}, budget: scanTimes*m.Ring.Blocks + record.MaxEntryBlocks}
}

// scanTimes is how often a ring may be read in a scan. A search after a walk reads it twice.
const scanTimes = 4

// read reads blocks of the ring.
func (s *scan) read(buf []byte, at int64) bool {
	if s.budget -= int64(len(buf)) / Block; s.budget < 0 {
		return false
	}
	if err := s.m.Disk.ReadAt(buf, s.m.Ring.Start+at*Block); err != nil {
		s.m.ReadProblem(err)
		return false
	}
	return true
}

// replay finishes what a crash cut short, from the journals. Afterwards the members are consistent and the journals
// empty. It may itself be cut short at any point and started again.
//
//	1  read every journal from where its head says it begins, keeping only entries that are whole
//	2  drop batches that an old head still names but a newer one knows to be in place
//	3  bring each batch in place, in order. A member that is missing an entry the others say it should have either lost
//	   it to rot, or never got it because the batch was the last and the crash came first. Its blocks in the columns of
//	   the batch follow from the others, as long as no more are missing than the code can restore.
//	4  the last batch, if incomplete, is completed in the journals first: otherwise a second crash, with other members
//	   lost, could find it half in place and not know. If it cannot be completed it never happened.
//	5  a checkpoint, with batch numbers that leave no doubt about leftovers
func (a *Array) replay() error {
	scans, first, err := a.scanJournals()
	if err != nil {
		return err
	}
	numbers := batchNumbers(scans, first)
	last := first - 1
	for _, n := range numbers {
		if n != last+1 && a.rescue != nil {
			a.note("the journals lack batch %d: what was written just before the end may be missing", last+1)
		} else if n != last+1 {
			return fmt.Errorf("%w: the journals lack batch %d, although later ones are there: more members lost it than the level survives", ErrFailed, last+1)
		}
		last = n
	}
	a.journal.batch = last
	a.placeRings(scans, first, last)
	superseded := inPlaceRuns(scans)
	var heal []touched
	var mirrored []layout.Stripe // of members that are being copied
	var stripes []int64          // ordinals
	for _, n := range numbers {
		batch := a.gatherBatch(scans, n)
		if a.rescue != nil && (n != last || len(batch.lacking) == 0) {
			batch.usable = len(batch.entries) > 0
		}
		if !batch.usable {
			if n != last {
				return fmt.Errorf("%w: batch %d of the journals is damaged on more members than the level survives", ErrFailed, n)
			}
			a.dropped(batch)
			break
		}
		if n == last && len(batch.lacking) > 0 && !probe.IncompleteBatchReplayed.On() {
			whole, err := a.complete(scans, batch, first)
			if err != nil {
				return err
			}
			if !whole {
				a.dropped(batch)
				break
			}
			probe.LastBatchCompleted.Seen()
			if batch = a.gatherBatch(scans, n); !batch.usable || len(batch.lacking) > 0 {
				return a.aliveOr(fmt.Errorf("%w: the last batch of the journals could not be completed", ErrFailed))
			}
		}
		for _, m := range batch.lacking {
			probe.EntryRestored.Seen()
			a.event("journal-damaged", m.Name(), "its part of batch %d cannot be read; it is restored from the other members", n)
		}
		if err := a.replayBatch(batch, superseded); err != nil {
			return err
		}
		heal = append(heal, batch.lackingBlocks(a)...)
		for _, m := range a.slots.Copies() {
			for _, t := range batch.columns(a, []*member.Member{a.slots.At(m.Slot)}) {
				mirrored = append(mirrored, t.st)
			}
		}
		if !probe.ReplayNotMarked.On() {
			stripes = append(stripes, batch.unmarked(a)...)
		}
		a.stats.Replayed.Add(1)
	}
	if _, err := a.roster.Mark(slices.Values(stripes)); err != nil {
		return err
	}
	if err := a.journal.syncAll(); err != nil {
		return err
	}
	if a.rescue != nil {
		heal = nil
	}
	for _, t := range heal {
		if err := a.healColumns(t); err != nil {
			return err
		}
	}
	slices.SortFunc(mirrored, func(x, y layout.Stripe) int { return x.ID().Compare(y.ID()) })
	if !probe.CopyNotMended.On() {
		if err := a.remirror(slices.Compact(mirrored)); err != nil {
			return err
		}
	}
	a.journal.batch = last + restartGap
	if probe.NumbersBeginAgain.On() {
		a.journal.batch = first - 1
	}
	if len(numbers) > 0 {
		a.event("journal-replayed", "", "%d batches", len(numbers))
	}
	if err := a.journal.checkpoint(); err != nil {
		return err
	}
	if slices.ContainsFunc(scans, func(s *scan) bool { return s.refuted }) {
		return a.journal.checkpoint() // the head that claims too much is the other one of the two
	}
	return nil
}

// dropped reports that the last batch of the journals is given up.
func (a *Array) dropped(b batch) {
	names := make([]string, len(b.lacking))
	for i, m := range b.lacking {
		names[i] = m.Name()
	}
	text := fmt.Sprintf("the last batch of the journals (%d) is not on %s and cannot be completed, so it was given up", b.number, strings.Join(names, ", "))
	if a.rescue == nil {
		a.event("batch-dropped", "", "%s. A stop in the middle of writing leaves this, and then nothing of it had been flushed; but if that part of the journal was damaged later, what was flushed last may read as it was before", text)
		return
	}
	// Here it may well have been flushed. What it changed is not known then, and must not read as it was before.
	a.note("%s: what it changed cannot be read", text)
	for m, e := range b.entries {
		for _, r := range e.Runs {
			a.tables.Set(m, r.Start, r.Count, nil, record.SumLost)
		}
	}
	for _, t := range b.lackingBlocks(a) {
		for _, m := range b.lacking {
			if t.st.Has(m.Slot) && m.Usable(t.st) {
				a.tables.Set(m, t.st.Block(m.Slot)+int64(t.col), t.n, nil, record.SumLost)
			}
		}
	}
}

func (a *Array) aliveOr(err error) error {
	if alive := a.alive(); alive != nil {
		return alive
	}
	return err
}

// scanJournals reads all journals, members at the same time. first is the number of the first batch that may not be in
// place.
func (a *Array) scanJournals() (scans []*scan, first uint64, err error) {
	for i := range a.slots.Len() {
		if m := a.slots.At(i); m.Live() && !m.Stale {
			scans = append(scans, newScan(m))
		}
	}
	_ = member.Parallel(len(scans), func(i int) error {
		scans[i].readHeads()
		return nil
	})
	for _, s := range scans {
		if !s.headOK && s.m.Live() {
			a.event("journal-damaged", s.m.Name(), "no head of its journal can be read; all of it is searched")
		}
	}
	_ = member.Parallel(len(scans), func(i int) error {
		scans[i].walk()
		return nil
	})
	first = a.firstNeeded(scans)
	if err := a.alive(); err != nil {
		return nil, 0, err
	}
	// Where others say an entry should be that the walk did not reach, the chain was broken by a damaged entry: look at
	// every block of the ring.
	short := slices.DeleteFunc(slices.Clone(scans), func(s *scan) bool { return !s.lacks(scans, first) })
	_ = member.Parallel(len(short), func(i int) error {
		short[i].search()
		return nil
	})
	for _, s := range scans {
		if s.budget < 0 {
			a.event("journal-damaged", s.m.Name(), "its journal holds entries that lie in each other; the search in it was cut short")
		}
	}
	return slices.DeleteFunc(scans, func(s *scan) bool { return !s.m.Live() }), first, a.alive()
}

// firstNeeded is the highest batch that any head says is the first one needed: a head is written only after everything
// below it is in place on all members. A head that others do not share is what a crash leaves in the middle of writing the
// heads, and then nothing that they still hold was overwritten; so what it claims can be held against them. One that claims
// too much, because it is damaged or forged, would discard what was flushed: it is not believed.
func (a *Array) firstNeeded(scans []*scan) uint64 {
	for {
		first, second, newest := uint64(1), uint64(1), uint64(0)
		for _, s := range scans {
			for n := range s.entries {
				newest = max(newest, n)
			}
			switch h := s.head.Batch; {
			case !s.headOK || h == first:
			case h > first:
				first, second = h, first
			default:
				second = max(second, h)
			}
		}
		holders := slices.DeleteFunc(slices.Clone(scans), func(s *scan) bool { return !s.headOK || s.head.Batch != first })
		if !slices.ContainsFunc(scans, func(s *scan) bool { return s.headOK && s.head.Batch != first }) {
			return first
		}
		// What the holders have of the batches in question lies before where their heads point.
		for _, s := range holders {
			s.searchFrom(second)
			for n := range s.entries {
				newest = max(newest, n)
			}
		}
		if first <= max(newest+1, second)+restartGap*cutStarts && !a.contradicted(scans, second, first) {
			return first
		}
		for _, s := range holders {
			probe.HeadRefuted.Seen()
			a.event("journal-damaged", s.m.Name(), "the head of its journal claims that all before batch %d is in place, which is not so; all of the journal is searched", first)
			s.headOK, s.refuted = false, true
			s.head = record.JournalHead{}
		}
	}
}

// restartGap is by how much a start raises the number of the next batch, so that leftovers in the rings can never be taken
// for new entries.
const restartGap = 16

// cutStarts is how many starts in a row may have ended while they wrote the heads, each a gap further. A head beyond that is
// not one of ours.
const cutStarts = 64

// contradicted says whether batches from one on, below another, are not in place although a head says so: a checksum table
// then has another sum than the batch that changed the block last, or a later one, gave it. A batch that a start may have dropped
// says nothing: the last of all, or the last before the numbers that a start passed over.
func (a *Array) contradicted(scans []*scan, from, below uint64) bool {
	var dropped []uint64
	all := slices.DeleteFunc(batchNumbers(scans, from), func(n uint64) bool { return n >= below })
	for i, n := range all {
		if last := i == len(all)-1; (last || all[i+1] != n+1) && !a.surelyDone(a.gatherBatch(scans, n), last) {
			dropped = append(dropped, n)
		}
	}
	for _, s := range scans {
		// What an entry that it lost did to a block is not known.
		since := from
		for _, n := range batchNumbers(scans, from) {
			if s.lacksBatch(scans, n) {
				since = n + 1
			}
		}
		if since > below {
			continue
		}
		numbers := batchNumbers([]*scan{s}, max(since, s.m.Ring.Joined))
		may := map[int64][]uint32{}
		for _, n := range numbers {
			for _, r := range s.entries[n].Runs {
				for i := range r.Count {
					sum := record.SumNever
					switch {
					case r.Kind == record.RunLost:
						sum = record.SumLost
					case r.Kind != record.RunNever:
						sum = r.Sums[i]
					}
					b := r.Start + int64(i)
					if n < below && !slices.Contains(dropped, n) {
						may[b] = append(may[b][:0], sum)
					} else if len(may[b]) > 0 {
						may[b] = append(may[b], sum)
					}
				}
			}
		}
		for b, sums := range may {
			var now [1]uint32
			if a.tables.Sums(s.m, b, now[:]) != nil {
				break // it is on its way out
			}
			if !record.Unknown(now[0]) && !slices.Contains(sums, record.SumLost) && !slices.Contains(sums, now[0]) {
				return true
			}
		}
	}
	return false
}

// surelyDone says whether a start that found a batch as the last brought it in place. Of the one that is the last now it is known who
// lacks it; before an earlier start those may have lacked it who are away by now.
func (a *Array) surelyDone(b batch, last bool) bool {
	if !b.usable || len(b.lacking) > 0 {
		return false
	}
	for _, e := range b.entries {
		for slot := range a.slots.Len() {
			if !last && e.Involved>>slot&1 == 1 && !a.slots.At(slot).Live() {
				return false
			}
		}
	}
	return true
}

func (s *scan) readHeads() {
	for i := range int64(record.JournalHeads) {
		buf := make([]byte, Block)
		if err := s.m.Disk.ReadAt(buf, s.m.Place.JournalStart+i*Block); err != nil {
			s.m.ReadProblem(err)
			continue
		}
		h, err := record.DecodeJournalHead(buf, s.m.Tag, s.m.Ring.Blocks)
		if err == nil && (!s.headOK || h.Sequence > s.head.Sequence) {
			s.head, s.headOK = h, true
		}
	}
	s.m.Ring.Sequence, s.m.Ring.Joined = s.head.Sequence, s.head.Joined
}

// walk follows the chain of entries from the head.
func (s *scan) walk() {
	if !s.headOK {
		s.search()
		return
	}
	at, above := s.head.Position, s.head.Batch
	for {
		e := s.entryAt(at, above)
		if e == nil && at != 0 {
			e = s.entryAt(0, above) // the next one may not have fitted before the end
		}
		if e == nil {
			return
		}
		s.keep(e)
		at, above = e.end, e.Batch+1
	}
}

// search looks at every block of the ring for entries that its head does not exclude.
func (s *scan) search() { s.searchFrom(s.head.Batch) }

// searchFrom looks for entries of batches from one on.
func (s *scan) searchFrom(above uint64) {
	for at := int64(0); at < s.m.Ring.Blocks && s.budget >= 0; {
		e := s.entryAt(at, above)
		if e == nil {
			at++
			continue
		}
		s.keep(e)
		at = e.end
	}
}

// entryAt reads the header of an entry, or returns nil when there is none of a batch numbered at least above.
func (s *scan) entryAt(at int64, above uint64) *found {
	if at >= s.m.Ring.Blocks || !s.m.Live() {
		return nil
	}
	buf := make([]byte, Block)
	if !s.read(buf, at) {
		return nil
	}
	header, payload, err := record.EntrySize(buf, s.m.Tag)
	if err != nil || at+int64(header+payload) > s.m.Ring.Blocks {
		return nil
	}
	if header > 1 {
		buf = make([]byte, header*Block)
		if !s.read(buf, at) {
			return nil
		}
	}
	e, err := record.DecodeEntry(buf, s.m.Tag, s.m.Place.DataSize/Block)
	if err != nil || e.Batch < above || e.Slot != s.m.Slot {
		return nil
	}
	return &found{JournalEntry: *e, payload: at + int64(header), end: at + int64(header+payload)}
}

// keep takes an entry whose payload is whole.
func (s *scan) keep(e *found) {
	at := e.payload
	for _, r := range e.Runs {
		if r.Kind != record.RunPayload {
			continue
		}
		buf := make([]byte, r.Count*Block)
		if !s.read(buf, at) {
			return
		}
		for i, sum := range r.Sums {
			if record.Sum(buf[i*Block:][:Block]) != sum {
				return
			}
		}
		at += int64(r.Count)
	}
	s.entries[e.Batch] = e
}

func (s *scan) lacks(scans []*scan, first uint64) bool {
	return slices.ContainsFunc(batchNumbers(scans, first), func(n uint64) bool { return s.lacksBatch(scans, n) })
}

// lacksBatch says whether others tell of an entry that the member should have and has not.
func (s *scan) lacksBatch(scans []*scan, n uint64) bool {
	return s.entries[n] == nil && slices.ContainsFunc(scans, func(other *scan) bool {
		e := other.entries[n]
		return e != nil && e.Involved>>s.m.Slot&1 == 1
	})
}

func batchNumbers(scans []*scan, first uint64) []uint64 {
	var out []uint64
	for _, s := range scans {
		for n := range s.entries {
			if n >= first {
				out = append(out, n)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// placeRings sets where the next entry of each member goes: after the last one of the batches found. A ring without a readable head
// is live from the first entry that is needed: its member counts as lost for anything older. Others go by their own heads, since
// the one that knows better may be lost next.
func (a *Array) placeRings(scans []*scan, first, last uint64) {
	for _, s := range scans {
		at, from := s.head.Position, s.head.Position
		var newest uint64
		oldest := last + 1
		for n, e := range s.entries {
			if n >= newest && n <= last && (!s.headOK || n >= s.head.Batch) { // older ones lie behind the head: a search found them
				newest, at = n, e.end
			}
			if n >= first && n < oldest && !s.headOK {
				oldest, from = n, e.start()
			}
		}
		if !s.headOK && oldest > last {
			from = at
		}
		s.m.Ring.Head = at
		s.m.Ring.Live = min(s.m.Ring.Blocks, max(0, (at-from+s.m.Ring.Blocks)%s.m.Ring.Blocks))
	}
}

// inPlaceRuns collects, by member, the runs whose contents went in place without the journal. Older payload of the same
// blocks must not be put over them.
func inPlaceRuns(scans []*scan) map[*member.Member][]batchRun {
	out := map[*member.Member][]batchRun{}
	for _, s := range scans {
		for n, e := range s.entries {
			for _, r := range e.Runs {
				if r.Kind == record.RunInPlace {
					out[s.m] = append(out[s.m], batchRun{n, r.Start, r.Start + int64(r.Count)})
				}
			}
		}
		slices.SortFunc(out[s.m], func(x, y batchRun) int { return cmp.Compare(x.start, y.start) })
	}
	return out
}

type batchRun struct {
	batch      uint64
	start, end int64
}

// longest run of an entry: a strip.
func isSuperseded(runs []batchRun, batch uint64, block, longest int64) bool {
	i, _ := slices.BinarySearchFunc(runs, block-longest, func(r batchRun, b int64) int { return cmp.Compare(r.start, b) })
	for ; i < len(runs) && runs[i].start <= block; i++ {
		if runs[i].batch > batch && block < runs[i].end && !probe.OlderOverNewer.On() {
			return true
		}
	}
	return false
}

// batch is the entries of one batch.
type batch struct {
	number  uint64
	entries map[*member.Member]*found
	lacking []*member.Member // live, involved, without a whole entry
	usable  bool
}

// gatherBatch judges one batch.
func (a *Array) gatherBatch(scans []*scan, number uint64) batch {
	b := batch{number: number, entries: map[*member.Member]*found{}, usable: true}
	var involved uint64
	for _, s := range scans {
		if e := s.entries[number]; e != nil && s.m.Live() {
			b.entries[s.m] = e
			involved = e.Involved
		}
	}
	if len(b.entries) == 0 {
		b.usable = false
		return b
	}
	lost := make([]bool, a.slots.Len())
	for slot := range a.slots.Len() {
		m := a.slots.At(slot)
		switch {
		case !m.Live():
			lost[slot] = true
		case m.Stale:
			lost[slot] = true // what was on its way to it when it left is not trusted
		case involved>>slot&1 == 1 && b.entries[m] == nil:
			lost[slot] = true
			b.lacking = append(b.lacking, m)
		case m.Condition() == record.Rebuilding:
			lost[slot] = true
		}
	}
	b.usable = a.Layout().Survives(func(slot int) bool { return lost[slot] })
	return b
}

// touched is some columns of a stripe.
type touched struct {
	st     layout.Stripe
	col, n int
}

// unmarked lists the ordinals of the stripes of a batch that somebody who is away may lack without their being marked: he was to take part
// in it, and left meanwhile. A batch that was to be without him was marked before.
func (b batch) unmarked(a *Array) (stripes []int64) {
	var involved uint64
	for _, e := range b.entries {
		involved = e.Involved
	}
	lacks := false
	for slot := range a.slots.Len() {
		if involved>>slot&1 == 0 {
			continue
		}
		if a.rescue == nil {
			lacks = lacks || !a.slots.At(slot).Live()
		} else if own, away := a.rescue.batches[slot]; away {
			lacks = lacks || !own[b.number]
		}
	}
	for m, e := range b.entries {
		for _, r := range e.Runs {
			if st, _, ok := a.Layout().On(m.Slot, r.Start); ok && lacks {
				stripes = append(stripes, st.Ordinal())
			}
		}
	}
	return stripes
}

// columns lists the columns that the batch touches of stripes in which any of the given members has a strip.
func (b batch) columns(a *Array, of []*member.Member) []touched {
	lay := a.Layout()
	set := map[layout.Stripe]*layout.Columns{}
	for m, e := range b.entries {
		for _, r := range e.Runs {
			for block := r.Start; block < r.Start+int64(r.Count); block++ {
				st, col, ok := lay.On(m.Slot, block)
				if !ok || !slices.ContainsFunc(of, func(m *member.Member) bool { return st.Has(m.Slot) }) {
					continue
				}
				if set[st] == nil {
					set[st] = &layout.Columns{}
				}
				set[st].Add(col)
			}
		}
	}
	var out []touched
	for st, cols := range set {
		for col := range st.StripBlocks() {
			if !cols.Has(col) {
				continue
			}
			if l := len(out) - 1; l >= 0 && out[l].st == st && out[l].col+out[l].n == col {
				out[l].n++
			} else {
				out = append(out, touched{st, col, 1})
			}
		}
	}
	slices.SortFunc(out, func(x, y touched) int {
		return cmp.Or(x.st.ID().Compare(y.st.ID()), cmp.Compare(x.col, y.col))
	})
	return out
}

func (b batch) lackingBlocks(a *Array) []touched {
	if len(b.lacking) == 0 {
		return nil
	}
	return b.columns(a, b.lacking)
}

// replayBatch brings a batch in place.
func (a *Array) replayBatch(b batch, superseded map[*member.Member][]batchRun) error {
	members := make([]*member.Member, 0, len(b.entries))
	for m := range b.entries {
		members = append(members, m)
	}
	slices.SortFunc(members, func(x, y *member.Member) int { return cmp.Compare(x.Slot, y.Slot) })
	// What a lacking member holds in these columns may look sound and be old.
	for _, t := range b.lackingBlocks(a) {
		for _, m := range b.lacking {
			if t.st.Has(m.Slot) && m.Usable(t.st) && !probe.LackingTrusted.On() {
				a.tables.Set(m, t.st.Block(m.Slot)+int64(t.col), t.n, nil, record.SumLost)
			}
		}
	}
	return member.Parallel(len(members), func(i int) error {
		m := members[i]
		at := b.entries[m].payload
		for _, r := range b.entries[m].Runs {
			if r.Kind == record.RunPayload {
				if err := a.replayRun(m, b.number, r, at, superseded[m]); err != nil {
					return err
				}
				at += int64(r.Count)
			}
			a.tables.Enter(m, r.Kind, r.Start, r.Count, r.Sums)
		}
		return nil
	})
}

func (a *Array) replayRun(m *member.Member, number uint64, r record.Run, at int64, superseded []batchRun) error {
	buf := make([]byte, r.Count*Block)
	if err := m.Disk.ReadAt(buf, m.Ring.Start+at*Block); err != nil {
		// It was readable a moment ago. Its blocks are wrong now, and are healed when they are read.
		m.ReadProblem(err)
		return a.alive()
	}
	longest := int64(layout.MaxStrip / Block)
	for i := 0; i < r.Count; {
		if isSuperseded(superseded, number, r.Start+int64(i), longest) {
			i++
			continue
		}
		n := 1
		for i+n < r.Count && !isSuperseded(superseded, number, r.Start+int64(i+n), longest) {
			n++
		}
		if err := m.WriteData([][]byte{buf[i*Block : (i+n)*Block]}, r.Start+int64(i)); err != nil {
			return err
		}
		i += n
	}
	return nil
}

// complete writes the entries that the last batch lacks, computed from those it has, and makes them durable. It reports
// false, having written nothing, when they cannot be computed: because other blocks of those columns are damaged, while
// the entries that are lacking most likely never were. first is the number of the first batch that may not be in place.
func (a *Array) complete(scans []*scan, b batch, first uint64) (bool, error) {
	over := a.overrideFor(b)
	runs := map[*member.Member][]record.Run{}
	payload := map[*member.Member][][]byte{}
	for _, t := range b.columns(a, b.lacking) {
		c, err := a.loadColumns(t.st, t.col, t.n, func(slot int, block int64) (uint32, []byte, bool) {
			for _, m := range b.lacking {
				if m.Slot == slot {
					return record.SumLost, nil, true
				}
			}
			return over(slot, block)
		})
		if err != nil {
			return false, err
		}
		if err := c.recover(); err != nil {
			c.free()
			return false, err
		}
		for role, m := range c.roles {
			if m == nil || !slices.Contains(b.lacking, m) {
				continue
			}
			for col := range t.n {
				block := slices.Clone(c.bufs[role][col*Block:][:Block])
				run := record.Run{Kind: record.RunPayload, Start: c.block(m, col), Count: 1, Sums: []uint32{record.Sum(block)}}
				switch {
				case c.fresh(col):
					run = record.Run{Kind: record.RunNever, Start: c.block(m, col), Count: 1}
				case !c.known[role][col]:
					c.free()
					return false, nil
				default:
					payload[m] = append(payload[m], block)
				}
				runs[m] = append(runs[m], run)
			}
		}
		c.free()
	}
	var involved uint64
	for _, e := range b.entries {
		involved = e.Involved
	}
	for _, s := range scans {
		if !slices.Contains(b.lacking, s.m) || !s.m.Live() {
			continue
		}
		p := part{m: s.m, payload: payload[s.m]}
		p.entry = record.JournalEntry{Batch: b.number, Involved: involved, Slot: s.m.Slot, Runs: runs[s.m]}
		size := int64(p.entry.HeaderBlocks() + p.entry.Payload())
		var err error
		if p.at, err = a.roomFor(s, size, first); err != nil {
			return false, err
		}
		if !s.m.Live() {
			continue
		}
		err = a.journal.writeEntry(&p)
		if err == nil && !probe.CompletedNotSynced.On() {
			err = s.m.Sync()
		}
		if err != nil {
			if err := s.m.WriteProblem(err); err != nil {
				return false, err
			}
			continue
		}
		s.entries[b.number] = &found{JournalEntry: p.entry, payload: p.at + int64(p.entry.HeaderBlocks()), end: p.at + size}
	}
	return true, nil
}

// roomFor finds the place of an entry that completes a batch: behind the last one, or else wherever none of those that are needed
// lies. Misdirected writes may have scattered them, and then a search finds them. Nothing else is appended before the checkpoint
// at the end of the start.
func (a *Array) roomFor(s *scan, size int64, first uint64) (int64, error) {
	since := first
	if s.headOK {
		since = min(first, s.head.Batch) // its own head may be all that is left to go by after the next crash
	}
	at := s.gap(size, since)
	if at < 0 && since < first {
		// It has to know durably what the others know before it overwrites what its own head still claims.
		from, oldest := s.m.Ring.Head, uint64(math.MaxUint64)
		for n, e := range s.entries {
			if n >= first && n < oldest {
				oldest, from = n, e.start()
			}
		}
		if err := a.journal.writeHead(s.m, first, from); err != nil || !s.m.Live() {
			return 0, err
		}
		if err := s.m.Sync(); err != nil {
			return 0, s.m.WriteProblem(err)
		}
		at = s.gap(size, first)
	}
	if at < 0 {
		return 0, fmt.Errorf("%w: no room in the journal of %s to complete the last batch", ErrFailed, s.m.Name())
	}
	s.m.Ring.Head, s.m.Ring.Live = at+size, s.m.Ring.Blocks
	return at, nil
}

// gap is where so many blocks of the ring hold no entry of batches from one on, -1 without such a place.
func (s *scan) gap(size int64, since uint64) int64 {
	places := []int64{s.m.Ring.Head, 0}
	for _, e := range s.entries {
		places = append(places, e.end)
	}
	slices.Sort(places[1:])
	for _, at := range places {
		free := at+size <= s.m.Ring.Blocks
		for n, e := range s.entries {
			free = free && (n < since || e.end <= at || e.start() >= at+size)
		}
		if free {
			return at
		}
	}
	return -1
}

// overrideFor is the state a batch is going to bring, read from its entries.
func (a *Array) overrideFor(b batch) override {
	type at struct {
		m       *member.Member
		sum     uint32
		payload int64
	}
	blocks := map[[2]int64]at{}
	for m, e := range b.entries {
		pos := e.payload
		for _, r := range e.Runs {
			for i := range r.Count {
				x := at{m: m, payload: -1, sum: record.SumNever}
				switch r.Kind {
				case record.RunPayload:
					x.sum, x.payload = r.Sums[i], pos
					pos++
				case record.RunInPlace:
					x.sum = r.Sums[i]
				case record.RunLost:
					x.sum = record.SumLost
				}
				blocks[[2]int64{int64(m.Slot), r.Start + int64(i)}] = x
			}
		}
	}
	return func(slot int, block int64) (uint32, []byte, bool) {
		x, ok := blocks[[2]int64{int64(slot), block}]
		if !ok {
			return 0, nil, false
		}
		if x.payload < 0 {
			return x.sum, nil, true
		}
		buf := make([]byte, Block)
		if err := x.m.Disk.ReadAt(buf, x.m.Ring.Start+x.payload*Block); err != nil || record.Sum(buf) != x.sum {
			return record.SumLost, nil, true
		}
		return x.sum, buf, true
	}
}

// healColumns restores what is lost in some columns.
func (a *Array) healColumns(t touched) error {
	c, err := a.loadColumns(t.st, t.col, t.n, nil)
	if err != nil {
		return err
	}
	defer c.free()
	if err := c.recover(); err != nil {
		return err
	}
	c.heal()
	return a.alive()
}
