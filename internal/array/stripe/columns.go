package stripe

import (
	"errors"
	"fmt"
	"slices"
	"sync"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/buffer"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/probe"
)

// Columns is the contents of some columns of one stripe over all roles. The caller of load holds the stripe; to
// heal it must hold it exclusively, and the barrier.
type Columns struct {
	s     *Stripes
	St    layout.Stripe
	first int // column
	n     int
	Roles []*member.Member // by role; nil where the contents are not current
	Bufs  [][]byte         // by role, n blocks
	lent  []bool           // by role: the buffer is the caller's
	sums  [][]uint32       // by role; nil without a member
	had   [][]uint32       // by role and column: the sum of what the disk holds, where that is in doubt
	Known [][]bool         // by role and column: the buffer holds the contents
	Wrong [][]Cause        // by role and column: why the member does not have what it should
	over  Override

	flags  []bool   // room for known,
	causes []Cause  // for wrong,
	words  []uint32 // and for had and sums
}

// Cause is why a block of a member is of no use.
type Cause uint8

const (
	sound    Cause = iota
	Unread         // the disk could not read it
	Mismatch       // its checksum is wrong
	Lost           // its contents were not known already
	Doubted        // its sum is not to be believed: redundancy has to say what it should hold
	Silent         // the disk did not answer in time; there may be nothing wrong with it
)

func (c Cause) isWrong() bool { return c != sound }

// Bad says that a block had better be rewritten.
func (c Cause) Bad() bool { return c != sound && c != Silent }

// Override replaces what a member holds during recovery: it returns the sum and contents of a block, if it has any.
type Override func(slot int, block int64) (sum uint32, data []byte, ok bool)

// Load reads all that the members hold of n columns from first on, verified.
func (s *Stripes) Load(st layout.Stripe, first, n int, over Override) (*Columns, error) {
	return s.LoadInto(st, first, n, over, nil)
}

// LoadInto is Load into buffers of the caller, by role, where there is one.
func (s *Stripes) LoadInto(st layout.Stripe, first, n int, over Override, into [][]byte) (*Columns, error) {
	w := st.Width()
	c := s.empty(st, first, n, over)
	for role := range w {
		if role < len(into) && into[role] != nil {
			c.Bufs[role], c.lent[role] = into[role], true
		} else {
			c.Bufs[role] = s.host.Scratch.Get(n)
		}
		if m := s.host.Slots.At(st.Slot(role)); s.Reads(st, role, m) {
			c.Roles[role] = m
		}
	}
	_ = s.Fan.Reads(w, n*layout.Block, func(role int) error {
		c.loadRole(role, (*member.Member).ReadData)
		return nil
	})
	if err := s.host.Alive(); err != nil {
		c.Free()
		return nil, err
	}
	return c, nil
}

// freed are columns that are used again, with their room.
var freed = sync.Pool{New: func() any { return new(Columns) }}

// empty is columns of which nothing is known yet.
func (s *Stripes) empty(st layout.Stripe, first, n int, over Override) *Columns {
	w := st.Width()
	c := freed.Get().(*Columns)
	c.s, c.St, c.first, c.n, c.over = s, st, first, n, over
	c.Roles, c.Bufs, c.lent = buffer.Zeroed(c.Roles, w), buffer.Zeroed(c.Bufs, w), buffer.Zeroed(c.lent, w)
	c.sums, c.had, c.Known, c.Wrong = buffer.Zeroed(c.sums, w), buffer.Zeroed(c.had, w), buffer.Zeroed(c.Known, w), buffer.Zeroed(c.Wrong, w)
	c.flags, c.causes, c.words = buffer.Zeroed(c.flags, w*n), buffer.Zeroed(c.causes, w*n), buffer.Zeroed(c.words, 2*w*n)
	for role := range w {
		c.Known[role], c.Wrong[role], c.had[role] = c.flags[role*n:][:n:n], c.causes[role*n:][:n:n], c.words[role*n:][:n:n]
	}
	return c
}

// First is the number of the first of them within the stripe.
func (c *Columns) First() int { return c.first }

// Block is the block of a column on a member of the stripe.
func (c *Columns) Block(m *member.Member, col int) int64 {
	return c.St.Block(m.Slot) + int64(c.first+col)
}

// reading is a way to read blocks of a member's data: readData or insistData.
type reading func(m *member.Member, bufs [][]byte, block int64) error

