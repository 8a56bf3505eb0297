package rescue_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/array/rescue"
	"nidalo/internal/array/rig"
)

// newRescue makes an array of four members with two written stripes. Member 1 left, then the second stripe was written again, and now a
// rescue has the member back.
func newRescue(t *testing.T, old bool) (*rescue.Rescue, *rig.Rig, layout.Stripe, layout.Stripe) {
	r := rig.New(t, t.TempDir(), 4)
	kept, changed := r.Layout.Stripe(0), r.Layout.Stripe(r.Layout.Stripes()-1)
	for _, st := range []layout.Stripe{kept, changed} {
		for col := range st.StripBlocks() {
			r.Put(r.Write(st, col, 1), true)
		}
	}
	require.NoError(t, r.Checkpoint())
	left := r.Slots.At(1)
	epoch := r.Roster.Epoch()
	r.Roster.Fail(left, record.Missing, errors.New("it was pulled"))
	r.Put(r.Write(changed, 0, 9), true)
	require.NoError(t, r.Checkpoint())

	back := member.New(left.Judge, member.Known{Slot: 1, Disk: r.Reopen(1), Identity: left.Identity, Place: *left.Place(), Condition: record.Active, Base: epoch, Stale: true})
	r.Slots.Put(back)
	x := &rescue.Rescue{Host: rescue.Host{Layout: func() *layout.Map { return r.Layout }, Roster: r.Roster, Slots: r.Slots, Stripes: r.Stripes, Tables: r.Tables},
		Old: old, Settled: true}
	r.Stripes.Trust = x
	return x, r, kept, changed
}

// roleOf is the role that a slot has in a stripe.
func roleOf(st layout.Stripe, slot int) int {
	for role := range st.Width() {
		if st.Slot(role) == slot {
			return role
		}
	}
	return -1
}

func TestAMemberThatLeftIsTrustedWhereNothingChanged(t *testing.T) {
	x, r, kept, changed := newRescue(t, false)
	m := r.Slots.At(1)
	require.True(t, x.Trusts(kept, roleOf(kept, 1), m))
	require.False(t, x.Trusts(changed, roleOf(changed, 1), m))
	x.Settled = false
	require.False(t, x.Trusts(kept, roleOf(kept, 1), m), "before the journals are in place the tables do not tell of all that changed")
}

func TestLossesAreWhatTooManyLackAndNoMore(t *testing.T) {
	x, r, kept, changed := newRescue(t, false)
	losses := func() (out []state.Span) {
		require.NoError(t, x.Losses(func(s state.Span) {
			if !s.Unsure { // as stripes of which nothing tells are
				out = append(out, s)
			}
		}, func(int64) error { return nil }))
		return out
	}
	require.Empty(t, losses(), "only one member is not trusted, and the code makes up for one")
	r.Slots.At(2).Become(record.Failed)
	require.False(t, x.Unsure(kept))
	part := func(number int64) int { return record.ChangePart(number, r.Layout.Stripes()) }
	inChanged := int64(0)
	for _, s := range losses() {
		for off := s.Offset; off < s.Offset+s.Length; off += record.Block {
			require.Equal(t, part(changed.Ordinal()), part(off/(changed.Strip*int64(changed.Data))), "%d did not change since the member left", off)
			if off >= changed.Offset() {
				inChanged += record.Block
			}
		}
	}
	want := int64(0)
	for role := range changed.Data {
		if slot := changed.Slot(role); slot == 1 || slot == 2 {
			want += changed.Strip
		}
	}
	require.Equal(t, want, inChanged, "all that both held of the stripe that was written since")
}

func TestOldContentsAreTakenOnlyWhenAskedAndNotProvenWrong(t *testing.T) {
	x, r, _, changed := newRescue(t, true)
	m := r.Slots.At(1)
	if role := roleOf(changed, 1); role < changed.Data {
		require.False(t, x.Trusts(changed, role, m), "a parity that was there all the while shows that it changed")
	}
	parity := changed.Slot(changed.Data)
	r.Slots.At(parity).Become(record.Failed)
	require.True(t, x.Trusts(changed, roleOf(changed, 1), m), "nothing is left that could tell")
	x.Old = false
	require.False(t, x.Trusts(changed, roleOf(changed, 1), m))
}

func TestStripesOfWhichNothingTellsAreUnsure(t *testing.T) {
	x, r, kept, _ := newRescue(t, false)
	empty := r.Layout.Stripe(r.Layout.Stripes() / 2)
	require.False(t, x.Unsure(empty), "its parity is there and tells that nothing was written")
	for _, st := range []layout.Stripe{empty, kept} {
		for slot := range 4 { // without its parity, and one more
			r.Slots.At(slot).Become(record.Active)
		}
		r.Slots.At(st.Slot(st.Data)).Become(record.Failed)
		r.Slots.At(st.Slot(0)).Become(record.Failed)
		require.Equal(t, st.ID() == empty.ID(), x.Unsure(st), "of a written stripe a remaining data block tells")
	}
}
