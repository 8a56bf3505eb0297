package record

import (
	"errors"
	"fmt"
	"iter"
	"slices"

	"nidalo/core/layout"
)

// Place is where the parts of one member lie, in bytes from its start: the journal, and then a segment, with further ones behind it
// where the member was given more room.
//
// Blocks of data and pages are numbered through all segments, with gaps. A segment begins at a multiple of segmentUnit blocks: so no page is
// about two segments.
type Place struct {
	Size         int64 // of the whole disk when it joined, or was found to have grown
	JournalStart int64
	JournalSize  int64
	Segment
	More []Segment
}

// Segment is a stretch of a member with data, and with the tables of that data.
type Segment struct {
	MapStart     int64
	MapPages     int64
	WitnessStart int64
	WitnessPages int64
	SumStart     int64
	SumPages     int64
	DataStart    int64
	DataSize     int64
	First        int64 // the number of its first block of data
}

// segmentUnit is how many blocks a map page tells of.
const segmentUnit = SumsPerPage * BitsPerPage

const mib = 1 << 20

// MaxSegments is how many segments a member can have.
const MaxSegments = 64

// fields lists what is written of a segment, in order.
func (s *Segment) fields() []*int64 {
	return []*int64{&s.MapStart, &s.MapPages, &s.WitnessStart, &s.WitnessPages, &s.SumStart, &s.SumPages, &s.DataStart, &s.DataSize}
}

// end is the byte of the member behind it.
func (s *Segment) end() int64 { return s.DataStart + s.DataSize }

// next is the number of the first block of a segment behind it.
func (s *Segment) next() int64 {
	return s.First + (s.DataSize/Block+segmentUnit-1)/segmentUnit*segmentUnit
}

// witnessRooms are for how many times its own pages the witness table of a segment may have room: the member that it is about may be larger, or become
// so. It costs a 3000th of a percent for each time. Disks that are only just large enough have less, and so had all once.
var witnessRooms = [...]int64{16, 2, 1}

// witnessPages is how large the witness table of a segment with so many other pages is.
func witnessPages(pages, room int64) int64 {
	n := (pages*room + WitnessesPerPage - 1) / WitnessesPerPage
	if room > 1 {
		n++ // so that it tells from its size that it has more
	}
	return n
}

// entries is how many pages of a segment have witnesses.
func (s *Segment) entries() int64 { return s.MapPages + s.SumPages }

// room is one of witnessRooms.
func (s *Segment) room() int64 {
	for _, room := range witnessRooms {
		if s.WitnessPages >= witnessPages(s.entries(), room) {
			return room
		}
	}
	return 1
}

// roomy says whether the witness tables of all segments are one, which those of members once were not.
func (p *Place) roomy() bool { return p.Segment.room() > 1 }

// segmentFor lays out a segment from a byte on for data of some size, or for as much as fits before end when data is 0, with room for witnesses.
func segmentFor(start, end, first, data, room int64) (Segment, error) {
	s := Segment{MapStart: start, First: first}
	if data == 0 {
		data = end - start
	}
	for ; ; data -= mib {
		if data <= 0 {
			return s, errSmall
		}
		s.SumPages = (data/Block + SumsPerPage - 1) / SumsPerPage
		s.MapPages = (s.SumPages + BitsPerPage - 1) / BitsPerPage
		s.WitnessStart = s.MapStart + s.MapPages*Block
		s.WitnessPages = witnessPages(s.entries(), room)
		s.SumStart = s.WitnessStart + s.WitnessPages*Block
		s.DataStart = (s.SumStart + s.SumPages*Block + mib - 1) &^ (mib - 1)
		if over := s.DataStart + data - end; over > 0 {
			data -= max(over-mib, 0) &^ (mib - 1)
			continue
		}
		s.DataSize = data
		return s, nil
	}
}

var errSmall = errors.New("no room")

// PlaceFor lays out a member of the given size for the given amount of data in bytes, or for as much as fits when data
// is 0; and behind it further segments with so much data each. It fails when the disk is too small; where only the first is given, that may have less
// data than asked for.
func PlaceFor(size, data int64, more ...int64) (Place, error) {
	for journal := journalFor(size); ; journal = max(journal/2&^(mib-1), mib) {
		var p Place
		var err error
		for _, room := range witnessRooms {
			p = Place{Size: size, JournalStart: mib, JournalSize: journal}
			if p.Segment, err = segmentFor(p.JournalStart+p.JournalSize, p.End(), 0, data, room); err != nil {
				continue
			}
			if p, err = p.With(more...); err == nil && p.DataSize >= data {
				return p, nil
			}
		}
		// A disk that is just large enough for what its slot has, which came from smaller ones, gets a smaller journal.
		switch {
		case journal == mib && p.DataSize > 0:
			return p, err
		case journal == mib || data == 0:
			return p, fmt.Errorf("a disk of %d bytes is too small: a member needs at least 8MiB", size)
		}
	}
}

// End is where the second copy of the record begins, behind all that a member has.
func (p *Place) End() int64 { return p.Size&^(Block-1) - Size }

