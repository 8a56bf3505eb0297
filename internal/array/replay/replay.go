// Package replay is what a start does with the journals.
package replay

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/stripe"
	"nidalo/internal/array/table"
	"nidalo/internal/probe"
)

// Host is what a replay needs of the array. With Note it is that of a rescue: what cannot be completed is noted instead of ending it, and
// nothing is healed.
type Host struct {
	Slots     *member.Slots
	Roster    *roster.Roster
	Journal   *journal.Journal
	Tables    *table.Tables
	Stripes   *stripe.Stripes
	CopyAgain func([]layout.Stripe) error               // of members that are being copied
	Lacks     func(m *member.Member, batch uint64) bool // a member that is away lacks a batch
	Say       func(kind event.Kind, disk, text string)
	Note      func(text string) // nil but in a rescue
	Turn      Turn              // nil: the layout never changes
	Alive     func() error
	Failed    error // is wrapped by errors after which the array has failed
	Replayed  *atomic.Int64
}

// Turn is the change of layout that is under way, if one is.
type Turn interface {
	// Further says whether there is a change of layout whose boundary, by the record, is not as far as one; that it cannot come to be there is an error.
	Further(boundary int64) (bool, error)
	// Ahead puts the map with a boundary in force that is further. back undoes that; nil: nothing was done.
	Ahead(boundary int64) (back func(), err error)
	// Keep writes down how far the boundary is.
	Keep() error
	// Layout is the map in force, and Stretch what of the logical space a batch moves then, which takes the change so far.
	Layout() *layout.Map
	Stretch(moved int64) (from, to int64)
}

// Run finishes what a crash cut short, from the journals. Afterwards the members are consistent and the journals
// empty. It may itself be cut short at any point and started again.
//
//	1  read every journal from where its head says it begins, keeping only entries that are whole
//	2  drop batches that an old head still names but a newer one knows to be in place
//	3  bring each batch in place, in order. A member that is missing an entry the others say it should have either lost
//	   it to rot, or never got it because the batch was the last and the crash came first. Its blocks in the columns of
//	   the batch follow from the others, as long as no more are missing than the code can restore.
//	4  a batch of which no entry says that it was committed, if incomplete, is completed in the journals first: otherwise a
//	   second crash, with other members lost, could find it half in place and not know. If it cannot be completed it never
//	   happened, and neither did those after it. There are two such batches at most.
//	5  a checkpoint, with batch numbers that leave no doubt about leftovers
//
// A batch that takes a change of layout further is brought in place under the map that it leads to, and dropped with it. There is one such batch at most
// whose boundary the record does not have; those before it concern no stripe that it moves, since a checkpoint came between.
func Run(host Host) error {
	scans, first, err := host.Journal.Read()
	if err != nil {
		return err
	}
	host.vet(scans, first)
	r := &replaying{Host: host, scans: scans, first: first, last: first - 1, sure: journal.Sure(scans, first), numbers: journal.BatchNumbers(scans, first), superseded: journal.InPlaceRuns(scans)}
	r.beyond.of(r)
	if err := r.complete(); err != nil {
		return err
	}
	r.Journal.ContinueFrom(r.last)
	r.Journal.PlaceRings(scans, first, r.last)
	for i, n := range r.numbers {
		whole := i == 0 || n == r.numbers[i-1]+1 || n <= r.sure || r.Note != nil || r.Roster.Partial()
		if whole {
			if whole, err = r.inTurn(n); err != nil {
				return err
			}
		}
		if !whole {
			r.dropped(r.numbers[i:])
			r.beyond.dropped = r.numbers[i]
			break
		}
	}
	if err := r.beyond.limit(); err != nil {
		return err
	}
	if err := r.mend(); err != nil {
		return err
	}
	r.Journal.ContinueFrom(r.last + journal.RestartGap)
	if probe.NumbersBeginAgain.On() {
		r.Journal.ContinueFrom(first - 1)
	}
	if r.Turn != nil {
		if err := r.Turn.Keep(); err != nil {
			return err
		}
	}
	if len(r.numbers) > 0 {
		r.Say(event.JournalReplayed, "", fmt.Sprintf("%d batches", len(r.numbers)))
	}
	if err := r.Journal.Checkpoint(); err != nil {
		return err
	}
	if slices.ContainsFunc(scans, func(s *journal.Scan) bool { return s.Refuted }) {
		return r.Journal.Checkpoint() // the head that claims too much is the other one of the two
	}
	return nil
}

