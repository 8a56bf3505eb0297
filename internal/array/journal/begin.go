package journal

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/probe"
)

// Read reads all journals, members at the same time. first is the number of the first batch that may not be in
// place.
func (j *Journal) Read() (scans []*Scan, first uint64, err error) {
	for i := range j.host.Slots.Len() {
		if m := j.host.Slots.At(i); m.Live() && !m.Stale {
			scans = append(scans, NewScan(m))
		}
	}
	_ = member.Parallel(len(scans), func(i int) error {
		scans[i].ReadHeads(func(error) {}) // a scan without a head says enough
		return nil
	})
	for _, s := range scans {
		if !s.HeadOK && s.M.Live() {
			j.host.Say(event.JournalDamaged, s.M.Name(), "no head of its journal can be read; all of it is searched")
		}
	}
	_ = member.Parallel(len(scans), func(i int) error {
		scans[i].Walk()
		return nil
	})
	first = j.firstNeeded(scans)
	if err := j.host.Alive(); err != nil {
		return nil, 0, err
	}
	// Where others say an entry should be that the walk did not reach, the chain was broken by a damaged entry: look at
	// every block of the ring.
	short := slices.DeleteFunc(slices.Clone(scans), func(s *Scan) bool { return !s.lacks(scans, first) })
	_ = member.Parallel(len(short), func(i int) error {
		short[i].search()
		return nil
	})
	for _, s := range scans {
		if s.budget < 0 {
			j.host.Say(event.JournalDamaged, s.M.Name(), "its journal holds entries that lie in each other; the search in it was cut short")
		}
	}
	return slices.DeleteFunc(scans, func(s *Scan) bool { return !s.M.Live() }), first, j.host.Alive()
}

// firstNeeded is the highest batch that any head says is the first one needed: a head is written only after everything
// below it is in place on all members. A head that others do not share is what a crash leaves in the middle of writing the
// heads, and then nothing that they still hold was overwritten; so what it claims can be held against them. One that claims
// too much, because it is damaged or forged, would discard what was flushed: it is not believed.
func (j *Journal) firstNeeded(scans []*Scan) uint64 {
	for {
		first, second, newest := uint64(1), uint64(1), uint64(0)
		for _, s := range scans {
			for n := range s.Entries {
				newest = max(newest, n)
			}
			if s.HeadOK {
				first = max(first, s.Head.Batch)
			}
		}
		agreed := true
		for _, s := range scans {
			if claim := s.claims(); s.HeadOK && claim < first {
				agreed, second = false, max(second, claim)
			} else if s.HeadOK && s.Head.Batch < first {
				probe.SleeperLags.Seen()
			}
		}
		if agreed {
			return first
		}
		holders := slices.DeleteFunc(slices.Clone(scans), func(s *Scan) bool { return !s.HeadOK || s.Head.Batch != first })
		// What the holders have of the batches in question lies before where their heads point.
		for _, s := range holders {
			s.searchFrom(second)
			for n := range s.Entries {
				newest = max(newest, n)
			}
		}
		if first <= max(newest+1, second)+RestartGap*cutStarts && !j.contradicted(scans, second, first) {
			return first
		}
		for _, s := range holders {
			probe.HeadRefuted.Seen()
			j.host.Say(event.JournalDamaged, s.M.Name(), fmt.Sprintf("the head of its journal claims that all before batch %d is in place, which is not so; all of the journal is searched", first))
			s.HeadOK, s.Refuted = false, true
			s.Head = record.JournalHead{}
		}
	}
}

// RestartGap is by how much a start raises the number of the next batch, so that leftovers in the rings can never be taken
// for new entries.
const RestartGap = 16

// cutStarts is how many starts in a row may have ended while they wrote the heads, each a gap further. A head beyond that is
// not one of ours.
const cutStarts = 64

