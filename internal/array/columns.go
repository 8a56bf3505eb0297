package array

import (
	"errors"
	"fmt"
	"slices"

	"nidalo/core/layout"
	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/probe"
)

// columns is the contents of some columns of one stripe over all roles. The caller of loadColumns holds the stripe; to
// heal it must hold it exclusively, and the barrier.
type columns struct {
	a     *Array
	st    layout.Stripe
	first int // column
	n     int
	roles []*member.Member // by role; nil where the contents are not current
	bufs  [][]byte         // by role, n blocks
	sums  [][]uint32       // by role; nil without a member
	had   [][]uint32       // by role and column: the sum of what the disk holds, where that is in doubt
	known [][]bool         // by role and column: the buffer holds the contents
	wrong [][]cause        // by role and column: why the member does not have what it should
	over  override
}

// cause is why a block of a member is of no use.
type cause uint8

const (
	sound    cause = iota
	unread         // the disk could not read it
	mismatch       // its checksum is wrong
	lost           // its contents were not known already
	doubted        // its sum is not to be believed: redundancy has to say what it should hold
	silent         // the disk did not answer in time; there may be nothing wrong with it
)

// bad says that a block had better be rewritten.
func (c cause) bad() bool { return c != sound && c != silent }

// override replaces what a member holds during recovery: it returns the sum and contents of a block, if it has any.
type override func(slot int, block int64) (sum uint32, data []byte, ok bool)

// loadColumns reads all that the members hold of n columns from first on, verified.
func (a *Array) loadColumns(st layout.Stripe, first, n int, over override) (*columns, error) {
	w := st.Width()
	c := &columns{a: a, st: st, first: first, n: n, roles: make([]*member.Member, w), bufs: make([][]byte, w),
		sums: make([][]uint32, w), had: make([][]uint32, w), known: make([][]bool, w), wrong: make([][]cause, w), over: over}
	flags, causes, had := make([]bool, w*n), make([]cause, w*n), make([]uint32, w*n)
	for role := range w {
		c.bufs[role] = a.scratch.Get(n)
		c.known[role], flags = flags[:n], flags[n:]
		c.wrong[role], causes = causes[:n], causes[n:]
		c.had[role], had = had[:n], had[n:]
		if m := a.slots.At(st.Slot(role)); a.reads(st, role, m) {
			c.roles[role] = m
		}
	}
	_ = member.Parallel(w, func(role int) error {
		c.loadRole(role, (*member.Member).ReadData)
		return nil
	})
	if err := a.alive(); err != nil {
		c.free()
		return nil, err
	}
	return c, nil
}

// block is the block of a column on a member of the stripe.
func (c *columns) block(m *member.Member, col int) int64 {
	return c.st.Block(m.Slot) + int64(c.first+col)
}

// reading is a way to read blocks of a member's data: readData or insistData.
type reading func(m *member.Member, bufs [][]byte, block int64) error

