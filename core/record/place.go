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

// segmentFor lays out a segment from a byte on for data of some size, or for as much as fits before end when data is 0.
func segmentFor(start, end, first, data int64) (Segment, error) {
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
		// Room for the pages of a segment as large as this one; what a larger one has beyond has no witness.
		s.WitnessStart = s.MapStart + s.MapPages*Block
		s.WitnessPages = (s.MapPages + s.SumPages + WitnessesPerPage - 1) / WitnessesPerPage
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
		p := Place{Size: size, JournalStart: mib, JournalSize: journal}
		var err error
		if p.Segment, err = segmentFor(p.JournalStart+p.JournalSize, p.End(), 0, data); err == nil {
			if p, err = p.With(more...); err == nil && p.DataSize >= data || journal == mib {
				return p, err
			}
		}
		// A disk that is just large enough for what its slot has, which came from smaller ones, gets a smaller journal.
		if journal == mib || data == 0 {
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
func (p *Place) start() int64 { return (p.last().end() + mib - 1) &^ (mib - 1) }

// With is the place with further segments, for so much data each.
func (p Place) With(more ...int64) (Place, error) {
	p.More = slices.Clone(p.More)
	for _, data := range more {
		s, err := segmentFor(p.start(), p.End(), p.last().next(), data)
		if err != nil || s.DataSize < data || len(p.More)+1 >= MaxSegments {
			return p, fmt.Errorf("a disk of %d bytes is too small for %d bytes more: %w", p.Size, data, errSmall)
		}
		p.More = append(p.More, s)
	}
	return p, nil
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
	if len(p.More)+1 >= MaxSegments {
		return 0
	}
	s, err := segmentFor(to.start(), to.End(), to.last().next(), 0)
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
	want := Place{Size: p.Size, JournalStart: p.JournalStart, JournalSize: p.JournalSize}
	var err error
	if want.Segment, err = segmentFor(p.JournalStart+p.JournalSize, p.End(), 0, p.DataSize); err == nil {
		want, err = want.With(p.Sizes()...)
	}
	if err != nil || want.Segment != p.Segment || !slices.Equal(want.More, p.More) {
		return errors.New("places do not fit the sizes")
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

// WitnessesOf are the first of the witness pages of a segment, the first segment being 0, and how many there are.
func (p *Place) WitnessesOf(i int) (first, n int64) {
	s := &p.Segment
	if i > 0 {
		s = &p.More[i-1]
	}
	first, n, _ = s.pages(WitnessPage)
	return first, n
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
// at which entry. The first segments witness each other, and so on; ok is false when the other has no room for it.
func (p *Place) WitnessOf(other *Place, kind PageKind, number int64) (page int64, at int, ok bool) {
	i, s := 0, &p.Segment
	for j := range p.More {
		if first, _, _ := p.More[j].pages(kind); number >= first {
			i, s = j+1, &p.More[j]
		}
	}
	if i > len(other.More) {
		return 0, 0, false
	}
	on := &other.Segment
	if i > 0 {
		on = &other.More[i-1]
	}
	first, _, _ := s.pages(kind)
	if number -= first; kind == SumPage {
		number += s.MapPages
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