// replaying is what a start does with the journals.
type replaying struct {
	Host
	scans       []*journal.Scan
	first, last uint64 // the first batch that may not be in place, and the last that there is
	sure        uint64 // the last that was committed for certain, and so were all before it
	numbers     []uint64
	superseded  journal.InPlace
	wrong       []journal.Touched // what lacking members have wrong
	copied      []layout.Stripe   // of members that are being copied
	unmarked    []int64           // ordinals of stripes that a member which is away may lack
	beyond      beyond
}

// complete finds the last batch, and says whether one that was committed is lacking.
func (r *replaying) complete() error {
	if probe.OnlyLastUnsure.On() && len(r.numbers) > 0 {
		r.sure = r.numbers[len(r.numbers)-1] - 1
	}
	for _, n := range r.numbers {
		if n != r.last+1 && r.Note != nil {
			r.Note(fmt.Sprintf("the journals lack batch %d: the last writes before the end may be missing", r.last+1))
		} else if n != r.last+1 && r.last < r.sure && !r.Roster.Partial() {
			return fmt.Errorf("%w: the journals lack batch %d, although later ones are there: more members lost it than the level survives", r.Failed, r.last+1)
		}
		r.last = n
	}
	return nil
}

// inTurn is batch under the map that is in force with it.
func (r *replaying) inTurn(n uint64) (whole bool, err error) {
	boundary := int64(0)
	for _, s := range r.scans {
		if e := s.Entries[n]; e != nil && s.M.Live() {
			boundary = e.Moved // the same on all, see vet
		}
	}
	if boundary == 0 || r.Turn == nil {
		return r.batch(n)
	}
	from, to := r.Turn.Stretch(boundary)
	back, err := r.Turn.Ahead(boundary)
	if err != nil {
		return false, err
	}
	if r.Note != nil && back != nil {
		return r.salvage(n, from, to, back)
	}
	whole, err = r.batch(n)
	if !whole && back != nil {
		back()
	}
	return whole, err
}

// salvage is inTurn in a rescue, of a batch that takes the boundary further. A member that lacks its entry may have parts of it in place,
// and the others do not tell which. So all that it holds in the window counts as unknown. When it is uncertain whether the batch happened, the map stays.
func (r *replaying) salvage(n uint64, from, to int64, back func()) (whole bool, err error) {
	b := r.Journal.GatherBatch(r.scans, n)
	if b.Usable || probe.WindowTakenForMoved.On() {
		return r.batch(n)
	}
	happened := n <= r.sure
	if !happened {
		back()
	}
	for at, lay := from, r.Turn.Layout(); at < to; {
		st, in := lay.Locate(at)
		at += st.Left(in)
		for _, m := range b.Lacking {
			if st.Has(m.Slot) {
				r.Tables.Set(m, st.Block(m.Slot), st.StripBlocks(), nil, record.SumLost)
			}
		}
	}
	if happened {
		return r.batch(n)
	}
	r.unknown(b)
	return true, nil
}

// batch brings one batch in place. whole is false when it never happened, and nothing was done.
func (r *replaying) batch(n uint64) (whole bool, err error) {
	b, sure := r.Journal.GatherBatch(r.scans, n), n <= r.sure
	if r.Note != nil && (sure || len(b.Lacking) == 0) {
		b.Usable = len(b.Entries) > 0
	}
	if sure && r.Roster.Partial() {
		b.Usable = len(b.Entries) > 0 // what cannot be restored of one volume does not keep the others from being served
	}
	if !b.Usable && sure {
		return false, fmt.Errorf("%w: batch %d of the journals is damaged on more members than the level survives", r.Failed, n)
	}
	if b.Usable && !sure && len(b.Lacking) > 0 && !probe.IncompleteBatchReplayed.On() {
		whole, err := r.supply(b)
		if err != nil {
			return false, err
		}
		if whole {
			probe.LastBatchCompleted.Seen()
			if n != r.last {
				probe.EarlierCompleted.Seen()
			}
			if b = r.Journal.GatherBatch(r.scans, n); !b.Usable || len(b.Lacking) > 0 {
				return false, r.aliveOr(fmt.Errorf("%w: batch %d, one of the last of the journals, could not be completed", r.Failed, n))
			}
		}
		b.Usable = whole
	}
	if !b.Usable && r.Note != nil {
		r.unknown(b)
		return true, nil
	}
	if !b.Usable {
		return false, nil
	}
	for _, m := range b.Lacking {
		probe.EntryRestored.Seen()
		r.Say(event.JournalDamaged, m.Name(), fmt.Sprintf("its part of batch %d cannot be read; it is restored from the other members", n))
	}
	if err := r.place(b); err != nil {
		return false, err
	}
	r.beyond.placed(b)
	r.wrong = append(r.wrong, r.Journal.LackingBlocks(b)...)
	for _, m := range r.Slots.Copies() {
		for _, t := range r.Journal.Columns(b, []*member.Member{r.Slots.At(m.Slot)}) {
			r.copied = append(r.copied, t.St)
		}
	}
	if !probe.ReplayNotMarked.On() {
		r.unmarked = append(r.unmarked, r.Journal.Unmarked(b, r.Lacks)...)
	}
	r.Replayed.Add(1)
	return true, nil
}

