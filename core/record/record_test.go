package record

import (
	"bytes"
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
		Member: uuid.New(), Slot: 1, Place: place, Epoch: 7, EpochID: uuid.New(), Generation: 9, Clean: true,
		Task: Task{Kind: Check, Repair: true, Cursor: 5, Mismatches: 4, Started: time.Unix(3, 0).UTC()}}
	for i := range members {
		r.Roster = append(r.Roster, Entry{ID: uuid.New(), Condition: Active, Size: 256 << 20, DataSize: place.DataSize, Bay: "A1",
			Model: "Tamarack TK-4000", Serial: "TMK-0193", Path: "/lab/A1", Since: time.Unix(int64(i), 0).UTC(), Errors: Errors{1, 2, 3}})
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
		require.Equal(t, p.SumStart, p.MapStart+p.MapPages*Block)
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
	SealPage(buf, SumPage, 42, 7)
	require.NoError(t, CheckPage(buf, SumPage, 42, 7))
	require.EqualValues(t, 0xdeadbeef, PageSum(buf, SumsPerPage-1))
	require.ErrorIs(t, CheckPage(buf, SumPage, 42, 8), ErrFormat)
	require.ErrorIs(t, CheckPage(buf, SumPage, 43, 7), ErrFormat)
	require.ErrorIs(t, CheckPage(buf, MapPage, 42, 7), ErrFormat)
	buf[Block-1] ^= 1
	require.ErrorIs(t, CheckPage(buf, SumPage, 42, 7), ErrFormat)
}

func TestSumsAreNeverTheSpecialValues(t *testing.T) {
	require.Greater(t, Sum(make([]byte, Block)), SumLost)
	rapid.Check(t, func(t *rapid.T) {
		b := bytes.Repeat([]byte{rapid.Byte().Draw(t, "b")}, Block)
		b[17] = rapid.Byte().Draw(t, "c")
		require.Greater(t, Sum(b), SumLost)
	})
}

func entry() *JournalEntry {
	return &JournalEntry{Batch: 99, Involved: 0b1010, Slot: 3, Runs: []Run{
		{Kind: RunPayload, Start: 5, Count: 3, Sums: []uint32{7, 8, 9}},
		{Kind: RunInPlace, Start: 100, Count: 2, Sums: []uint32{4, 5}},
		{Kind: RunNever, Start: 50, Count: 40, Sums: []uint32{}},
		{Kind: RunLost, Start: 90, Count: 1, Sums: []uint32{}},
	}}
}

func TestAnEntryReadsBackAsItWasWritten(t *testing.T) {
	want := entry()
	buf := want.EncodeHeader(42)
	header, payload, err := EntrySize(buf, 42)
	require.NoError(t, err)
	require.Equal(t, []int{len(buf) / Block, 3}, []int{header, payload})
	got, err := DecodeEntry(buf, 42, 1000)
	require.NoError(t, err)
	require.Equal(t, want, got)
	_, err = DecodeEntry(buf, 43, 1000)
	require.Error(t, err, "of another member")
	_, err = DecodeEntry(buf, 42, 101)
	require.ErrorIs(t, err, ErrFormat, "beyond the member's data")
}

func TestAHeadReadsBackAsItWasWritten(t *testing.T) {
	want := JournalHead{Sequence: 3, Batch: 17, Position: 200}
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
	f.Fuzz(func(t *testing.T, b []byte) {
		b = append(b, make([]byte, Size)...)
		// Most inputs die at the checksum; a second try with a right one gets further.
		for range 2 {
			if r, err := Decode(b); err == nil {
				_, err := r.Geometry()
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
	f.Add(entry().EncodeHeader(42))
	f.Fuzz(func(t *testing.T, b []byte) {
		for range 2 {
			if e, err := DecodeEntry(b, 42, 1<<20); err == nil {
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
			_ = CheckPage(b[:Block], SumPage, 42, 1)
		}
	})
}