// contradicted says whether batches from one on, below another, are not in place although a head says so: a checksum table
// then has another sum than the batch that changed the block last, or a later one, gave it. A batch that a start may have dropped
// says nothing.
func (j *Journal) contradicted(scans []*Scan, from, below uint64) bool {
	dropped := j.maybeDropped(scans, slices.DeleteFunc(BatchNumbers(scans, from), func(n uint64) bool { return n >= below }))
	for _, s := range scans {
		// What an entry that it lost did to a block is not known.
		since := from
		for _, n := range BatchNumbers(scans, from) {
			if s.lacksBatch(scans, n) {
				since = n + 1
			}
		}
		if since > below {
			continue
		}
		numbers := BatchNumbers([]*Scan{s}, max(since, s.M.Ring.Joined))
		may := map[int64][]uint32{}
		for _, n := range numbers {
			for _, r := range s.Entries[n].Runs {
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
		for _, b := range slices.Sorted(maps.Keys(may)) {
			sums := may[b]
			var now [1]uint32
			if j.host.Tables.Sums(s.M, b, now[:]) != nil {
				break // it is on its way out
			}
			if !record.Unknown(now[0]) && !slices.Contains(sums, record.SumLost) && !slices.Contains(sums, now[0]) {
				return true
			}
		}
	}
	return false
}

// maybeDropped are those of some batches that a start may have dropped: of the last ones of all, and of the last ones before numbers that a
// start passed over, the first that it may not have found whole, and all later ones.
func (j *Journal) maybeDropped(scans []*Scan, all []uint64) (dropped []uint64) {
	for len(all) > 0 {
		run := 1 // how many of them belong to one run of the array
		for run < len(all) && all[run]-all[run-1] <= RestartGap {
			run++
		}
		sure := all[0] - 1
		for _, s := range scans {
			for _, n := range all[:run] {
				if e := s.Entries[n]; e != nil {
					sure = max(sure, e.Sure)
				}
			}
		}
		for i, n := range all[:run] {
			if n > sure && (i > 0 && all[i-1] != n-1 || !j.surelyDone(j.GatherBatch(scans, n), run == len(all))) {
				dropped = append(dropped, all[i:run]...)
				break
			}
		}
		all = all[run:]
	}
	return dropped
}

// surelyDone says whether a start that found a batch among the last brought it in place. Of those that are the last now it is known which
// members lack them; before an earlier start, members that are away by now may have lacked them.
func (j *Journal) surelyDone(b Batch, last bool) bool {
	if !b.Usable || len(b.Lacking) > 0 {
		return false
	}
	for _, e := range b.Entries {
		for slot := range j.host.Slots.Len() {
			if !last && e.Involved>>slot&1 == 1 && !j.host.Slots.At(slot).Live() {
				return false
			}
		}
	}
	return true
}

// PlaceRings sets where the next entry of each member goes: after the last one of the batches found. A ring without a readable head
// is live from the first entry that is needed: its member counts as lost for anything older. Others go by their own heads, since
// the one that knows better may be lost next.
func (j *Journal) PlaceRings(scans []*Scan, first, last uint64) {
	for _, s := range scans {
		at, from := s.Head.Position, s.Head.Position
		var newest uint64
		oldest := last + 1
		for n, e := range s.Entries {
			if n >= newest && n <= last && (!s.HeadOK || n >= s.Head.Batch) { // older ones lie behind the head: a search found them
				newest, at = n, e.end
			}
			if n >= first && n < oldest && !s.HeadOK {
				oldest, from = n, e.start()
			}
		}
		if !s.HeadOK && oldest > last {
			from = at
		}
		s.M.Ring.Head = at
		s.M.Ring.Live = min(s.M.Ring.Blocks, max(0, (at-from+s.M.Ring.Blocks)%s.M.Ring.Blocks))
	}
}

// roomFor finds the place of an entry that completes a batch: behind the last one, or else wherever none of those that are needed
// lies. Misdirected writes may have scattered them, and then a search finds them. Nothing else is appended before the checkpoint
// at the end of the start.
func (j *Journal) roomFor(s *Scan, size int64, first uint64) (int64, error) {
	since := first
	if s.HeadOK {
		since = min(first, s.Head.Batch) // its own head may be all that is left to go by after the next crash
	}
	at := s.gap(size, since)
	if at < 0 && since < first {
		// It has to know durably what the others know before it overwrites what its own head still claims.
		from, oldest := s.M.Ring.Head, uint64(math.MaxUint64)
		for n, e := range s.Entries {
			if n >= first && n < oldest {
				oldest, from = n, e.start()
			}
		}
		if err := j.writeHead(s.M, first, from, 0); err != nil || !s.M.Live() {
			return 0, err
		}
		if err := s.M.Sync(); err != nil {
			return 0, s.M.WriteProblem(err)
		}
		at = s.gap(size, first)
	}
	if at < 0 {
		return 0, fmt.Errorf("%w %s to complete the last batch", ErrNoRoom, s.M.Name())
	}
	s.M.Ring.Head, s.M.Ring.Live = at+size, s.M.Ring.Blocks
	return at, nil
}

// gap is where so many blocks of the ring hold no entry of batches from one on, -1 without such a place.
func (s *Scan) gap(size int64, since uint64) int64 {
	places := []int64{s.M.Ring.Head, 0}
	for _, e := range s.Entries {
		places = append(places, e.end)
	}
	slices.Sort(places[1:])
	for _, at := range places {
		free := at+size <= s.M.Ring.Blocks
		for n, e := range s.Entries {
			free = free && (n < since || e.end <= at || e.start() >= at+size)
		}
		if free {
			return at
		}
	}
	return -1
}

// ErrNoRoom is wrapped when a batch cannot be completed.
var ErrNoRoom = errors.New("no room in the journal of")

// Supply writes the share of a batch that a member lacks, durably, where nothing lies that is needed. first is the number of the first
// batch that may not be in place.
func (j *Journal) Supply(s *Scan, e record.JournalEntry, payload [][]byte, first uint64) error {
	p := part{m: s.M, entry: e, payload: payload}
	header := int64(e.HeaderBlocks())
	size := header + int64(e.Payload())
	var err error
	if p.at, err = j.roomFor(s, size, first); err != nil || !s.M.Live() {
		return err
	}
	err = j.writeEntry(&p)
	if err == nil && !probe.CompletedNotSynced.On() {
		err = s.M.Sync()
	}
	if err != nil {
		return s.M.WriteProblem(err)
	}
	s.Entries[e.Batch] = &Found{JournalEntry: e, Contents: p.at + header, end: p.at + size}
	return nil
}

// ContinueFrom makes a batch the last one that was written.
func (j *Journal) ContinueFrom(batch uint64) { j.batch, j.sure = batch, batch }

// Anew says that the array is new.
func (j *Journal) Anew() { j.number.Store(record.FirstCheckpoint(j.host.Roster.Starts())) }
