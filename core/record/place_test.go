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
