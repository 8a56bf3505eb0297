package array_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/disk"
)

// found opens what is left of an array, read-only.
func (f *folder) found() (out []roster.Candidate) {
	paths, err := filepath.Glob(filepath.Join(f.path, "disk*"))
	require.NoError(f.t, err)
	for _, p := range paths {
		d, err := disk.OpenReadOnly(p)
		require.NoError(f.t, err)
		r, err := disk.ReadRecord(d)
		require.NoError(f.t, err)
		out = append(out, roster.Candidate{Disk: d, Record: r})
	}
	return out
}

// TestARescueReadsWhatItPromised breaks arrays of every level in every way, down to one member: what the rescue promises is
// what is read, and what is read is what was written. Members are failed on the way with writes after, lose power
// in the middle of everything, and have places that cannot be read.
func TestARescueReadsWhatItPromised(t *testing.T) {
	shapes := []struct {
		level layout.Level
		n     int
		cover int // losses survived for certain
	}{{layout.Mirror, 3, 2}, {layout.Parity1, 4, 1}, {layout.Parity2, 6, 2}, {layout.Parity3, 6, 3}, {layout.Mirrors, 4, 1}, {layout.Parities1, 6, 1}, {layout.Striped, 3, 0}}
	seeds := 40
	for _, shape := range shapes {
		for seed := range seeds {
			t.Run(fmt.Sprintf("%s/%d", shape.level, seed), func(t *testing.T) {
				r := rand.New(rand.NewPCG(uint64(seed), uint64(shape.n)))
				f := newFolder(t)
				groups := 0
				if shape.level == layout.Mirrors || shape.level == layout.Parities1 {
					groups = 2
				}
				const room = 8 * mib
				a, err := array.Create(array.Plan{Name: "tides", Level: shape.level, Strip: 64 << 10, Groups: groups, Disks: f.disks(shape.n, 24*mib)}, array.Config{Cache: 4 * mib})
				require.NoError(t, err)
				model := make([]byte, room)
				older := map[int64][][]byte{} // by block: what it held before its last flush
				write := func(times int) {
					for range times {
						n := int64(1+r.IntN(40)) * 4096
						off := r.Int64N((room-n)/4096) * 4096
						p := noise(r.Uint64(), int(n))
						for b := int64(0); b < n; b += 4096 {
							older[off+b] = append(older[off+b], append([]byte(nil), model[off+b:][:4096]...))
						}
						copy(model[off:], p)
						require.NoError(t, a.WriteAt(p, off))
						if r.IntN(3) == 0 {
							require.NoError(t, a.Flush())
						}
					}
					require.NoError(t, a.Flush())
				}
				write(1 + r.IntN(30))
				gone, kicked := map[int]bool{}, map[int]bool{}
				for range r.IntN(3) {
					if slot := r.IntN(shape.n); a.Fail(slot, false) == nil {
						kicked[slot] = true
						write(r.IntN(6))
					}
				}
				if r.IntN(2) == 0 {
					a.Abandon()
				} else {
					require.NoError(t, a.Close())
				}
				for range r.IntN(shape.n) {
					slot := r.IntN(shape.n)
					gone[slot] = true
					_ = os.Remove(filepath.Join(f.path, fmt.Sprintf("disk%d", slot+1)))
				}
				found := f.found()
				bad := map[disk.Disk][]disk.Range{}
				for _, c := range found {
					for range r.IntN(4) {
						bad[c.Disk] = append(bad[c.Disk], disk.Range{Offset: c.Record.Place.DataStart + r.Int64N(4*mib), Length: 1 + r.Int64N(100_000)})
					}
				}
				old := r.IntN(3) == 0
				states := roster.States(found)
				require.NotEmpty(t, states)
				s, notes, err := array.Rescue(states[0], bad, old, array.Config{})
				require.NoError(t, err, "%v", notes)
				defer s.Abandon()
				promised := map[int64]bool{}
				require.NoError(t, s.Losses(func(l state.Span) {
					for b := l.Offset; b < l.Offset+l.Length; b += 4096 {
						promised[b] = true
					}
				}, func(int64) error { return nil }))
				got := make([]byte, room)
				lost, err := s.ReadKnown(got, 0)
				require.NoError(t, err)
				lacks := map[int64]bool{}
				for _, l := range lost {
					for b := l.Offset; b < l.Offset+l.Length; b += 4096 {
						lacks[b] = true
						require.True(t, promised[b], "byte %d cannot be read and was promised", b)
					}
				}
				for b := range promised {
					require.True(t, b >= room || lacks[b], "byte %d was given up and can be read", b)
				}
				for b := int64(0); b < room; b += 4096 {
					if lacks[b] || string(got[b:b+4096]) == string(model[b:b+4096]) {
						continue
					}
					was := false
					for _, o := range older[b] {
						was = was || string(o) == string(got[b:b+4096])
					}
					// Without the newest members nothing shows what came after; then, and only then, it may be older.
					newest := false
					for slot := range shape.n {
						newest = newest || !gone[slot] && !kicked[slot]
					}
					require.True(t, was, "byte %d reads as what was never there", b)
					require.True(t, old || !newest, "byte %d is older than it was promised to be", b)
				}
				if len(gone)+len(kicked) <= shape.cover && len(bad) == 0 {
					require.Empty(t, promised)
				}
			})
		}
	}
}
