package array

import (
	"crypto/subtle"
	"math/bits"
	"slices"
	"sync"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/buffer"
	"nidalo/internal/array/dirty"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/stripe"
	"nidalo/internal/probe"
)

// bypassBlocks is how much data of one run that goes where nothing was ever written makes it worth to write it in place before the
// commit, with a sync of its own, instead of writing it twice: such a column reads as zeros whatever is in place, until the commit.
const bypassBlocks = 16

// update is what one stripe's dirty blocks mean for its members.
type update struct {
	a       *Array
	st      layout.Stripe
	l       *dirty.Layer
	roles   []*member.Member // by role; nil when what it holds of the stripe is not current
	writes  []journal.Write
	owed    []journal.Owed
	scratch [][]byte
	unkept  int // blocks that have no place, see ErrUnkept
	ahead   []ahead
	sums    []uint32 // room for those of the writes
}

// updates keeps those that are done with for the next, for the sake of their slices.
var updates = sync.Pool{New: func() any { return new(update) }}

// mostWrites is how many writes an update keeps room for.
const mostWrites = 64

func (a *Array) newUpdate(st layout.Stripe, l *dirty.Layer) *update {
	u := updates.Get().(*update)
	u.a, u.st, u.l = a, st, l
	for role := range st.Width() {
		m := a.slots.At(st.Slot(role))
		if !m.Usable(st) {
			m = nil
		}
		u.roles = append(u.roles, m)
	}
	return u
}

// done lets the next have what the update took.
func (u *update) done() {
	u.a.scratch.Put(u.scratch...)
	clear(u.roles)
	clear(u.writes)
	clear(u.scratch)
	*u = update{roles: u.roles[:0], writes: u.writes[:0], scratch: u.scratch[:0], sums: u.sums[:0]}
	if cap(u.writes) > mostWrites {
		u.writes, u.scratch, u.sums = nil, nil, nil
	}
	updates.Put(u)
}

// sumsOf are the checksums of blocks, in the room for those.
func (u *update) sumsOf(buf []byte) []uint32 {
	n := len(buf) / Block
	if cap(u.sums)-len(u.sums) < n {
		u.sums = make([]uint32, 0, max(n, 2*cap(u.sums), 8)) // earlier writes have those before
	}
	out := u.sums[len(u.sums) : len(u.sums)+n : len(u.sums)+n]
	u.sums = u.sums[:len(u.sums)+n]
	record.Sums(out, buf)
	return out
}

// block is the block of column col on a member of the stripe.
func (u *update) block(m *member.Member, col int) int64 { return u.st.Block(m.Slot) + int64(col) }

// run is some neighbouring columns of an update in which the same roles are dirty.
type run struct {
	*update
	col, n      int
	dirty, zero uint64     // sets of roles: those with new contents, and of them those that become never-written
	data        [][]byte   // by data role: the new contents; nil where it is not dirty, and for zeros
	sums        [][]uint32 // by role: the sums as they are; nil without a member
	fresh, lost bool       // nothing of it was ever written; something of it is not known
	rows        [][]byte   // by parity row: the new contents; nil without a member
	unrecovered []bool     // columns of which redundancy could not tell all; nil: none
	whole       [][]byte   // by data role: the contents that parity is computed of
	room        []uint32   // for sums
}

// runs keeps runs for the sake of their slices.
var runs = sync.Pool{New: func() any { return new(run) }}

// begin has a run be about some columns of an update.
func (r *run) begin(u *update, col, n int, dirty, zero uint64) {
	*r = run{update: u, col: col, n: n, dirty: dirty, zero: zero, fresh: true,
		data: buffer.Zeroed(r.data, u.st.Data), sums: buffer.Zeroed(r.sums, len(u.roles)), rows: buffer.Zeroed(r.rows, u.st.Parity), whole: buffer.Zeroed(r.whole, u.st.Data), room: r.room}
}

// work works out the runs.
func (u *update) work() error { return u.each((*run).work) }