func (c *Columns) loadRole(role int, read reading) {
	m := c.Roles[role]
	if m == nil {
		return
	}
	sums := c.words[(len(c.Known)+role)*c.n:][:c.n:c.n]
	if err := c.s.host.Tables.Sums(m, c.Block(m, 0), sums); err != nil {
		if member.Late(err) && m.Live() {
			for col := range c.n {
				c.Wrong[role][col] = Silent
			}
			return
		}
		c.Roles[role] = nil
		return
	}
	c.sums[role] = sums
	own := c.override(role)
	if record.AllAre(sums, record.SumNever) {
		clear(c.Bufs[role])
		for i := range c.Known[role] {
			c.Known[role][i] = true
		}
		return
	}
	// One read for all; when that fails, block by block, so that one bad sector costs one block.
	quiet := false
	if c.over == nil {
		err := read(m, c.Bufs[role:role+1], c.Block(m, 0))
		if err == nil {
			c.judgeAll(role)
			return
		}
		quiet = member.Late(err)
	}
	c.loadBlocks(role, own, quiet, read)
	if !m.Live() {
		c.Roles[role], c.sums[role] = nil, nil
		clear(c.Known[role])
		clear(c.Wrong[role])
	}
}

// override puts what is to be taken instead of what a member holds, and says of which columns that is all there is.
func (c *Columns) override(role int) (own []bool) {
	if c.over == nil {
		return nil
	}
	m := c.Roles[role]
	own = make([]bool, c.n)
	for col := range c.n {
		sum, data, ok := c.over(m.Slot, c.Block(m, col))
		if !ok {
			continue
		}
		block := c.Bufs[role][col*layout.Block:][:layout.Block]
		c.sums[role][col] = sum
		switch {
		case sum == record.SumNever:
			clear(block)
			own[col], c.Known[role][col] = true, true
		case data != nil:
			copy(block, data)
			own[col], c.Known[role][col] = true, true
		} // otherwise it is in place already, and is verified
	}
	return own
}

// loadBlocks reads the blocks of a role one by one. quiet says that the disk did not answer in time already.
func (c *Columns) loadBlocks(role int, own []bool, quiet bool, read reading) {
	m := c.Roles[role]
	for col := range c.n {
		if own != nil && own[col] {
			continue
		}
		if sum := c.sums[role][col]; sum != record.SumNever && sum != record.SumLost && m.Live() {
			var err error
			if !quiet {
				err = read(m, [][]byte{c.Bufs[role][col*layout.Block:][:layout.Block]}, c.Block(m, col))
				quiet = member.Late(err)
			}
			if quiet {
				c.Wrong[role][col] = Silent
				continue
			}
			if err != nil {
				c.Wrong[role][col] = Unread
				continue
			}
		}
		c.judge(role, col)
	}
}

// judgeAll is judge of all columns of a role.
func (c *Columns) judgeAll(role int) {
	if record.Holds(c.Bufs[role], c.sums[role]) {
		for col := range c.n {
			c.Known[role][col] = true
		}
		return
	}
	for col := range c.n {
		c.judge(role, col)
	}
}

// judge says what was read of a block is worth.
func (c *Columns) judge(role, col int) {
	block := c.Bufs[role][col*layout.Block:][:layout.Block]
	switch sum := c.sums[role][col]; {
	case sum == record.SumNever:
		clear(block)
		c.Known[role][col] = true
	case sum == record.SumLost:
		c.Wrong[role][col] = Lost
	case sum == record.SumDoubt:
		c.Wrong[role][col] = Doubted
		c.had[role][col] = record.Sum(block)
	case record.Sum(block) == sum:
		c.Known[role][col] = true
	default:
		c.Wrong[role][col] = Mismatch
	}
}

// Sound says whether all roles have members, and these have all that they should.
func (c *Columns) Sound() bool {
	for role, m := range c.Roles {
		if m == nil || slices.Contains(c.Known[role], false) || slices.ContainsFunc(c.Wrong[role], Cause.isWrong) {
			return false
		}
	}
	return true
}

// Recover computes what is not known from what is, as far as redundancy goes. A block whose sum is known is only
// accepted when it matches. Members that were late are waited for when it does not do without them: several may be late at
// the same time, each with data that could be had from the others. That one of them does not answer at all is an error, since
// what it holds is not lost.
func (c *Columns) Recover() error {
	c.solve()
	if c.awaited() == nil || probe.LateIsLost.On() {
		return nil
	}
	for role := range c.Wrong {
		if slices.Contains(c.Wrong[role], Silent) {
			clear(c.Known[role])
			clear(c.Wrong[role])
			c.loadRole(role, (*member.Member).InsistData)
		}
	}
	if err := c.s.host.Alive(); err != nil {
		return err
	}
	c.solve()
	if m := c.awaited(); m != nil {
		return fmt.Errorf("%s: %w", m.Name(), disk.ErrHung)
	}
	return nil
}

