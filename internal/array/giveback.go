package array

import (
	"cmp"
	"slices"

	"nidalo/core/record"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// What clients trim or zero becomes never-written, and when that is durable the members' blocks are given back: holes in files,
// discarded blocks of devices. What such a block holds then counts for nothing, whatever it is.
//
//	1  a change that empties blocks is in place     they are noted
//	2  a checkpoint has made the tables durable     no start brings back what was there: they may be given back
//	3  with the stripe held, blocks that are still never-written are given back, unless the array stopped: a commit that failed may
//	   have written them
//
// A crash forgets what was noted. The space then comes back when the blocks are written and emptied again.

// emptied is what became never-written and was not given back yet.
type emptied struct {
	mu      env.Mutex
	noted   []stretch // since the last checkpoint began
	durable []stretch
	some    chan struct{}
}

// stretch is some blocks of a member's data.
type stretch struct {
	m        *member
	block, n int64
}

// mostNoted bounds the stretches in memory; more are forgotten.
const mostNoted = 1 << 16

// note takes down that blocks became never-written.
func (e *emptied) note(m *member, block, n int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if l := len(e.noted) - 1; l >= 0 && e.noted[l].m == m && e.noted[l].block+e.noted[l].n == block {
		e.noted[l].n += n
	} else if len(e.noted) < mostNoted {
		e.noted = append(e.noted, stretch{m, block, n})
	}
}

// take is what was noted so far, for a checkpoint that begins. The caller holds the barrier.
func (e *emptied) take() []stretch {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := e.noted
	e.noted = nil
	return out
}

// settled says what became of a checkpoint that took some.
func (e *emptied) settled(list []stretch, durable bool) {
	if len(list) == 0 {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if !durable {
		e.noted = append(list, e.noted...)
		return
	}
	if len(e.durable) < mostNoted {
		e.durable = append(e.durable, list...)
	}
	select {
	case e.some <- struct{}{}:
	default:
	}
}

func (e *emptied) due() []stretch {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := e.durable
	e.durable = nil
	return out
}

func (a *Array) giveBackLoop() {
	for env.Wait(env.Never, a.stop, a.emptied.some) != 0 {
		a.giveBack(a.emptied.due())
	}
}

// giveBackRows is how many rows are held at a time.
const giveBackRows = 32

// giveBack gives stretches back whose state is durable.
func (a *Array) giveBack(list []stretch) {
	per := int64(a.geo.StripBlocks())
	slices.SortFunc(list, func(x, y stretch) int {
		return cmp.Or(cmp.Compare(a.geo.GroupOf(x.m.slot), a.geo.GroupOf(y.m.slot)), cmp.Compare(x.block, y.block))
	})
	for len(list) > 0 && a.alive() == nil {
		group, row := a.geo.GroupOf(list[0].m.slot), list[0].block/per
		until := min(row+giveBackRows, a.geo.Rows[group])
		if until <= row {
			return // beyond the end: nothing that the array uses
		}
		var now, later []stretch
		taken := 0
		for ; taken < len(list) && a.geo.GroupOf(list[taken].m.slot) == group && list[taken].block < until*per; taken++ {
			s := list[taken]
			if over := s.block + s.n - until*per; over > 0 {
				later = append(later, stretch{s.m, until * per, over})
				s.n -= over
			}
			now = append(now, s)
		}
		a.giveBackHeld(group, row, until, now)
		list = list[taken-len(later):] // what is left of those that were taken goes in their place
		copy(list, later)
	}
}

// giveBackHeld gives back what is still never-written of some rows, which it holds meanwhile.
func (a *Array) giveBackHeld(group int, row, until int64, list []stretch) {
	var numbers []int64
	for r := row; r < until; r++ {
		numbers = append(numbers, a.geo.At(group, r).Number)
	}
	defer a.lockStripes(numbers, true)()
	// A change whose commit failed may be in journals, and in place, without the tables telling of it. It stopped the array.
	if a.alive() != nil && !probe.GivenBackWhenStopped.On() {
		return
	}
	for _, s := range list {
		if a.members[s.m.slot].Load() != s.m || s.m.condition() != record.Active && s.m.condition() != record.Failing {
			continue
		}
		sums := make([]uint32, s.n)
		if a.tables.sums(s.m, s.block, sums) != nil {
			continue
		}
		for i := 0; i < len(sums); {
			n := 0
			for i+n < len(sums) && (sums[i+n] == record.SumNever || probe.GivenBackThoughWritten.On()) {
				n++
			}
			if n > 0 {
				a.discard(s.m, s.block+int64(i), int64(n))
			}
			i += n + 1
		}
	}
}

// discard has a disk forget blocks. One that cannot is not asked again.
func (a *Array) discard(m *member, block, n int64) {
	d, ok := m.disk.(disk.Discarder)
	if !ok || m.keeps.Load() {
		return
	}
	if err := d.Discard(m.offset(block), n*Block); err != nil {
		m.keeps.Store(true)
		return
	}
	probe.GivenBack.Seen()
	a.stats.GivenBack.Add(n * Block)
}