// each cuts the stripe into runs.
func (u *update) each(f func(*run) error) error {
	columns := u.st.StripBlocks()
	r := runs.Get().(*run)
	defer runs.Put(r)
	for col := 0; col < columns; {
		dirty, zero := u.pattern(col)
		n := 1
		for col+n < columns {
			d, z := u.pattern(col + n)
			if d != dirty || z != zero {
				break
			}
			n++
		}
		if dirty != 0 {
			r.begin(u, col, n, dirty, zero)
			if err := f(r); err != nil {
				return err
			}
		}
		col += n
	}
	return nil
}

// pattern is the set of roles dirty in a column, and of those to become never-written.
func (u *update) pattern(col int) (dirty, zero uint64) {
	w, b := col/64, col%64
	for role := range u.l.Dirty {
		dirty |= u.l.Dirty[role][w] >> b & 1 << role
		zero |= u.l.Zero[role][w] >> b & 1 << role
	}
	return dirty, zero
}

func (r *run) isDirty(role int) bool { return r.dirty>>role&1 == 1 }
func (r *run) isZero(role int) bool  { return r.zero>>role&1 == 1 }

// work reads the sums, computes the parity and adds the writes.
func (r *run) work() error {
	if err := r.readSums(); err != nil {
		return err
	}
	if r.forgo(); r.dirty == 0 {
		return nil
	}
	if bits.OnesCount64(r.dirty) == r.st.Data && r.n == r.st.StripBlocks() {
		r.a.stats.FullStripes.Add(1)
	} else {
		r.a.stats.PartialRuns.Add(1)
	}
	for role := range r.data {
		if r.isDirty(role) && !r.isZero(role) {
			r.data[role] = r.l.Run(role, r.col, r.n, r.alloc)
		}
	}
	if r.hasParity() {
		if err := r.parity(); err != nil {
			return err
		}
	}
	r.addData()
	r.addParity()
	return nil
}

// hasParity says whether there is a member that takes parity.
func (r *run) hasParity() bool {
	return slices.ContainsFunc(r.roles[r.st.Data:], func(m *member.Member) bool { return m != nil })
}

// readSums has the sums of the run by role, nil for roles without a member.
func (r *run) readSums() error {
	r.room = buffer.Zeroed(r.room, r.n*len(r.roles))
	room := r.room
	for role, m := range r.roles {
		if m == nil {
			continue
		}
		r.sums[role], room = room[:r.n], room[r.n:]
		if err := r.a.tables.Sums(m, r.block(m, r.col), r.sums[role]); err != nil {
			if m.Live() {
				return err
			}
			// The member has just failed; go on without it.
			r.roles[role], r.sums[role] = nil, nil
			if err := r.a.alive(); err != nil {
				return err
			}
		}
		for _, v := range r.sums[role] {
			r.fresh = r.fresh && v == record.SumNever
			r.lost = r.lost || record.Unknown(v)
		}
	}
	return nil
}

// parity computes the new parity of the run. There are two ways: read the other data and compute it anew, or read what is to be
// overwritten and the parity and fold in the difference. Blocks that were never written cost no read.
func (r *run) parity() error {
	for j := range r.rows {
		if r.roles[r.st.Data+j] != nil {
			r.rows[j] = r.alloc()
		}
	}
	switch r.way() {
	case blank:
		stripe.Encode(r.st, r.rows, r.data)
		return nil
	case anew:
		if r.encodeAnew() {
			return nil
		}
	case fold:
		if r.foldIn() {
			return nil
		}
	}
	if err := r.a.alive(); err != nil {
		return err
	}
	return r.recoverAndEncode()
}

// The ways to the new parity.
const (
	blank   = iota // of what was never written: of the new data
	anew           // of all data
	fold           // of the difference
	restore        // of what redundancy tells
)

// way is the way that has to read least.
func (r *run) way() int {
	again, modify := r.costs()
	switch {
	case r.fresh:
		return blank
	case r.lost:
		return restore
	case again >= 0 && (again <= modify || modify < 0):
		return anew
	case modify >= 0:
		return fold
	}
	return restore
}

