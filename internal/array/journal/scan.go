package journal

import (
	"cmp"
	"fmt"
	"slices"

	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/probe"
)

// Found is one entry of a member's journal as it was found at the start.
type Found struct {
	record.JournalEntry
	Contents int64 // block of the ring at which the payload begins
	end      int64
}

// start is the block of the ring at which the entry begins.
func (f *Found) start() int64 { return f.Contents - int64(f.HeaderBlocks()) }

// Scan is what one member's journal holds.
type Scan struct {
	M       *member.Member
	Head    record.JournalHead
	HeadOK  bool
	Refuted bool  // its head claims what is not so
	budget  int64 // blocks that may still be read, see NewScan
	Entries map[uint64]*Found
}

// NewScan begins to look at a journal. What it holds may be damaged or forged, and entries that lie in each other could be
// read for hours: after a few times the length of the ring no more is.
func NewScan(m *member.Member) *Scan {
	return &Scan{M: m, Entries: map[uint64]*Found{}, budget: scanTimes*m.Ring.Blocks + record.MaxEntryBlocks}
}

// scanTimes is how often a ring may be read in a scan. A search after a walk reads it up to three times.
const scanTimes = 6

// read reads blocks of the ring.
func (s *Scan) read(buf []byte, at int64) bool {
	if s.budget -= int64(len(buf)) / record.Block; s.budget < 0 {
		return false
	}
	if err := s.M.Disk.ReadAt(buf, s.M.Ring.Start+at*record.Block); err != nil {
		s.M.ReadProblem(err)
		return false
	}
	return true
}

// ReadHeads reads the heads, and has the newer. bad is called for each that cannot be read or is none.
func (s *Scan) ReadHeads(bad func(error)) {
	for i := range int64(record.JournalHeads) {
		buf := make([]byte, record.Block)
		if err := s.M.Disk.ReadAt(buf, s.M.Place().JournalStart+i*record.Block); err != nil {
			s.M.ReadProblem(err)
			bad(fmt.Errorf("a journal head cannot be read: %w", err))
			continue
		}
		h, err := record.DecodeJournalHead(buf, s.M.Tag, s.M.Ring.Blocks)
		switch {
		case err != nil:
			bad(err)
		case !s.HeadOK || h.Sequence > s.Head.Sequence:
			s.Head, s.HeadOK = h, true
		}
	}
	s.M.Ring.Sequence, s.M.Ring.Joined = s.Head.Sequence, s.Head.Joined
}

// Walk follows the chain of entries from the head, once round the ring at most.
func (s *Scan) Walk() {
	if !s.HeadOK {
		s.search()
		return
	}
	at, above, left := s.Head.Position, s.Head.Batch, s.M.Ring.Blocks
	for {
		ahead := func(e *Found) int64 { // how far its end is
			if e.start() < at {
				return e.end - at + s.M.Ring.Blocks
			}
			return e.end - at
		}
		e := s.entryAt(at, above)
		if e == nil && at != 0 {
			e = s.entryAt(0, above) // the next one may not have fitted before the end
		}
		if e == nil || ahead(e) > left {
			e = s.behind(at, above)
		}
		if e == nil || ahead(e) > left {
			return
		}
		s.keep(e)
		left -= ahead(e)
		above = max(above, e.Batch+1-Overlap) // what a start completed stands behind a newer one
		at = e.end
	}
}

// behind finds the entry behind one of which not even the header is there: it belongs to the batch that was in flight with it. The one that
// is missing began here, or at 0 if it did not fit, and the longest that may be overlapped tells how far to look.
func (s *Scan) behind(at int64, above uint64) *Found {
	buf := make([]byte, (longestOverlapped+1)*record.Block)
	for _, from := range []int64{at, 0} {
		n := min(longestOverlapped+1, s.M.Ring.Blocks-from)
		if n <= 0 {
			continue
		}
		if !s.M.Live() || !s.read(buf[:n*record.Block], from) {
			return nil
		}
		for i := range n {
			if !mayBegin(buf[i*record.Block:], s.M.Tag) {
				continue
			}
			if e := s.entryAt(from+i, above); e != nil {
				probe.WalkedOn.Seen()
				return e
			}
		}
	}
	return nil
}

// search looks at every block of the ring for entries that its head does not exclude.
func (s *Scan) search() { s.searchFrom(s.Head.Batch) }

// searchFrom looks for entries of batches from one on.
func (s *Scan) searchFrom(above uint64) {
	buf := make([]byte, searchBlocks*record.Block)
	for at := int64(0); at < s.M.Ring.Blocks && s.budget >= 0; {
		n := min(searchBlocks, s.M.Ring.Blocks-at)
		whole := s.M.Live() && s.read(buf[:n*record.Block], at) // otherwise each block by itself: one may be all that cannot be read
		for end := at + n; at < end && s.budget >= 0; {
			if whole && !mayBegin(buf[(at+n-end)*record.Block:], s.M.Tag) {
				at++
				continue
			}
			e := s.entryAt(at, above)
			if e == nil {
				at++
				continue
			}
			s.keep(e)
			at = e.end
		}
	}
}

