package record

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nidalo/core/layout"
)

func sample(members int) *Record {
	place, err := PlaceFor(256<<20, 0)
	if err != nil {
		panic(err)
	}
	r := &Record{Array: uuid.New(), Name: "tides", Created: time.Unix(1, 2).UTC(), Level: layout.Parity2, Strip: 64 << 10,
		Member: uuid.New(), Slot: 1, Place: place, Epoch: 7, EpochID: uuid.New(), Generation: 9, Starts: 3, Before: 5, Clean: true,
		Task: Task{Kind: Check, Repair: true, Cursor: 5, Mismatches: 4, Started: time.Unix(3, 0).UTC()}}
	for i := range members {
		r.Roster = append(r.Roster, Entry{ID: uuid.New(), Condition: Active, Size: 256 << 20, DataSize: place.DataSize, Bay: "A1",
			Model: "Tamarack TK-4000", Serial: "TMK-0193", Path: "/lab/A1", Since: time.Unix(int64(i), 0).UTC(), Errors: Errors{1, 2, 3}, Witness: WitnessOf(i, members)})
	}
	r.Roster[0].Condition, r.Roster[0].Cursor = Rebuilding, 3
	r.Roster[0].Since = time.Time{}
	r.Changes.Since = 4
	r.Changes.Mark(0)
	r.Changes.Mark(ChangeParts - 1)
	return r
}

func TestAChangeMapProvesOnlyWhatItWasThereFor(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		stripes := rapid.Int64Range(1, 1<<50).Draw(t, "stripes")
		stripe := rapid.Int64Range(0, stripes-1).Draw(t, "stripe")
		later := rapid.Int64Range(stripe, stripes-1).Draw(t, "later")
		part := ChangePart(stripe, stripes)
		require.True(t, part >= 0 && part < ChangeParts)
		require.LessOrEqual(t, part, ChangePart(later, stripes), "parts are in order")
		var c Changes
		require.False(t, c.Unchanged(part, 9), "without a map nothing is proven")
		c.Since = 5
		require.True(t, c.Unchanged(part, 5))
		require.False(t, c.Unchanged(part, 4), "nor for those that left before it began")
		c.Mark(part)
		require.False(t, c.Unchanged(part, 9))
		require.Equal(t, 1, c.Marked())
	})
	require.Equal(t, ChangeParts-1, ChangePart(1<<40, 7), "places beyond the end do no harm")
	require.Zero(t, ChangePart(-3, 0))
}

func TestARecordReadsBackAsItWasWritten(t *testing.T) {
	for _, members := range []int{4, 8, 64} {
		want := sample(members)
		buf, err := want.Encode()
		require.NoError(t, err)
		require.Zero(t, len(buf)%Block)
		require.LessOrEqual(t, len(buf), Size)
		got, err := Decode(append(buf, make([]byte, Size-len(buf))...))
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
}

func TestEveryChangedByteOfARecordIsNoticed(t *testing.T) {
	buf, err := sample(6).Encode()
	require.NoError(t, err)
	whole := append(buf, make([]byte, Size-len(buf))...)
	for i := range buf {
		whole[i] ^= 0x40
		_, err := Decode(whole)
		require.Error(t, err, "byte %d", i)
		whole[i] ^= 0x40
	}
}

func TestPlacesLieInOrderWithinTheDisk(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.Int64Range(8<<20, 30<<40).Draw(t, "size")
		p, err := PlaceFor(size, 0)
		require.NoError(t, err)
		require.Less(t, int64(Size), p.JournalStart)
		require.Equal(t, p.MapStart, p.JournalStart+p.JournalSize)
		require.Equal(t, p.WitnessStart, p.MapStart+p.MapPages*Block)
		require.Equal(t, p.SumStart, p.WitnessStart+p.WitnessPages*Block)
		require.GreaterOrEqual(t, p.WitnessPages*WitnessesPerPage, p.MapPages+p.SumPages)
		require.LessOrEqual(t, p.SumStart+p.SumPages*Block, p.DataStart)
		require.LessOrEqual(t, p.DataStart+p.DataSize, size-Size)
		require.GreaterOrEqual(t, p.SumPages*SumsPerPage*Block, p.DataSize)
		require.GreaterOrEqual(t, p.MapPages*BitsPerPage, p.SumPages)
		if size > 1<<30 {
			require.Greater(t, float64(p.DataSize), 0.91*float64(size), "what is not data is little")
		}
		again, err := PlaceFor(size, p.DataSize)
		require.NoError(t, err)
		require.Equal(t, p, again)
	})
}