// costs is how many blocks the two ways have to read; -1 for one that a member is lacking for.
func (r *run) costs() (again, modify int) {
	againOK, modifyOK := true, true
	for role, m := range r.roles {
		written := 0
		for _, v := range r.sums[role] {
			if v != record.SumNever {
				written++
			}
		}
		if role < r.st.Data && !r.isDirty(role) {
			againOK = againOK && m != nil
			again += written
		} else {
			modifyOK = modifyOK && (m != nil || role >= r.st.Data)
			modify += written
		}
	}
	if !againOK {
		again = -1
	}
	if !modifyOK {
		modify = -1
	}
	return again, modify
}

// encodeAnew reads the data that stays and computes parity of all. It says false when something could not be read.
func (r *run) encodeAnew() bool {
	whole := r.whole
	copy(whole, r.data)
	for role := range whole {
		if !r.isDirty(role) {
			var ok bool
			if whole[role], ok = r.old(role); !ok {
				return false
			}
		}
	}
	stripe.Encode(r.st, r.rows, whole)
	return true
}

// foldIn reads the parity and what is to be overwritten, and folds in the difference. It says false when something could not be read.
func (r *run) foldIn() bool {
	k := r.st.Data
	for j := range r.rows {
		if r.rows[j] == nil {
			continue
		}
		m := r.roles[k+j]
		if record.AllAre(r.sums[k+j], record.SumNever) {
			clear(r.rows[j])
		} else if held := r.held(k + j); held != nil {
			r.rows[j] = held
		} else if r.a.stripes.ReadVerified(m, r.block(m, r.col), r.rows[j], r.sums[k+j]) != nil {
			return false
		}
	}
	for role := range k {
		if !r.isDirty(role) {
			continue
		}
		delta, ok := r.old(role)
		switch {
		case !ok:
			return false
		case delta == nil && r.data[role] == nil:
			continue
		case delta == nil:
			delta = r.data[role]
		case r.data[role] != nil:
			subtle.XORBytes(delta, delta, r.data[role])
		}
		stripe.Update(r.st, r.rows, role, delta)
	}
	return true
}

// recoverAndEncode restores the whole of the columns first: something of them is missing or wrong.
func (r *run) recoverAndEncode() error {
	k := r.st.Data
	c, err := r.a.stripes.Load(r.st, r.col, r.n, nil)
	if err != nil {
		return err
	}
	r.scratch = append(r.scratch, c.Bufs...) // they may end up in the change
	if err := c.Recover(); err != nil {
		return err
	}
	r.a.healed(c.Heal(), r.st.Ordinal())
	whole := r.whole
	copy(whole, r.data)
	for role := range k {
		if r.isDirty(role) {
			continue
		}
		whole[role] = c.Bufs[role]
		for col := range r.n {
			if !c.Known[role][col] {
				if r.unrecovered == nil {
					r.unrecovered = make([]bool, r.n)
				}
				r.unrecovered[col] = true
			}
		}
	}
	for role := range r.roles {
		if m := r.roles[role]; m != nil && !m.Usable(r.st) {
			r.roles[role] = nil
		}
	}
	for j := range r.rows {
		if r.roles[k+j] == nil {
			r.rows[j] = nil
		}
	}
	stripe.Encode(r.st, r.rows, whole)
	return nil
}

// old reads the present contents of a role, verified; nil stands for zeros.
func (r *run) old(role int) ([]byte, bool) {
	if record.AllAre(r.sums[role], record.SumNever) {
		return nil, true
	}
	if held := r.held(role); held != nil {
		return held, true
	}
	buf, m := r.alloc(), r.roles[role]
	return buf, r.a.stripes.ReadVerified(m, r.block(m, r.col), buf, r.sums[role]) == nil
}

// kind is how the run's contents reach the members.
func (r *run) kind() record.RunKind {
	if r.fresh && r.n*bits.OnesCount64(r.dirty&^r.zero) >= bypassBlocks {
		return record.RunInPlace
	}
	return record.RunPayload
}