func (c *columns) loadRole(role int, read reading) {
	m, over := c.roles[role], c.over
	if m == nil {
		return
	}
	sums := make([]uint32, c.n)
	if err := c.a.tables.Sums(m, c.block(m, 0), sums); err != nil {
		if member.Late(err) && m.Live() {
			for col := range c.n {
				c.wrong[role][col] = silent
			}
			return
		}
		c.roles[role] = nil
		return
	}
	c.sums[role] = sums
	buf, known, wrong := c.bufs[role], c.known[role], c.wrong[role]
	var own []bool
	if over != nil {
		own = make([]bool, c.n)
		for col := range c.n {
			if sum, data, ok := over(m.Slot, c.block(m, col)); ok {
				own[col] = true
				sums[col] = sum
				switch {
				case sum == record.SumNever:
					clear(buf[col*Block:][:Block])
					known[col] = true
				case data != nil:
					copy(buf[col*Block:][:Block], data)
					known[col] = true
				default:
					own[col] = false // in place already; verified below
				}
			}
		}
	}
	if all(sums, record.SumNever) {
		clear(buf)
		for i := range known {
			known[i] = true
		}
		return
	}
	// One read for all; when that fails, block by block, so that one bad sector costs one block.
	quiet := false
	if over == nil {
		err := read(m, [][]byte{buf}, c.block(m, 0))
		if err == nil {
			for col := range known {
				c.judge(role, col)
			}
			return
		}
		quiet = member.Late(err)
	}
	for col := range c.n {
		if own != nil && own[col] {
			continue
		}
		if sums[col] != record.SumNever && sums[col] != record.SumLost && m.Live() {
			var err error
			if !quiet {
				err = read(m, [][]byte{buf[col*Block:][:Block]}, c.block(m, col))
				quiet = member.Late(err)
			}
			if quiet {
				wrong[col] = silent
				continue
			}
			if err != nil {
				wrong[col] = unread
				continue
			}
		}
		c.judge(role, col)
	}
	if !m.Live() {
		c.roles[role], c.sums[role] = nil, nil
		clear(known)
		clear(wrong)
	}
}

func (c *columns) judge(role, col int) {
	block := c.bufs[role][col*Block:][:Block]
	switch sum := c.sums[role][col]; {
	case sum == record.SumNever:
		clear(block)
		c.known[role][col] = true
	case sum == record.SumLost:
		c.wrong[role][col] = lost
	case sum == record.SumDoubt:
		c.wrong[role][col] = doubted
		c.had[role][col] = record.Sum(block)
	case record.Sum(block) == sum:
		c.known[role][col] = true
	default:
		c.wrong[role][col] = mismatch
	}
}

// recover computes what is not known from what is, as far as redundancy goes. A block whose sum is known is only
// accepted when it matches. Members that were late are waited for when it does not do without them: several may be late at
// the same time, each with data that could be had from the others. That one of them does not answer at all is an error, since
// what it holds is not lost.
func (c *columns) recover() error {
	c.solve()
	if c.awaited() == nil || probe.LateIsLost.On() {
		return nil
	}
	for role := range c.wrong {
		if slices.Contains(c.wrong[role], silent) {
			clear(c.known[role])
			clear(c.wrong[role])
			c.loadRole(role, (*member.Member).InsistData)
		}
	}
	if err := c.a.alive(); err != nil {
		return err
	}
	c.solve()
	if m := c.awaited(); m != nil {
		return fmt.Errorf("%s: %w", m.Name(), disk.ErrHung)
	}
	return nil
}

// awaited is a member that has not answered about a column of which something is not known; nil when there is none.
func (c *columns) awaited() *member.Member {
	for col := range c.n {
		if len(c.unknown(col)) == 0 {
			continue
		}
		for role := range c.wrong {
			if c.wrong[role][col] == silent && c.roles[role] != nil {
				return c.roles[role]
			}
		}
	}
	return nil
}

