package record

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"slices"

	"nidalo/core/layout"
)

// The journal of a member holds what is about to change on that member, and nothing about the others: a batch is one
// entry on every member it touches. docs/data-path.md has the reasoning. The first two blocks are the heads, written in
// turn; the rest is a ring of entries. An entry is a header of whole blocks (runs and sums) and then the new contents
// of the blocks of its payload runs. It never wraps: one that does not fit before the end starts at 0.

// JournalHeads is the number of blocks before the ring.
const JournalHeads = 2

// MaxRuns and MaxEntryBlocks bound what one entry may hold.
const (
	MaxRuns        = 64 << 10
	MaxEntryBlocks = 16 << 10
	MaxRun         = layout.MaxStrip / Block // blocks: a run lies in one strip
	entryHead      = 64
	runSize        = 16
)

var (
	magicHead  = uint32(0x64686a6e) // "njhd"
	magicEntry = uint32(0x6e656a6e) // "njen"
)

// JournalHead says where the live part of the ring begins: every batch below Batch is in place on all members.
type JournalHead struct {
	Sequence uint64 // the higher of the two heads counts
	Batch    uint64
	Position int64 // block of the ring
	// Joined is the first batch that the member can have a part in: entries of older ones are from before it was away, and
	// what its disk holds by now came from the others.
	Joined uint64
	// Slept is the checkpoint after which the member was put to sleep; 0: it takes part in all. It had nothing in its ring then, and a
	// head that is older than those of others says no more than that it was not woken.
	Slept uint64
}

// Encode writes a head into one block.
func (h JournalHead) Encode(tag uint64) []byte {
	buf := make([]byte, Block)
	w := writer{buf: buf, at: 4}
	w.u32(magicHead)
	w.u64(tag)
	w.u64(h.Sequence)
	w.u64(h.Batch)
	w.u64(uint64(h.Position))
	w.u64(h.Joined)
	w.u64(h.Slept)
	binary.LittleEndian.PutUint32(buf, crc32.Checksum(buf[4:], Castagnoli))
	return buf
}

// DecodeJournalHead reads a head; ring is the length of the ring in blocks.
func DecodeJournalHead(buf []byte, tag uint64, ring int64) (JournalHead, error) {
	var h JournalHead
	if len(buf) != Block || binary.LittleEndian.Uint32(buf) != crc32.Checksum(buf[4:], Castagnoli) {
		return h, fmt.Errorf("journal head: wrong checksum: %w", ErrFormat)
	}
	r := reader{buf: buf, at: 4}
	if r.u32() != magicHead || r.u64() != tag {
		return h, fmt.Errorf("journal head: belongs elsewhere: %w", ErrFormat)
	}
	h.Sequence, h.Batch, h.Position, h.Joined, h.Slept = r.u64(), r.u64(), int64(r.u64()), r.u64(), r.u64()
	if h.Sequence > maxEpoch || h.Batch > maxEpoch || h.Joined > h.Batch {
		return h, fmt.Errorf("journal head: sequence %d, batch %d, joined at %d: %w", h.Sequence, h.Batch, h.Joined, ErrFormat)
	}
	if h.Position < 0 || h.Position >= ring {
		return h, fmt.Errorf("journal head: position %d of %d: %w", h.Position, ring, ErrFormat)
	}
	return h, nil
}

// RunKind says what a run of an entry does to its blocks.
type RunKind uint8

// The kinds of run.
const (
	RunPayload RunKind = iota + 1 // new contents follow the header
	RunInPlace                    // new contents are on the member already; only the sums are news
	RunNever                      // the blocks become never-written
	RunLost                       // the blocks' contents are not known: redundancy did not suffice to compute them
)

// Run is a stretch of blocks of a member's data.
type Run struct {
	Kind  RunKind
	Start int64    // first block of the member's data
	Count int      // blocks
	Sums  []uint32 // of the new contents; nil for RunNever and RunLost
}

// SumOf is the sum that the ith block of the run has from then on.
func (r Run) SumOf(i int) uint32 {
	switch r.Kind {
	case RunLost:
		return SumLost
	case RunNever:
		return SumNever
	}
	return r.Sums[i]
}

// Last is the run's last n blocks.
func (r Run) Last(n int) Run {
	out := Run{Kind: r.Kind, Start: r.Start + int64(r.Count-n), Count: n}
	if len(r.Sums) > 0 {
		out.Sums = r.Sums[r.Count-n:]
	}
	return out
}

// JournalEntry is one member's part of a batch.
type JournalEntry struct {
	Batch    uint64
	Sure     uint64 // the last batch that was committed when this one was written
	Involved uint64 // bit per slot: the members that have an entry of this batch
	Slot     int
	Moved    int64 // how much of a change of layout is made with the batch, bytes of the logical space; 0: it is not of one
	Runs     []Run
}

// Payload is the number of blocks that follow the header.
func (e *JournalEntry) Payload() int {
	n := 0
	for _, r := range e.Runs {
		if r.Kind == RunPayload {
			n += r.Count
		}
	}
	return n
}

