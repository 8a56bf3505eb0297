// Package table keeps the checksum tables and written maps of members, and what their witnesses on other members say, in pages, of which
// a bounded number is in memory. It says what the pages are, and writes them; when that is done is the journal's to say.
package table

import (
	"sync"
	"sync/atomic"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/probe"
)

// Tables keeps pages of the members' checksum tables and written maps in memory, a bounded number of them. A page that
// was changed stays until a checkpoint has written it.
type Tables struct {
	host   Host
	shards []pageShard
	limit  int      // pages in memory, all shards together
	blank  sync.Map // by pageKey: map pages in which no bit is set, so that a large disk with little on it is soon looked through
	dirty  atomic.Int64
	later  later
}

// Host is what tables take from outside.
type Host struct {
	Slots  *member.Slots
	Roster Roster
	Say    func(kind event.Kind, disk, text string) // tells what happened to a disk
	Missed func(m *member.Member, err error)        // a change could not be entered, because a table cannot be read
	Wrote  *atomic.Int64                            // counts the bytes of pages that are written
}

// Roster is what the tables ask of the roster of the array.
type Roster interface {
	Holder(slot int) int // the slot that keeps the witnesses of the pages of another; -1 when none does
	Epoch() uint64
	Starts() uint64
}

// New makes tables of which so many bytes are kept in memory.
func New(host Host, bytes int64) *Tables {
	t := &Tables{host: host, limit: int(max(bytes/layout.Block, leastPages)), later: later{sure: map[chunkKey]*[chunkWords]uint64{}}}
	t.shards = make([]pageShard, min(64, t.limit/4))
	for i := range t.shards {
		t.shards[i].pages = map[pageKey]*page{}
	}
	return t
}

// DirtyPages is how many pages differ from what is durable, and how many there may be in memory.
func (t *Tables) DirtyPages() (n, most int64) { return t.dirty.Load(), int64(t.limit) }

// bit tells whether a checksum page was ever written, and whether that is only assumed.
func (t *Tables) bit(m *member.Member, number int64) (written, doubted bool, err error) {
	p, err := t.get(m, record.MapPage, number/record.BitsPerPage)
	if err != nil {
		return false, false, err
	}
	defer t.put(p)
	return record.PageBit(p.buf, int(number%record.BitsPerPage)), p.doubted, nil
}

func (t *Tables) setBit(m *member.Member, number int64, on bool) error {
	p, err := t.get(m, record.MapPage, number/record.BitsPerPage)
	if err != nil {
		return err
	}
	defer t.put(p)
	if i := int(number % record.BitsPerPage); record.PageBit(p.buf, i) != on {
		if record.SetPageBit(p.buf, i, on); on {
			t.blank.Delete(p.key)
		}
		t.setDirty(p)
	}
	return nil
}

// Sums fills out with the sums of the member's blocks from block on.
func (t *Tables) Sums(m *member.Member, block int64, out []uint32) error {
	for len(out) > 0 {
		number, at := block/record.SumsPerPage, int(block%record.SumsPerPage)
		n := min(len(out), record.SumsPerPage-at)
		p, err := t.get(m, record.SumPage, number)
		if err != nil {
			return err
		}
		if p.nonzero == 0 {
			clear(out[:n])
		} else {
			record.PageSums(p.buf, at, out[:n])
		}
		t.put(p)
		out, block = out[n:], block+int64(n)
	}
	return nil
}

// Set stores the sums of n blocks from block on, which change now: sums, or the one value for all when sums is nil. The
// caller holds the barrier. What cannot be entered is seen to, see missed.
func (t *Tables) Set(m *member.Member, block int64, n int, sums []uint32, value uint32) {
	t.SetAs(m, nil, block, n, sums, value)
}

// Epochs tells in which epoch the blocks of a checksum page were changed last; nil: in the present one.
type Epochs func(page int64) uint64