func (c *columns) solve() {
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

func (c *columns) unknown(col int) []int {
	var out []int
	for role := range c.known {
		if !c.known[role][col] {
			out = append(out, role)
		}
	}
	return out
}

func (c *columns) recoverRun(from, to int, unknown []int) {
	if len(unknown) > c.st.Parity {
		for col := from; col < to; col++ {
			c.recoverEmpty(col, unknown)
		}
		return
	}
	strips := make([][]byte, len(c.bufs))
	for role := range strips {
		strips[role] = c.bufs[role][from*Block : to*Block]
	}
	if err := parity.Recover(strips, c.st.Data, unknown); err != nil {
		return
	}
	for col := from; col < to; col++ {
		good := true
		for _, role := range unknown {
			if s := c.sums[role]; s != nil && s[col] > record.SumDoubt && record.Sum(c.bufs[role][col*Block:][:Block]) != s[col] {
				good = false
			}
		}
		// When a restored block contradicts its sum, some other block of the column is wrong and nothing is certain.
		if good {
			probe.ColumnsRecovered.Seen()
		}
		for _, role := range unknown {
			c.known[role][col] = good
		}
	}
}

// recoverEmpty: whatever was written to a column made every parity block of it that was there written as well, so one that
// is not tells that all of the column is zeros, however much of it is unknown.
func (c *columns) recoverEmpty(col int, unknown []int) {
	for role := c.st.Data; role < len(c.known); role++ {
		if s := c.sums[role]; s == nil || s[col] != record.SumNever || !c.known[role][col] {
			continue
		}
		probe.ColumnEmpty.Seen()
		for _, u := range unknown {
			clear(c.bufs[u][col*Block:][:Block])
			c.known[u][col] = true
		}
		return
	}
}

// fresh says whether a column was certainly never written: no member has a sum for it, and no more of them are unknown
// than there are parity blocks, one of which would have a sum if anything had been written; or one of those certainly has none,
// see recoverEmpty.
func (c *columns) fresh(col int) bool {
	unknown, empty := 0, false
	for role, s := range c.sums {
		if s != nil && s[col] == record.SumNever && role >= c.st.Data && c.known[role][col] {
			empty = true
		}
		switch {
		case s == nil || record.Unknown(s[col]):
			unknown++
		case s[col] != record.SumNever:
			return false
		}
	}
	return unknown <= c.st.Parity || empty || probe.FreshOnTooLittle.On()
}

// same says whether a block that was in doubt turned out to be what it should be.
func (c *columns) same(role, col int) bool {
	return c.wrong[role][col] == doubted && c.known[role][col] && record.Sum(c.bufs[role][col*Block:][:Block]) == c.had[role][col]
}

// heal rewrites what members had wrong and is known again, and returns how many blocks. The caller holds the stripe
// exclusively and the barrier. No journal is needed: until the block is right again it is as wrong as before.
func (c *columns) heal() int {
	healed := 0
	for role, m := range c.roles {
		if m == nil {
			continue
		}
		for col := range c.n {
			if !c.wrong[role][col].bad() || !c.known[role][col] || !m.Live() {
				continue
			}
			block := c.bufs[role][col*Block:][:Block]
			switch {
			case record.Unknown(c.sums[role][col]) && c.fresh(col):
				c.a.tables.Set(m, c.block(m, col), 1, nil, record.SumNever)
				c.wrong[role][col] = sound
				healed++
				continue
			case c.same(role, col):
				// Only its sum was in doubt.
				c.a.tables.Set(m, c.block(m, col), 1, []uint32{record.Sum(block)}, 0)
				c.wrong[role][col] = sound
				continue
			default:
				if err := m.WriteData([][]byte{block}, c.block(m, col)); err != nil {
					continue
				}
				c.a.tables.Set(m, c.block(m, col), 1, []uint32{record.Sum(block)}, 0)
			}
			// Counted here, once for each place, however often it was come across.
			switch c.wrong[role][col] {
			case unread:
				m.Count(&m.Errs.Read)
			case mismatch: // one in doubt was counted with its page
				m.Count(&m.Errs.Checksum)
			}
			c.wrong[role][col] = sound
			healed++
		}
	}
	if healed > 0 {
		c.a.stats.Healed.Add(int64(healed))
	}
	return healed
}

func (c *columns) free() { c.a.scratch.Put(c.bufs...) }

var errWrong = errors.New("wrong checksum")

// readVerified reads blocks of a member whose sums are given. Blocks never written are cleared. Any doubt is an error,
// without saying which block: the slow way finds out.
func (a *Array) readVerified(m *member.Member, block int64, buf []byte, sums []uint32) error {
	if err := m.ReadData([][]byte{buf}, block); err != nil {
		return err
	}
	for i, s := range sums {
		b := buf[i*Block:][:Block]
		switch {
		case s == record.SumNever:
			clear(b)
		case record.Sum(b) != s:
			return errWrong
		}
	}
	return nil
}
