package record

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
)

// grown is the record of an array whose disks have become twice as large, with a second region over the new segments.
func grown(t require.TestingT, members int) *Record {
	r := sample(members)
	lay, err := r.Layout()
	require.NoError(t, err)
	r.Regions = RegionsOf(lay)
	r.Place.Size *= 2
	more := r.Place.Room(r.Place.Size)
	r.Place, err = r.Place.With(more)
	require.NoError(t, err)
	second := r.Regions[0]
	second.ID, second.Rows, second.Begin = 1, more/r.Strip, slices.Repeat([]int64{r.Place.More[0].First}, members)
	r.Regions = append(r.Regions, second)
	for i := range r.Roster {
		r.Roster[i].More, r.Roster[i].Size = []int64{more}, r.Place.Size
	}
	return r
}

func TestARecordWithRegionsReadsBackAsItWasWritten(t *testing.T) {
	r := grown(t, 5)
	buf, err := r.Encode()
	require.NoError(t, err)
	got, err := Decode(buf)
	require.NoError(t, err)
	require.Equal(t, r.Place, got.Place)
	require.Equal(t, r.Roster[4].More, got.Roster[4].More)
	require.EqualValues(t, FeatureRegions, got.Features)
	want, err := r.Layout()
	require.NoError(t, err)
	lay, err := got.Layout()
	require.NoError(t, err)
	require.Equal(t, want.Capacity(), lay.Capacity())
	require.Len(t, lay.Regions(), 2)
	st, _ := lay.Locate(lay.Regions()[0].Stripes() * lay.Regions()[0].StripeSize())
	require.Equal(t, r.Place.More[0].DataStart, got.Place.Offset(st.Block(0)), "where the second region begins")

	// In the middle of a change to level 6, when a third of it has moved.
	r.Turn = &Turn{Level: layout.Parity2, Strip: r.Strip, Started: r.Created, Regions: []layout.Region{
		{Shape: layout.Shape{Data: 4, Parity: 1, Groups: 1, Strip: r.Strip}, ID: 2, Rows: r.Regions[0].Rows, Slots: r.Regions[0].Slots, Begin: r.Regions[0].Begin},
		{Shape: layout.Shape{Data: 4, Parity: 1, Groups: 1, Strip: r.Strip}, ID: 3, Rows: r.Regions[1].Rows, Slots: r.Regions[1].Slots, Begin: r.Regions[1].Begin},
	}}
	turn, err := r.Turns()
	require.NoError(t, err)
	r.Turn.Moved = turn.Floor(turn.Old.Capacity() / 3)
	buf, err = r.Encode()
	require.NoError(t, err)
	got, err = Decode(buf)
	require.NoError(t, err)
	require.Equal(t, r.Turn, got.Turn)
	require.EqualValues(t, FeatureRegions|FeatureTwoLayouts, got.Features)
	r.Turn.Moved++
	_, err = r.Encode()
	require.ErrorIs(t, err, ErrFormat, "a boundary in the middle of a row")
	other, err := turn.Back()
	require.NoError(t, err)
	rest := other.Floor(turn.Old.Capacity() / 3 * 2)
	r.Turn.Moved, r.Turn.Had = turn.Old.Capacity()-rest, len(r.Roster)-1
	there, err := r.Layout()
	require.NoError(t, err)
	r.Turn.Way, r.Turn.Moved = Back, rest
	buf, err = r.Encode()
	require.NoError(t, err)
	got, err = Decode(buf)
	require.NoError(t, err)
	require.Equal(t, r.Turn, got.Turn)
	require.EqualValues(t, FeatureRegions|FeatureTwoLayouts|FeatureBack, got.Features, "an older program refuses it")
	back, err := got.Layout()
	require.NoError(t, err)
	require.Equal(t, there.Regions(), back.Regions(), "nothing moves where it turns")
	r.Turn.Way = Back + 1
	buf, err = r.Encode()
	if err == nil {
		_, err = Decode(buf)
	}
	require.ErrorIs(t, err, ErrFormat, "a way that there is not")

	for what, change := range map[string]func(*Record){
		"a region behind the end":         func(r *Record) { r.Regions[1].Rows++ },
		"regions that overlap":            func(r *Record) { r.Regions[1].Begin[2] = 16 },
		"a region between the segments":   func(r *Record) { r.Regions[1].Begin[r.Slot]-- },
		"a segment that is elsewhere":     func(r *Record) { r.Place.More[0].DataStart += mib },
		"segments that no roster names":   func(r *Record) { r.Regions = nil },
		"a region of another shape":       func(r *Record) { r.Regions[1].Groups = 2 },
		"a strip that is no power of two": func(r *Record) { r.Regions[1].Strip = 3 << 14 },
		"a region without an end":         func(r *Record) { r.Regions[1].Rows = 1 << 62 },
	} {
		r := grown(t, 5)
		change(r)
		buf, err := r.Encode()
		if err == nil {
			_, err = Decode(buf)
		}
		require.ErrorIs(t, err, ErrFormat, what)
	}
}