// searchBlocks is how many blocks of a ring a search reads at once.
const searchBlocks = int64(64)

// mayBegin says whether an entry may begin with a block.
func mayBegin(block []byte, tag uint64) bool {
	_, _, err := record.EntrySize(block[:record.Block], tag)
	return err == nil
}

// entryAt reads the header of an entry, or returns nil when there is none of a batch numbered at least above.
func (s *Scan) entryAt(at int64, above uint64) *Found {
	if at >= s.M.Ring.Blocks || !s.M.Live() {
		return nil
	}
	buf := make([]byte, record.Block)
	if !s.read(buf, at) {
		return nil
	}
	header, payload, err := record.EntrySize(buf, s.M.Tag)
	if err != nil || at+int64(header+payload) > s.M.Ring.Blocks {
		return nil
	}
	if header > 1 {
		buf = make([]byte, header*record.Block)
		if !s.read(buf, at) {
			return nil
		}
	}
	e, err := record.DecodeEntry(buf, s.M.Tag, s.M.Place())
	if err != nil || e.Batch < above || e.Slot != s.M.Slot {
		return nil
	}
	return &Found{JournalEntry: *e, Contents: at + int64(header), end: at + int64(header+payload)}
}

// keep takes an entry whose payload is whole.
func (s *Scan) keep(e *Found) {
	at := e.Contents
	for _, r := range e.Runs {
		if r.Kind != record.RunPayload {
			continue
		}
		buf := make([]byte, r.Count*record.Block)
		if !s.read(buf, at) {
			return
		}
		for i, sum := range r.Sums {
			if record.Sum(buf[i*record.Block:][:record.Block]) != sum {
				return
			}
		}
		at += int64(r.Count)
	}
	s.Entries[e.Batch] = e
}

func (s *Scan) lacks(scans []*Scan, first uint64) bool {
	return slices.ContainsFunc(BatchNumbers(scans, first), func(n uint64) bool { return s.lacksBatch(scans, n) })
}

// lacksBatch says whether others tell of an entry that the member should have and has not.
func (s *Scan) lacksBatch(scans []*Scan, n uint64) bool {
	return s.Entries[n] == nil && slices.ContainsFunc(scans, func(other *Scan) bool {
		e := other.Entries[n]
		return e != nil && e.Involved>>s.M.Slot&1 == 1
	})
}

// Sure is the last batch of which the entries say that it was committed, and so all before it; batches before from count as committed.
func Sure(scans []*Scan, from uint64) uint64 {
	sure := from - 1
	for _, s := range scans {
		for n, e := range s.Entries {
			if n >= from {
				sure = max(sure, e.Sure)
			}
		}
	}
	return sure
}

// BatchNumbers are the numbers of all batches of which some member has an entry, from one on, ascending.
func BatchNumbers(scans []*Scan, first uint64) []uint64 {
	var out []uint64
	for _, s := range scans {
		for n := range s.Entries {
			if n >= first {
				out = append(out, n)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Leftover is what is live in the journal of a member that left.
type Leftover struct {
	Sequence uint64          // of its head
	Batches  map[uint64]bool // of which it has its part
	Runs     []record.Run    // ascending
	Entries  []*Found        // by batch, ascending
}

// LeftoverOf reads a member's own journal. Of the blocks it names it is not known whether the batch ever counted, nor
// whether its sums reached the table.
func LeftoverOf(m *member.Member) (u Leftover, err error) {
	s := NewScan(m)
	m.Become(record.Rebuilding) // reading entries asks for a live member; nothing else knows this one yet
	defer m.Become(record.Missing)
	s.ReadHeads(func(error) {})
	if !s.HeadOK && m.Live() {
		return u, fmt.Errorf("%w: the heads of its journal cannot be read", roster.ErrStale)
	}
	s.Walk()
	walked := len(s.Entries)
	s.search()
	if !m.Live() {
		return u, fmt.Errorf("%s left again while its journal was read", m.Name()) // it may come back
	}
	if len(s.Entries) != walked || s.budget < 0 {
		return u, fmt.Errorf("%w: its journal is damaged", roster.ErrStale)
	}
	u.Sequence, u.Batches = s.Head.Sequence, map[uint64]bool{}
	for number, e := range s.Entries {
		u.Batches[number] = true
		u.Runs = append(u.Runs, e.Runs...)
		u.Entries = append(u.Entries, e)
	}
	slices.SortFunc(u.Entries, func(x, y *Found) int { return cmp.Compare(x.Batch, y.Batch) })
	slices.SortFunc(u.Runs, func(x, y record.Run) int { return int(x.Start - y.Start) })
	return u, nil
}