// SetAs is set for blocks that are copied or restored, and changed last in an earlier epoch: a member that was away since
// does not lack them.
func (t *Tables) SetAs(m *member.Member, last Epochs, block int64, n int, sums []uint32, value uint32) {
	now := t.host.Roster.Epoch()
	for n > 0 {
		number, at := block/record.SumsPerPage, int(block%record.SumsPerPage)
		step, epoch := min(n, record.SumsPerPage-at), now
		if last != nil {
			epoch = last(number)
		}
		p, err := t.get(m, record.SumPage, number)
		if err != nil {
			t.missed(m, err)
			return
		}
		before := p.nonzero
		// A change may leave a sum as it was, as when all data of a stripe changes by the same: it is a change all the same.
		again := record.PageEpoch(p.buf) < epoch && (sums != nil || value != record.SumNever) && !probe.SameSumUnstamped.On()
		for i := 0; i < step; i++ {
			v := value
			if sums != nil {
				v = sums[i]
			}
			if old := record.PageSum(p.buf, at+i); old != v || again {
				switch {
				case old == v:
				case old == record.SumNever:
					p.nonzero++
				case v == record.SumNever:
					p.nonzero--
				}
				record.SetPageSum(p.buf, at+i, v)
				if !probe.ChangeUnstamped.On() {
					record.SetPageEpoch(p.buf, max(epoch, record.PageEpoch(p.buf)))
				}
				t.setDirty(p)
				again = false
			}
		}
		if (before == 0) != (p.nonzero == 0) {
			err = t.setBit(m, number, p.nonzero > 0)
		}
		t.put(p)
		if err != nil {
			t.missed(m, err)
			return
		}
		if sums != nil {
			sums = sums[step:]
		}
		block, n = block+int64(step), n-step
	}
}

// missed sees to a change that could not be entered since a table cannot be read. A member that is out lacks it like everything
// else from now on.
func (t *Tables) missed(m *member.Member, err error) {
	if m.Live() {
		t.host.Missed(m, err)
	}
}

// Changed tells whether a checksum page was ever written, and in which epoch it was changed last.
func (t *Tables) Changed(m *member.Member, number int64) (written bool, epoch uint64, err error) {
	if written, _, err = t.bit(m, number); err != nil || !written {
		return written, 0, err
	}
	p, err := t.get(m, record.SumPage, number)
	if err != nil {
		return false, 0, err
	}
	defer t.put(p)
	return true, record.PageEpoch(p.buf), nil
}

// Enter stores what a run of a change or of the journal means for the sums. The caller holds the barrier.
func (t *Tables) Enter(m *member.Member, kind record.RunKind, block int64, n int, sums []uint32) {
	t.EnterAs(m, nil, kind, block, n, sums)
}

// EnterAs is enter for what changed last in an earlier epoch, see SetAs.
func (t *Tables) EnterAs(m *member.Member, last Epochs, kind record.RunKind, block int64, n int, sums []uint32) {
	switch kind {
	case record.RunNever:
		t.SetAs(m, last, block, n, nil, record.SumNever)
	case record.RunLost:
		t.SetAs(m, last, block, n, nil, record.SumLost)
	default:
		t.SetAs(m, last, block, n, sums, 0)
	}
}

// NextBit is the first checksum page from number to last that was ever written; last+1 when there is none.
func (t *Tables) NextBit(m *member.Member, number, last int64) (int64, bool) {
	for number <= last {
		next, ok := m.Place().NextPage(record.SumPage, number)
		if number = next; !ok || number > last {
			break // there is no page with these numbers
		}
		if _, blank := t.blank.Load(pageKey{m.Key, record.MapPage, number / record.BitsPerPage}); blank {
			number = (number/record.BitsPerPage + 1) * record.BitsPerPage
			continue
		}
		p, err := t.get(m, record.MapPage, number/record.BitsPerPage)
		if err != nil {
			return 0, false
		}
		i := int(number % record.BitsPerPage)
		end := int(min(record.BitsPerPage, int64(i)+last-number+1))
		at := record.NextPageBit(p.buf, i, end)
		t.put(p)
		if number += int64(at - i); at < end {
			return number, true
		}
	}
	return last + 1, true
}