// mend marks the stripes that absent members lack, and restores blocks that members here lacked.
func (r *replaying) mend() error {
	if _, err := r.Roster.Mark(slices.Values(r.unmarked), r.beyond.owes()); err != nil {
		return err
	}
	if err := r.Journal.SyncAll(); err != nil {
		return err
	}
	for _, t := range r.wrong {
		if r.Note != nil {
			break // nothing is healed
		}
		if err := r.heal(t); err != nil {
			return err
		}
	}
	slices.SortFunc(r.copied, func(x, y layout.Stripe) int { return x.ID().Compare(y.ID()) })
	if probe.CopyNotMended.On() {
		return nil
	}
	return r.CopyAgain(slices.Compact(r.copied))
}

// dropped reports that the last batches of the journals are given up.
func (r *replaying) dropped(numbers []uint64) {
	b := r.Journal.GatherBatch(r.scans, numbers[0])
	text := fmt.Sprintf("the last batch of the journals (%d) ", b.Number)
	if len(numbers) > 1 {
		probe.SeveralDropped.Seen()
		text = fmt.Sprintf("the last batches of the journals (%d to %d) are given up: the first ", b.Number, numbers[len(numbers)-1])
	}
	if len(b.Lacking) > 0 {
		text += fmt.Sprintf("is not on %s and cannot be completed", names(b.Lacking))
	} else {
		text += "follows one that is nowhere"
	}
	r.Say(event.BatchDropped, "", text+". A stop in the middle of writing leaves this, and then nothing of it had been flushed. If that part of the journal was damaged later, the data flushed last may read as it was before")
}

// unknown notes, in a rescue, that a batch cannot be completed. It may well have been flushed. What it changed is not known then, and must
// not read as it was before.
func (r *replaying) unknown(b journal.Batch) {
	r.Note(fmt.Sprintf("one of the last batches of the journals (%d) is not on %s and cannot be completed: what it changed cannot be read", b.Number, names(b.Lacking)))
	for _, m := range b.Members() {
		for _, run := range b.Entries[m].Runs {
			r.Tables.Set(m, run.Start, run.Count, nil, record.SumLost)
		}
	}
	for _, t := range r.Journal.LackingBlocks(b) {
		for _, m := range b.Lacking {
			if t.St.Has(m.Slot) && m.Usable(t.St) {
				r.Tables.Set(m, t.St.Block(m.Slot)+int64(t.Col), t.N, nil, record.SumLost)
			}
		}
	}
}

func names(members []*member.Member) string {
	out := make([]string, len(members))
	for i, m := range members {
		out[i] = m.Name()
	}
	return strings.Join(out, ", ")
}

func (r *replaying) aliveOr(err error) error {
	if alive := r.Alive(); alive != nil {
		return alive
	}
	return err
}

// place brings a batch in place.
func (r *replaying) place(b journal.Batch) error {
	members := b.Members()
	// What a lacking member holds in these columns may look sound and be old.
	for _, t := range r.Journal.LackingBlocks(b) {
		for _, m := range b.Lacking {
			if t.St.Has(m.Slot) && m.Usable(t.St) && !probe.LackingTrusted.On() {
				r.Tables.Set(m, t.St.Block(m.Slot)+int64(t.Col), t.N, nil, record.SumLost)
			}
		}
	}
	return member.Parallel(len(members), func(i int) error {
		m := members[i]
		at := b.Entries[m].Contents
		for _, run := range b.Entries[m].Runs {
			if run.Kind == record.RunPayload {
				if err := r.placeRun(m, b.Number, run, at); err != nil {
					return err
				}
				at += int64(run.Count)
			}
			r.Tables.Enter(m, run.Kind, run.Start, run.Count, run.Sums)
		}
		return nil
	})
}