func TestPagesKnowWhereTheyBelong(t *testing.T) {
	buf := make([]byte, Block)
	SetPageSum(buf, SumsPerPage-1, 0xdeadbeef)
	SealPage(buf, SumPage, 42, 7, 12345)
	number, _, err := CheckPage(buf, SumPage, 42, 7)
	require.NoError(t, err)
	require.EqualValues(t, 12345, number)
	require.EqualValues(t, 0xdeadbeef, PageSum(buf, SumsPerPage-1))
	for _, other := range []func() (uint64, uint64, error){
		func() (uint64, uint64, error) { return CheckPage(buf, SumPage, 42, 8) }, func() (uint64, uint64, error) { return CheckPage(buf, SumPage, 43, 7) },
		func() (uint64, uint64, error) { return CheckPage(buf, MapPage, 42, 7) },
	} {
		_, _, err := other()
		require.ErrorIs(t, err, ErrFormat)
	}
	for i := 0; i < Block; i += 61 {
		buf[i] ^= 1
		_, _, err := CheckPage(buf, SumPage, 42, 7)
		require.ErrorIs(t, err, ErrFormat, "byte %d", i)
		buf[i] ^= 1
	}
}

// Entries of a page do not overlap each other or its heads, and a mix of sectors of two checkpoints is a page of the newer one.
func TestAPageKeepsWhatItIsGiven(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		old, sums, bits, seen := make([]byte, Block), map[int]uint32{}, map[int]bool{}, map[int]Witness{}
		SealPage(old, SumPage, 1, 2, 9)
		buf, bitmap, witness := make([]byte, Block), make([]byte, Block), make([]byte, Block)
		SetPageWitness(witness, 99, 3, Witness{1, 2}) // of a member that was replaced
		SetPageEpoch(buf, 1<<40)
		for range rapid.IntRange(1, 60).Draw(t, "n") {
			i := rapid.IntRange(0, SumsPerPage-1).Draw(t, "sum")
			sums[i] = rapid.Uint32().Draw(t, "value")
			SetPageSum(buf, i, sums[i])
			i = rapid.IntRange(0, BitsPerPage-1).Draw(t, "bit")
			bits[i] = rapid.Bool().Draw(t, "on")
			SetPageBit(bitmap, i, bits[i])
			i = rapid.IntRange(0, WitnessesPerPage-1).Draw(t, "witness")
			seen[i] = Witness{rapid.Uint64Range(0, MaxCheckpoint).Draw(t, "checkpoint"), rapid.Uint32().Draw(t, "crc")}
			SetPageWitness(witness, 7, i, seen[i])
		}
		SealPage(buf, SumPage, 1, 2, 10)
		SealPage(bitmap, MapPage, 1, 2, 10)
		SealPage(witness, WitnessPage, 1, 2, 10)
		require.EqualValues(t, 1<<40, PageEpoch(buf))
		all := make([]uint32, SumsPerPage)
		PageSums(buf, 0, all)
		for i := range SumsPerPage {
			require.Equal(t, sums[i], PageSum(buf, i))
			require.Equal(t, sums[i], all[i])
		}
		next := NextPageBit(bitmap, 0, BitsPerPage)
		for i := range BitsPerPage {
			require.Equal(t, bits[i], PageBit(bitmap, i))
			if bits[i] {
				require.Equal(t, next, i)
				next = NextPageBit(bitmap, i+1, BitsPerPage)
			}
		}
		require.Equal(t, BitsPerPage, next)
		for i, w := range seen {
			require.Equal(t, w, PageWitness(witness, 7, i))
			require.Zero(t, PageWitness(witness, 8, i), "of another member")
		}
		torn := bytes.Clone(old)
		for i := range sectors {
			if rapid.Bool().Draw(t, "new") || i == 0 {
				copy(torn[i*sectorSize:], buf[i*sectorSize:][:sectorSize])
			}
		}
		newest, oldest, err := CheckPage(torn, SumPage, 1, 2)
		require.NoError(t, err)
		require.EqualValues(t, 10, newest)
		if bytes.Equal(torn, buf) {
			require.EqualValues(t, 10, oldest)
		} else {
			require.EqualValues(t, 9, oldest)
		}
	})
}