// What belongs to different pages lies in different places, whatever the sizes of the segments, and every page has a witness of its own.
func TestPagesAndBlocksOfSegmentsNeverMeet(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 7))
		size := int64(8<<20) + r.Int64N(1<<uint(24+r.IntN(22)))
		p, err := PlaceFor(size, 0)
		require.NoError(t, err)
		other := p
		for range r.IntN(4) {
			p.Size += r.Int64N(p.Size)
			if more := p.Room(p.Size); more > 0 {
				p, err = p.With(more)
				require.NoError(t, err)
			}
		}
		other.Size = p.Size
		for s := range p.All() {
			if s != &p.Segment {
				other, err = other.With(s.DataSize)
				require.NoError(t, err)
			}
		}
		require.NoError(t, p.check())
		type stretch struct{ from, to int64 }
		var all []stretch
		all = append(all, stretch{0, p.JournalStart + p.JournalSize}, stretch{p.End(), p.Size})
		for s := range p.All() {
			for _, kind := range []PageKind{MapPage, WitnessPage, SumPage} {
				first, n, _ := s.pages(kind)
				for _, number := range []int64{first, first + n - 1} {
					require.True(t, p.Has(kind, number))
					if kind != WitnessPage {
						page, at, ok := p.WitnessOf(&other, kind, number)
						require.True(t, ok && other.Has(WitnessPage, page) && at < WitnessesPerPage)
					}
				}
				require.True(t, kind == MapPage || !p.Has(kind, first+n))
				all = append(all, stretch{p.PageAt(kind, first), p.PageAt(kind, first+n-1) + Block})
			}
			blocks := s.DataSize / Block
			require.True(t, p.Holds(s.First, blocks))
			require.False(t, p.Holds(s.First, blocks+1))
			require.False(t, p.Holds(s.First+blocks, 1))
			all = append(all, stretch{p.Offset(s.First), p.Offset(s.First) + blocks*Block})
			last := s.First + blocks - 1
			require.True(t, p.Has(SumPage, last/SumsPerPage) && p.Has(MapPage, last/segmentUnit))
		}
		slices.SortFunc(all, func(x, y stretch) int { return int(min(max(x.from-y.from, -1), 1)) })
		for i := range len(all) - 1 {
			require.LessOrEqual(t, all[i].to, all[i+1].from, "seed %d: %v", seed, all)
		}
	}
}

// Two pages never have one witness.
func TestEveryPageHasAWitnessOfItsOwn(t *testing.T) {
	p, err := PlaceFor(6<<30, 0)
	require.NoError(t, err)
	p.Size = 10 << 30
	p, err = p.With(p.Room(p.Size))
	require.NoError(t, err)
	type place struct {
		page int64
		at   int
	}
	seen := map[place]bool{}
	for _, kind := range []PageKind{MapPage, SumPage} {
		for number := range p.Pages(kind) {
			page, at, ok := p.WitnessOf(&p, kind, number)
			require.True(t, ok)
			require.False(t, seen[place{page, at}])
			seen[place{page, at}] = true
		}
	}
	require.Len(t, seen, int(p.MapPages+p.SumPages+p.More[0].MapPages+p.More[0].SumPages))
}

// A member that is larger than the one that bears witness of it, from the beginning or since it got more segments, has a witness for every page, which stays
// where it is when the other gets more segments too.
func TestLargerMembersHaveWitnesses(t *testing.T) {
	small, err := PlaceFor(64<<20, 0)
	require.NoError(t, err)
	large, err := PlaceFor(700<<20, 0)
	require.NoError(t, err)
	type place struct {
		page int64
		at   int
	}
	where := func(holder *Place) (out []place) {
		for _, kind := range []PageKind{MapPage, SumPage} {
			for number := range large.Pages(kind) {
				page, at, ok := large.WitnessOf(holder, kind, number)
				require.True(t, ok && holder.Has(WitnessPage, page))
				require.NotContains(t, out, place{page, at})
				out = append(out, place{page, at})
			}
		}
		return out
	}
	large.Size = 900 << 20
	large, err = large.With(large.Room(large.Size))
	require.NoError(t, err)
	before := where(&small)
	grown := small
	grown.Size = 96 << 20
	grown, err = grown.With(grown.Room(grown.Size))
	require.NoError(t, err)
	require.Equal(t, before, where(&grown))
	for mine, theirs := range small.SameWitnesses(&grown, &large) {
		require.Equal(t, mine, theirs)
	}
}

// Members as they once were laid out bear witness of a segment of the same place only, and give what they know to others.
func TestWitnessesWithoutMoreRoom(t *testing.T) {
	old := func(p Place) Place {
		out := Place{Size: p.Size, JournalStart: p.JournalStart, JournalSize: p.JournalSize}
		var err error
		out.Segment, err = segmentFor(p.JournalStart+p.JournalSize, p.End(), 0, p.DataSize, 1)
		require.NoError(t, err)
		for _, data := range p.Sizes() {
			s, err := out.further(data)
			require.NoError(t, err)
			require.EqualValues(t, 1, s.room())
			out.More = append(out.More, s)
		}
		require.NoError(t, out.check())
		return out
	}
	p, err := PlaceFor(64<<20, 40<<20, 8<<20)
	require.NoError(t, err)
	first := old(p)
	more := first.More[0]
	page, at, ok := p.WitnessOf(&first, MapPage, more.FirstMap())
	require.True(t, ok && page == more.First/SumsPerPage && at == 0, "the second segment tells of the second")
	first.More = nil
	_, _, ok = p.WitnessOf(&first, MapPage, more.FirstMap())
	require.False(t, ok)
	n := 0
	for mine, theirs := range first.SameWitnesses(&p, &p) {
		require.Equal(t, mine, theirs)
		n++
	}
	require.Equal(t, int(first.WitnessPages), n)
	first = old(p)
	_, ok = first.SameWitness(&p, more.First/SumsPerPage)
	require.False(t, ok, "what is behind the first is counted in another way there")
}