// All are its segments in order; the pointers are into the place.
func (p *Place) All() iter.Seq[*Segment] {
	return func(yield func(*Segment) bool) {
		if !yield(&p.Segment) {
			return
		}
		for i := range p.More {
			if !yield(&p.More[i]) {
				return
			}
		}
	}
}

func (p *Place) last() *Segment {
	if n := len(p.More); n > 0 {
		return &p.More[n-1]
	}
	return &p.Segment
}

// start is where a segment behind the last would begin.
func (p *Place) start() int64 { return behind(p.last().end()) }

// behind is where a segment begins, at or behind a byte.
func behind(end int64) int64 { return (end + mib - 1) &^ (mib - 1) }

// With is the place with further segments, for so much data each.
func (p Place) With(more ...int64) (Place, error) {
	p.More = slices.Clone(p.More)
	for _, data := range more {
		s, err := p.further(data)
		if err != nil {
			return p, fmt.Errorf("a disk of %d bytes is too small for %d bytes more: %w", p.Size, data, err)
		}
		p.More = append(p.More, s)
	}
	return p, nil
}

// further is one more segment, for so much data, or for as much as fits when that is 0.
func (p *Place) further(data int64) (s Segment, err error) {
	if len(p.More)+1 >= MaxSegments {
		return s, errSmall
	}
	for _, room := range witnessRooms {
		if room > p.Segment.room() {
			continue
		}
		if s, err = segmentFor(p.start(), p.End(), p.last().next(), data, room); err == nil && s.DataSize >= data {
			return s, nil
		}
	}
	return s, errSmall
}

// Fit is the place with the segments that the roster names. After a crash the member may lack the last one, or have one too many.
func (p Place) Fit(more []int64) (Place, error) {
	have := p.Sizes()
	n := min(len(have), len(more))
	if !slices.Equal(have[:n], more[:n]) {
		return p, errors.New("its segments are not those of its slot")
	}
	p.More = slices.Clone(p.More[:n])
	return p.With(more[n:]...)
}

// Room is how many bytes of data one more segment could have on a disk of some size; 0: none fits.
func (p *Place) Room(size int64) int64 {
	to := *p
	to.Size = size
	s, err := to.further(0)
	if err != nil {
		return 0
	}
	return s.DataSize
}

// Data is how many bytes of data all segments have.
func (p *Place) Data() (n int64) {
	for s := range p.All() {
		n += s.DataSize
	}
	return n
}

// Sizes is how much data each segment behind the first has.
func (p *Place) Sizes() (more []int64) {
	for _, s := range p.More {
		more = append(more, s.DataSize)
	}
	return more
}

// check says whether the segments are what the sizes make them.
func (p *Place) check() error {
	for s := range p.All() {
		for _, v := range s.fields() {
			if *v < 0 || *v > MaxDisk {
				return errors.New("a place is out of bounds")
			}
		}
	}
	if p.Size < 0 || p.Size > MaxDisk || p.JournalStart != mib || p.JournalSize < mib || p.JournalSize > 64*mib || p.JournalSize%mib != 0 {
		return errors.New("the journal is out of bounds")
	}
	start, first := p.JournalStart+p.JournalSize, int64(0)
	for s := range p.All() {
		if want, err := segmentFor(start, p.End(), first, s.DataSize, s.room()); err != nil || want != *s {
			return errors.New("places do not fit the sizes")
		}
		start, first = behind(s.end()), s.next()
	}
	return nil
}

// of is the segment of a block.
func (p *Place) of(block int64) *Segment {
	if len(p.More) > 0 {
		return p.ofMore(block)
	}
	return &p.Segment
}

func (p *Place) ofMore(block int64) *Segment {
	for i := len(p.More) - 1; i >= 0; i-- {
		if block >= p.More[i].First {
			return &p.More[i]
		}
	}
	return &p.Segment
}

// Offset is where a block of data lies, in bytes from the start of the member.
func (p *Place) Offset(block int64) int64 {
	s := p.of(block)
	return s.DataStart + (block-s.First)*Block
}

// Holds says whether n blocks of data from one on are there, one behind the other.
func (p *Place) Holds(block, n int64) bool {
	if block < 0 || n < 0 {
		return false
	}
	s := p.of(block)
	return block-s.First <= s.DataSize/Block && n <= s.DataSize/Block-(block-s.First)
}

// FirstMap is the number of its first map page.
func (s *Segment) FirstMap() int64 { return s.First / segmentUnit }

// pages is the number of the first page of a kind in a segment, how many there are, and where they lie. Witness pages are numbered like
// checksum pages, of which there are more.
func (s *Segment) pages(kind PageKind) (first, n, start int64) {
	switch kind {
	case MapPage:
		return s.First / segmentUnit, s.MapPages, s.MapStart
	case WitnessPage:
		return s.First / SumsPerPage, s.WitnessPages, s.WitnessStart
	}
	return s.First / SumsPerPage, s.SumPages, s.SumStart
}

// Entries is how many pages of a member have witnesses.
func (p *Place) Entries() (n int64) {
	for s := range p.All() {
		n += s.entries()
	}
	return n
}