// awaited is a member that has not answered about a column of which something is not known; nil when there is none.
func (c *Columns) awaited() *member.Member {
	for col := range c.n {
		if len(c.unknown(col)) == 0 {
			continue
		}
		for role := range c.Wrong {
			if c.Wrong[role][col] == Silent && c.Roles[role] != nil {
				return c.Roles[role]
			}
		}
	}
	return nil
}

func (c *Columns) solve() {
	for col := 0; col < c.n; {
		unknown := c.unknown(col)
		e := col + 1
		for e < c.n && slices.Equal(c.unknown(e), unknown) {
			e++
		}
		if len(unknown) > 0 {
			c.recoverRun(col, e, unknown)
		}
		col = e
	}
}

func (c *Columns) unknown(col int) []int {
	var out []int
	for role := range c.Known {
		if !c.Known[role][col] {
			out = append(out, role)
		}
	}
	return out
}

func (c *Columns) recoverRun(from, to int, unknown []int) {
	if len(unknown) > c.St.Parity {
		for col := from; col < to; col++ {
			c.recoverEmpty(col, unknown)
		}
		return
	}
	strips := make([][]byte, len(c.Bufs))
	for role := range strips {
		strips[role] = c.Bufs[role][from*layout.Block : to*layout.Block]
	}
	if err := Recover(c.St, strips, unknown); err != nil {
		return
	}
	for col := from; col < to; col++ {
		good := true
		for _, role := range unknown {
			if s := c.sums[role]; s != nil && s[col] > record.SumDoubt && record.Sum(c.Bufs[role][col*layout.Block:][:layout.Block]) != s[col] {
				good = false
			}
		}
		// When a restored block contradicts its sum, some other block of the column is wrong and nothing is certain.
		if good {
			probe.ColumnsRecovered.Seen()
		}
		for _, role := range unknown {
			c.Known[role][col] = good
		}
	}
}

// recoverEmpty: whatever was written to a column made every parity block of it that was there written as well, so one that
// is not tells that all of the column is zeros, however much of it is unknown.
func (c *Columns) recoverEmpty(col int, unknown []int) {
	for role := c.St.Data; role < len(c.Known); role++ {
		if s := c.sums[role]; s == nil || s[col] != record.SumNever || !c.Known[role][col] {
			continue
		}
		probe.ColumnEmpty.Seen()
		for _, u := range unknown {
			clear(c.Bufs[u][col*layout.Block:][:layout.Block])
			c.Known[u][col] = true
		}
		return
	}
}

// Fresh says whether a column was certainly never written: no member has a sum for it, and no more of them are unknown
// than there are parity blocks, one of which would have a sum if anything had been written; or one of those certainly has none,
// see recoverEmpty.
func (c *Columns) Fresh(col int) bool {
	unknown, empty := 0, false
	for role, s := range c.sums {
		if s != nil && s[col] == record.SumNever && role >= c.St.Data && c.Known[role][col] {
			empty = true
		}
		switch {
		case s == nil || record.Unknown(s[col]):
			unknown++
		case s[col] != record.SumNever:
			return false
		}
	}
	return unknown <= c.St.Parity || empty || probe.FreshOnTooLittle.On()
}

// Unwritten says that a block was certainly never written.
func (c *Columns) Unwritten(role, col int) bool {
	if s := c.sums[role]; s != nil && !record.Unknown(s[col]) {
		return s[col] == record.SumNever
	}
	return c.Fresh(col)
}

// Same says whether a block that was in doubt turned out to be what it should be.
func (c *Columns) Same(role, col int) bool {
	return c.Wrong[role][col] == Doubted && c.Known[role][col] && record.Sum(c.Bufs[role][col*layout.Block:][:layout.Block]) == c.had[role][col]
}

// Heal rewrites what members had wrong and is known again, and returns how many blocks. The caller holds the stripe
// exclusively and the barrier. No journal is needed: until the block is right again it is as wrong as before.
func (c *Columns) Heal() int {
	healed := 0
	for role, m := range c.Roles {
		if m == nil {
			continue
		}
		for col := range c.n {
			if !c.Wrong[role][col].Bad() || !c.Known[role][col] || !m.Live() {
				continue
			}
			block := c.Bufs[role][col*layout.Block:][:layout.Block]
			switch {
			case record.Unknown(c.sums[role][col]) && c.Fresh(col):
				c.s.host.Tables.Set(m, c.Block(m, col), 1, nil, record.SumNever)
				c.Wrong[role][col] = sound
				healed++
				continue
			case c.Same(role, col):
				// Only its sum was in doubt.
				c.s.host.Tables.Set(m, c.Block(m, col), 1, []uint32{record.Sum(block)}, 0)
				c.Wrong[role][col] = sound
				continue
			default:
				if err := m.WriteData([][]byte{block}, c.Block(m, col)); err != nil {
					continue
				}
				c.s.host.Tables.Set(m, c.Block(m, col), 1, []uint32{record.Sum(block)}, 0)
			}
			// Counted here, once for each place, however often it was come across.
			switch c.Wrong[role][col] {
			case Unread:
				m.Count(&m.Errs.Read)
			case Mismatch: // one in doubt was counted with its page
				m.Count(&m.Errs.Checksum)
			}
			c.Wrong[role][col] = sound
			healed++
		}
	}
	if healed > 0 {
		c.s.host.Counts.Healed.Add(int64(healed))
	}
	return healed
}