func TestSumsAreNeverTheSpecialValues(t *testing.T) {
	require.Greater(t, Sum(make([]byte, Block)), SumDoubt)
	rapid.Check(t, func(t *rapid.T) {
		b := bytes.Repeat([]byte{rapid.Byte().Draw(t, "b")}, Block)
		b[17] = rapid.Byte().Draw(t, "c")
		require.Greater(t, Sum(b), SumDoubt)
	})
}

func entry() *JournalEntry {
	return &JournalEntry{Batch: 99, Sure: 97, Involved: 0b1010, Slot: 3, Runs: []Run{
		{Kind: RunPayload, Start: 5, Count: 3, Sums: []uint32{7, 8, 9}},
		{Kind: RunInPlace, Start: 100, Count: 2, Sums: []uint32{4, 5}},
		{Kind: RunNever, Start: 50, Count: 40, Sums: []uint32{}},
		{Kind: RunLost, Start: 90, Count: 1, Sums: []uint32{}},
	}}
}

// room is the place of a member with so many blocks of data.
func room(blocks int64) *Place { return &Place{Segment: Segment{DataSize: blocks * Block}} }

func TestAnEntryReadsBackAsItWasWritten(t *testing.T) {
	want := entry()
	buf := want.EncodeHeader(42, nil)
	header, payload, err := EntrySize(buf, 42)
	require.NoError(t, err)
	require.Equal(t, []int{len(buf) / Block, 3}, []int{header, payload})
	got, err := DecodeEntry(buf, 42, room(1000))
	require.NoError(t, err)
	require.Equal(t, want, got)
	_, err = DecodeEntry(buf, 43, room(1000))
	require.Error(t, err, "of another member")
	_, err = DecodeEntry(buf, 42, room(101))
	require.ErrorIs(t, err, ErrFormat, "beyond the member's data")

	// The version before did not say which batch was committed last: it was the one before.
	binary.LittleEndian.PutUint64(buf[48:], 0)
	seal := func() { binary.LittleEndian.PutUint32(buf, crc32.Checksum(buf[4:], Castagnoli)) }
	seal()
	got, err = DecodeEntry(buf, 42, room(1000))
	require.NoError(t, err)
	require.EqualValues(t, 98, got.Sure)
	binary.LittleEndian.PutUint64(buf[48:], 100)
	seal()
	_, err = DecodeEntry(buf, 42, room(1000))
	require.ErrorIs(t, err, ErrFormat, "it names itself")
}

func TestAHeadReadsBackAsItWasWritten(t *testing.T) {
	want := JournalHead{Sequence: 3, Batch: 17, Position: 200, Joined: 16}
	buf := want.Encode(42)
	got, err := DecodeJournalHead(buf, 42, 201)
	require.NoError(t, err)
	require.Equal(t, want, got)
	_, err = DecodeJournalHead(buf, 42, 200)
	require.ErrorIs(t, err, ErrFormat)
	_, err = DecodeJournalHead(buf, 41, 201)
	require.ErrorIs(t, err, ErrFormat)
}

func FuzzRecord(f *testing.F) {
	buf, _ := sample(5).Encode()
	f.Add(buf)
	f.Add(buf[:Block])
	buf, _ = grown(f, 5).Encode()
	f.Add(buf)
	f.Fuzz(func(t *testing.T, b []byte) {
		b = append(b, make([]byte, Size)...)
		// Most inputs die at the checksum; a second try with a right one gets further.
		for range 2 {
			if r, err := Decode(b); err == nil {
				_, err := r.Layout()
				require.NoError(t, err)
				_, err = r.Encode()
				require.NoError(t, err)
			}
			seal(b)
		}
	})
}

func seal(b []byte) {
	if n := int(le.Uint32(b[12:])); n >= Block && n <= Size && n <= len(b) {
		le.PutUint32(b[8:], checksum(b[12:n]))
	}
}

func FuzzEntry(f *testing.F) {
	f.Add(entry().EncodeHeader(42, nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		for range 2 {
			if e, err := DecodeEntry(b, 42, room(1<<20)); err == nil {
				for _, r := range e.Runs {
					require.LessOrEqual(t, r.Start+int64(r.Count), int64(1<<20))
				}
				require.LessOrEqual(t, e.HeaderBlocks(), len(b)/Block+1)
			}
			if len(b) >= Block {
				le.PutUint32(b, checksum(b[4:]))
			}
		}
		if len(b) >= Block {
			_, _ = DecodeJournalHead(b[:Block], 42, 100)
			_, _, _ = CheckPage(b[:Block], SumPage, 42, 1)
		}
	})
}