// addData adds the writes of the data.
func (r *run) addData() {
	for role := range r.st.Data {
		switch m := r.roles[role]; {
		case !r.isDirty(role):
		case m == nil && r.beyond():
			r.orphan() // it left meanwhile
		case m == nil:
			if r.st.Fixed {
				r.owed = append(r.owed, journal.Owed{Slot: r.st.Slot(role), Ordinal: r.st.Ordinal()})
			}
			for _, u := range r.unrecovered {
				if u {
					r.unkept++
				}
			}
		case r.isZero(role):
			r.mark(m, record.RunNever, 0, r.n)
		default:
			r.add(m, r.kind(), 0, r.data[role], r.sums[role])
		}
	}
}

// beyond says whether more of a stripe of a guarded set is lost than there is parity. Of all other arrays nothing is written then.
func (u *update) beyond() bool { return u.st.Fixed && !u.a.slots.Protects(u.st) }

// forgo leaves out new data that nothing would tell: its member is lost, and so are others.
func (r *run) forgo() {
	for role := range r.st.Data {
		if r.isDirty(role) && r.roles[role] == nil && r.beyond() {
			r.dirty, r.zero = r.dirty&^(1<<role), r.zero&^(1<<role)
			r.unkept += r.n
		}
	}
}

// orphan makes the parity that was computed unknown: it is of data that nobody has.
func (r *run) orphan() {
	r.unkept += r.n
	r.unrecovered = make([]bool, r.n)
	for i := range r.unrecovered {
		r.unrecovered[i] = true
	}
}

// lostMeanwhile is how many of the blocks that were being written were for members that have left by now, with too many others.
func (u *update) lostMeanwhile() (blocks int) {
	if !u.beyond() {
		return 0
	}
	for role := range u.st.Data {
		for _, w := range u.l.Dirty[role] {
			if !u.a.slots.At(u.st.Slot(role)).Usable(u.st) {
				blocks += bits.OnesCount64(w)
			}
		}
	}
	return blocks
}

// addParity adds the writes of the parity. A column becomes never-written as a whole when none of its data is written any more.
func (r *run) addParity() {
	for c := 0; c < r.n; {
		lost, empty := r.isLost(c), r.empty(c)
		e := c + 1
		for e < r.n && r.isLost(e) == lost && r.empty(e) == empty {
			e++
		}
		for j, row := range r.rows {
			m := r.roles[r.st.Data+j]
			switch {
			case m == nil || row == nil:
			case lost:
				r.mark(m, record.RunLost, c, e-c)
			case empty:
				probe.ColumnEmptied.Seen()
				r.mark(m, record.RunNever, c, e-c)
			case probe.ParityNotJournalled.On():
				r.add(m, record.RunInPlace, c, row[c*Block:e*Block], r.sums[r.st.Data+j][c:e])
			default:
				r.add(m, r.kind(), c, row[c*Block:e*Block], r.sums[r.st.Data+j][c:e])
			}
		}
		c = e
	}
}

func (r *run) isLost(c int) bool { return r.unrecovered != nil && r.unrecovered[c] }

// empty says whether, after this change, no data block of column c of the run is written.
func (r *run) empty(c int) bool {
	if r.dirty != r.zero {
		return false
	}
	for role := range r.st.Data {
		if !r.isDirty(role) && (r.sums[role] == nil || r.sums[role][c] != record.SumNever) {
			return false
		}
	}
	return true
}

// mark adds that n columns from the cth of the run on become of a kind without contents.
func (r *run) mark(m *member.Member, kind record.RunKind, c, n int) {
	r.writes = append(r.writes, journal.Write{M: m, Kind: kind, Block: r.block(m, r.col+c), N: n})
}

// add adds the write of some columns from the cth of the run on; old is what the sums there were.
func (r *run) add(m *member.Member, kind record.RunKind, c int, buf []byte, old []uint32) {
	r.writes = append(r.writes, journal.Write{M: m, Kind: kind, Block: r.block(m, r.col+c), N: len(buf) / Block, Buf: buf,
		Sums: r.sumsOf(buf), Hole: slices.Contains(old, record.SumNever)})
}

// alloc is a buffer for one role of the run, until the update is done with.
func (r *run) alloc() []byte {
	b := r.a.scratch.Get(r.n)
	r.scratch = append(r.scratch, b)
	return b
}