// GivenUp says whether a block of data is one whose contents were lost for good. Only guarded sets have such.
func (c *Columns) GivenUp(role, col int) bool {
	return c.St.Fixed && role < c.St.Data && record.GivenUp(c.Bufs[role][col*layout.Block:][:layout.Block])
}

// GiveUp gives blocks of data up that are lost for good, when all members are there: with something in their places parity can be worked out again, which
// the volumes on the other disks need. It returns how many, and the parity that is of what was there: it is to be marked as lost, durably, before Heal
// writes anything, which has to follow. One parity block may be known where more data is lost than it could tell.
func (c *Columns) GiveUp() (given int, old []Place) {
	if !c.St.Fixed || probe.NotGivenUp.On() {
		return 0, nil
	}
	for _, m := range c.Roles {
		if m == nil || !m.Live() {
			return 0, nil
		}
	}
	for col := range c.n {
		unknown := c.unknown(col)
		if slices.ContainsFunc(unknown, func(role int) bool {
			wrong := c.Wrong[role][col]
			return wrong != Lost && (role < c.St.Data || wrong == Unread || wrong == Silent) // it may be read another time
		}) {
			continue
		}
		before := given
		for _, role := range unknown {
			if role < c.St.Data {
				record.GiveUp(c.Bufs[role][col*layout.Block:][:layout.Block])
				c.Known[role][col] = true
				probe.PlaceGivenUp.Seen()
				given++
			}
		}
		for role := c.St.Data; given > before && role < len(c.Known); role++ {
			if c.Known[role][col] && !probe.KnownParityStays.On() {
				c.Known[role][col], c.Wrong[role][col], c.sums[role][col] = false, Lost, record.SumLost
				old = append(old, Place{role, col})
			}
		}
	}
	if given > 0 {
		c.solve()
	}
	return given, old
}

// Keep gives back what is not needed any more when only what some members have of the columns is to be written: all other buffers, unless
// something has to be healed. The next stripe takes the same buffers, which the processor's cache still has.
func (c *Columns) Keep(of func(slot int) bool) {
	for _, wrong := range c.Wrong {
		if slices.ContainsFunc(wrong, Cause.Bad) {
			return
		}
	}
	for role, b := range c.Bufs {
		if !c.lent[role] && !of(c.St.Slot(role)) {
			c.s.host.Scratch.Put(b)
			c.Bufs[role] = nil
		}
	}
}

// Free gives the buffers and the columns themselves back, which are not used any more.
func (c *Columns) Free() {
	for role, b := range c.Bufs {
		if !c.lent[role] {
			c.s.host.Scratch.Put(b)
		}
	}
	clear(c.Bufs)
	clear(c.Roles)
	c.s, c.over = nil, nil
	freed.Put(c)
}

var errWrong = errors.New("wrong checksum")

// ReadVerified reads blocks of a member whose sums are given. Blocks never written are cleared. Any doubt is an error,
// without saying which block: the slow way finds out.
func (s *Stripes) ReadVerified(m *member.Member, block int64, buf []byte, sums []uint32) error {
	if err := m.ReadData([][]byte{buf}, block); err != nil {
		return err
	}
	if !record.Holds(buf, sums) {
		return errWrong
	}
	return nil
}

// WritesFor is what the columns mean for a member that has none of them yet.
func (c *Columns) WritesFor(m *member.Member) []journal.Write {
	role := c.St.Role(m.Slot)
	kindOf := func(col int) record.RunKind {
		switch {
		case c.Fresh(col):
			return record.RunNever
		case !c.Known[role][col]:
			c.s.host.Counts.Unreadable.Add(1)
			return record.RunLost
		}
		return record.RunInPlace
	}
	var out []journal.Write
	for col := 0; col < c.n; {
		kind, e := kindOf(col), col+1
		for e < c.n && kindOf(e) == kind {
			e++
		}
		w := journal.Write{M: m, Kind: kind, Block: c.Block(m, col), N: e - col}
		if kind == record.RunInPlace {
			w.Buf = c.Bufs[role][col*layout.Block : e*layout.Block]
			w.Sums = record.SumsOf(w.Buf)
		}
		out = append(out, w)
		col = e
	}
	return out
}