// HeaderBlocks is the length of the header in blocks.
func (e *JournalEntry) HeaderBlocks() int {
	n := entryHead
	for _, r := range e.Runs {
		n += runSize + 4*len(r.Sums)
	}
	return (n + Block - 1) / Block
}

// EncodeHeader writes the header of the entry, into buf where that is long enough.
func (e *JournalEntry) EncodeHeader(tag uint64, buf []byte) []byte {
	blocks := e.HeaderBlocks()
	buf = slices.Grow(buf[:0], blocks*Block)[:blocks*Block]
	clear(buf)
	w := writer{buf: buf, at: 4}
	w.u32(magicEntry)
	w.u64(tag)
	w.u64(e.Batch)
	w.u64(e.Involved)
	w.u32(uint32(e.Slot))
	w.u32(uint32(blocks))
	w.u32(uint32(e.Payload()))
	w.u32(uint32(len(e.Runs)))
	w.u64(e.Sure + 1)
	w.u64(uint64(e.Moved))
	w.at = entryHead
	for _, r := range e.Runs {
		w.u64(uint64(r.Start)<<8 | uint64(r.Kind))
		w.u32(uint32(r.Count))
		w.u32(uint32(len(r.Sums)))
	}
	for _, r := range e.Runs {
		for _, s := range r.Sums {
			w.u32(s)
		}
	}
	binary.LittleEndian.PutUint32(buf, crc32.Checksum(buf[4:], Castagnoli))
	return buf
}

// EntrySize reads, from the first block of what may be an entry, how many blocks its header and its payload take.
func EntrySize(first []byte, tag uint64) (header, payload int, err error) {
	if len(first) < Block {
		return 0, 0, ErrAbsent
	}
	r := reader{buf: first, at: 4}
	if r.u32() != magicEntry || r.u64() != tag {
		return 0, 0, ErrAbsent
	}
	r.at += 8 + 8 + 4
	header, payload = int(r.u32()), int(r.u32())
	if header < 1 || header > MaxEntryBlocks || payload < 0 || payload > MaxEntryBlocks {
		return 0, 0, fmt.Errorf("journal entry of %d and %d blocks: %w", header, payload, ErrFormat)
	}
	return header, payload, nil
}

// DecodeEntry reads a whole header of the journal of a member with a place. The payload's contents are to be checked
// against the sums.
func DecodeEntry(buf []byte, tag uint64, place *Place) (*JournalEntry, error) {
	header, payload, err := EntrySize(buf, tag)
	if err != nil {
		return nil, err
	}
	if len(buf) != header*Block || binary.LittleEndian.Uint32(buf) != crc32.Checksum(buf[4:], Castagnoli) {
		return nil, fmt.Errorf("journal entry: wrong checksum: %w", ErrFormat)
	}
	e := &JournalEntry{}
	r := reader{buf: buf, at: 16}
	e.Batch = r.u64()
	e.Involved = r.u64()
	e.Slot = int(r.u32())
	r.at += 8
	runs := int(r.u32())
	if unsure := r.u64(); unsure > 0 {
		e.Sure = unsure - 1
	} else { // the version before wrote one batch after the other
		e.Sure = max(e.Batch, 1) - 1
	}
	e.Moved = int64(r.u64())
	if e.Batch > maxEpoch || e.Sure >= max(e.Batch, 1) || e.Slot < 0 || e.Slot >= 64 || e.Moved < 0 || e.Involved>>e.Slot&1 == 0 || runs > MaxRuns || entryHead+runs*runSize > len(buf) {
		return nil, fmt.Errorf("journal entry: out of bounds: %w", ErrFormat)
	}
	e.Runs = make([]Run, runs)
	room := (len(buf) - entryHead - runs*runSize) / 4
	r.at = entryHead
	for i := range e.Runs {
		start := r.u64()
		run := Run{Kind: RunKind(start & 0xff), Start: int64(start >> 8), Count: int(r.u32())}
		sums := int(r.u32())
		wrong := run.Kind < RunPayload || run.Kind > RunLost || run.Count < 1 || run.Count > MaxRun || !place.Holds(run.Start, int64(run.Count))
		if run.Kind >= RunNever {
			wrong = wrong || sums != 0
		} else {
			wrong = wrong || sums != run.Count
		}
		if room -= sums; wrong || sums < 0 || room < 0 {
			return nil, fmt.Errorf("journal entry: run %d is out of bounds: %w", i, ErrFormat)
		}
		run.Sums = make([]uint32, sums)
		e.Runs[i] = run
	}
	for i := range e.Runs {
		for j := range e.Runs[i].Sums {
			e.Runs[i].Sums[j] = r.u32()
		}
	}
	if e.Payload() != payload {
		return nil, fmt.Errorf("journal entry: payload of %d blocks, runs say %d: %w", payload, e.Payload(), ErrFormat)
	}
	return e, nil
}