func (r *replaying) placeRun(m *member.Member, number uint64, run record.Run, at int64) error {
	buf := make([]byte, run.Count*layout.Block)
	if err := m.Disk.ReadAt(buf, m.Ring.Start+at*layout.Block); err != nil {
		// It was readable a moment ago. Its blocks are wrong now, and are healed when they are read.
		m.ReadProblem(err)
		return r.Alive()
	}
	for i := 0; i < run.Count; {
		if r.superseded.After(m, number, run.Start+int64(i)) {
			i++
			continue
		}
		n := 1
		for i+n < run.Count && !r.superseded.After(m, number, run.Start+int64(i+n)) {
			n++
		}
		if err := m.WriteData([][]byte{buf[i*layout.Block : (i+n)*layout.Block]}, run.Start+int64(i)); err != nil {
			return err
		}
		i += n
	}
	return nil
}

// supply writes the entries that the last batch lacks, computed from those it has, and makes them durable. It reports
// false, having written nothing, when they cannot be computed: because other blocks of those columns are damaged, while
// the entries that are lacking most likely never were.
func (r *replaying) supply(b journal.Batch) (bool, error) {
	over := overrideFor(b)
	runs := map[*member.Member][]record.Run{}
	payload := map[*member.Member][][]byte{}
	for _, t := range r.Journal.Columns(b, b.Lacking) {
		c, err := r.Stripes.Load(t.St, t.Col, t.N, func(slot int, block int64) (uint32, []byte, bool) {
			for _, m := range b.Lacking {
				if m.Slot == slot {
					return record.SumLost, nil, true
				}
			}
			return over(slot, block)
		})
		if err != nil {
			return false, err
		}
		if err := c.Recover(); err != nil {
			c.Free()
			return false, err
		}
		for role, m := range c.Roles {
			if m == nil || !slices.Contains(b.Lacking, m) {
				continue
			}
			for col := range t.N {
				block := slices.Clone(c.Bufs[role][col*layout.Block:][:layout.Block])
				run := record.Run{Kind: record.RunPayload, Start: c.Block(m, col), Count: 1, Sums: []uint32{record.Sum(block)}}
				switch {
				case c.Fresh(col):
					run = record.Run{Kind: record.RunNever, Start: c.Block(m, col), Count: 1}
				case !c.Known[role][col]:
					c.Free()
					return false, nil
				default:
					payload[m] = append(payload[m], block)
				}
				runs[m] = append(runs[m], run)
			}
		}
		c.Free()
	}
	var involved uint64
	var boundary int64
	for _, e := range b.Entries {
		involved, boundary = e.Involved, e.Moved
	}
	for _, s := range r.scans {
		if !slices.Contains(b.Lacking, s.M) || !s.M.Live() {
			continue
		}
		e := record.JournalEntry{Batch: b.Number, Sure: min(r.sure, b.Number-1), Involved: involved, Moved: boundary, Slot: s.M.Slot, Runs: runs[s.M]}
		if err := r.Journal.Supply(s, e, payload[s.M], r.first); errors.Is(err, journal.ErrNoRoom) {
			return false, fmt.Errorf("%w: %w", r.Failed, err)
		} else if err != nil {
			return false, err
		}
	}
	return true, nil
}

// overrideFor is the state a batch is going to bring, read from its entries.
func overrideFor(b journal.Batch) stripe.Override {
	type at struct {
		m       *member.Member
		sum     uint32
		payload int64
	}
	blocks := map[[2]int64]at{}
	for m, e := range b.Entries {
		pos := e.Contents
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
		buf := make([]byte, layout.Block)
		if err := x.m.Disk.ReadAt(buf, x.m.Ring.Start+x.payload*layout.Block); err != nil || record.Sum(buf) != x.sum {
			return record.SumLost, nil, true
		}
		return x.sum, buf, true
	}
}

// healColumns restores what is lost in some columns.
func (r *replaying) heal(t journal.Touched) error {
	c, err := r.Stripes.Load(t.St, t.Col, t.N, nil)
	if err != nil {
		return err
	}
	defer c.Free()
	if err := c.Recover(); err != nil {
		return err
	}
	c.Heal()
	return r.Alive()
}