// SameWitnesses are the witness pages that a member has of another, and those in which a third, that is to take that over from it, has the same: numbers on
// the one and on the other. of is the place of the member that they are about, empty when that is not known.
func (p *Place) SameWitnesses(other, of *Place) iter.Seq2[int64, int64] {
	most := (of.Entries() + WitnessesPerPage - 1) / WitnessesPerPage
	return func(yield func(mine, theirs int64) bool) {
		for number := range p.Pages(WitnessPage) {
			if most--; most < 0 && p.roomy() && of.Size > 0 {
				return
			}
			if theirs, ok := p.SameWitness(other, number); ok && !yield(number, theirs) {
				return
			}
		}
	}
}

// SameWitness is the witness page of another member that takes the place of one of this; not ok: there is none.
func (p *Place) SameWitness(other *Place, number int64) (there int64, ok bool) {
	i, q := 0, int64(0)
	for s := range p.All() {
		first, n, _ := s.pages(WitnessPage)
		if number -= first; number < n {
			break
		}
		number, q, i = number+first, q+n, i+1
	}
	switch {
	case p.roomy() && other.roomy():
		return other.witnessPage(q + number)
	case i > len(other.More) || i > 0 && p.roomy() != other.roomy(): // what is behind the first is counted in two ways
		return 0, false
	}
	on := &other.Segment
	if i > 0 {
		on = &other.More[i-1]
	}
	first, n, _ := on.pages(WitnessPage)
	return first + number, number < n
}

// witnessPage is the number of a witness page, counted through all segments; not ok: there is none.
func (p *Place) witnessPage(q int64) (number int64, ok bool) {
	for s := range p.All() {
		if first, n, _ := s.pages(WitnessPage); q < n {
			return first + q, true
		}
		q -= s.WitnessPages
	}
	return 0, false
}

// PageAt is where a page lies, in bytes from the start of the member, which must have it.
func (p *Place) PageAt(kind PageKind, number int64) int64 {
	s := p.of(number * SumsPerPage)
	if kind == MapPage {
		s = p.of(number * segmentUnit)
	}
	first, _, start := s.pages(kind)
	return start + (number-first)*Block
}

// Has says whether there is a page of a kind with a number.
func (p *Place) Has(kind PageKind, number int64) bool {
	next, ok := p.NextPage(kind, number)
	return ok && next == number
}

// LastSum is the number of the last checksum page.
func (p *Place) LastSum() int64 {
	s := p.last()
	return s.First/SumsPerPage + s.SumPages - 1
}

// Pages are the numbers of all pages of a kind.
func (p *Place) Pages(kind PageKind) iter.Seq[int64] {
	return func(yield func(int64) bool) {
		for number, ok := p.NextPage(kind, 0); ok; number, ok = p.NextPage(kind, number+1) {
			if !yield(number) {
				return
			}
		}
	}
}

// NextPage is the number of the first page of a kind from one on; ok is false when there is none.
func (p *Place) NextPage(kind PageKind, number int64) (next int64, ok bool) {
	for s := range p.All() {
		if first, n, _ := s.pages(kind); number < first+n {
			return max(number, first), true
		}
	}
	return 0, false
}

// WitnessOf is where another member keeps the witness of a page of this one, a page of its map or checksum table: in which of its witness pages, and
// at which entry. The pages are counted through all segments, and so are the entries; ok is false when the other has no room for it.
func (p *Place) WitnessOf(other *Place, kind PageKind, number int64) (page int64, at int, ok bool) {
	i, s, before := 0, &p.Segment, int64(0)
	for j := range p.More {
		if first, _, _ := p.More[j].pages(kind); number >= first {
			before += s.entries()
			i, s = j+1, &p.More[j]
		}
	}
	first, _, _ := s.pages(kind)
	if number -= first; kind == SumPage {
		number += s.MapPages
	}
	if other.roomy() {
		page, ok = other.witnessPage((before + number) / WitnessesPerPage)
		return page, int((before + number) % WitnessesPerPage), ok
	}
	// Tables without more room than for a segment of the same size: the first segments witness each other, and so on.
	if i > len(other.More) {
		return 0, 0, false
	}
	on := &other.Segment
	if i > 0 {
		on = &other.More[i-1]
	}
	first, n, _ := on.pages(WitnessPage)
	page = number / WitnessesPerPage
	return first + page, int(number % WitnessesPerPage), page < n
}

// journalFor: a 64th of the disk, so that small disks keep their space, within 4 and 64 MiB, so that a checkpoint is
// rare and a start is short. Tiny disks get 1 MiB.
func journalFor(size int64) int64 {
	if size < 32<<20 {
		return 1 << 20
	}
	return min(max(size/64&^(1<<20-1), 4<<20), 64<<20)
}

// MaxStripFor is the largest strip with which a change of one whole stripe fits into the journal of the place twice.
func (p Place) MaxStripFor() int64 {
	strip := int64(layout.MaxStrip)
	for strip > layout.MinStrip && 4*(strip/Block+8) > p.JournalSize/Block {
		strip /= 2
	}
	return strip
}
