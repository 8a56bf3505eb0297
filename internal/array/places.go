package array

import (
	"fmt"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/array/task"
)

// Uses tells what a stretch of the disk of a member is for, at most a number of parts of it.
func (a *Array) Uses(slot int, off, n int64, most int) (out []state.Use) {
	m := a.slots.At(slot)
	if m.Place().Size == 0 {
		return nil
	}
	for at := off / Block * Block; at < off+n; at += Block {
		u := a.use(m, at)
		if l := len(out) - 1; l >= 0 && out[l].What == u.What && (u.Array < 0 || u.Array == out[l].Array+out[l].Length) {
			out[l].Length += Block
			continue
		}
		if len(out) == most {
			break
		}
		out = append(out, u)
	}
	return out
}

func (a *Array) use(m *member.Member, at int64) state.Use {
	p := m.Place()
	u := state.Use{Offset: at, Length: Block, Array: -1, What: "nothing"}
	switch {
	case at < record.Size || at >= record.SecondCopy && at < record.SecondCopy+record.Size || at >= p.Size-record.Size-Block:
		u.What = "the member record"
		return u
	case at >= p.JournalStart && at < p.JournalStart+p.JournalSize:
		u.What = "the journal"
		return u
	}
	for s := range p.All() {
		within := func(start, pages int64) bool { return at >= start && at < start+pages*Block }
		switch {
		case within(s.MapStart, s.MapPages):
			u.What = "the written map"
		case within(s.WitnessStart, s.WitnessPages):
			u.What = "witnesses of another member's tables"
		case within(s.SumStart, s.SumPages):
			u.What = "the checksum table"
		case at >= s.DataStart && at < s.DataStart+s.DataSize:
			a.useOfData(m, s.First+(at-s.DataStart)/Block, &u)
		}
	}
	return u
}

func (a *Array) useOfData(m *member.Member, block int64, u *state.Use) {
	st, col, ok := a.Layout().On(m.Slot, block)
	var sum [1]uint32
	switch {
	case !ok:
		u.What = "nothing: the other members are smaller"
		return
	case a.tables.Sums(m, block, sum[:]) == nil && sum[0] == record.SumNever:
		u.What = "blocks that were never written"
		return
	}
	role := st.Role(m.Slot)
	if role >= st.Data && st.Data > 1 {
		u.What = "parity"
		return
	}
	if role >= st.Data {
		role = 0 // another copy
	}
	u.What = "data"
	u.Array = a.Layout().At(st, role) + int64(col)*Block
}

// HealPlaces restores from redundancy what lies in a stretch of the disk of a member, where it cannot be read or is wrong, and
// writes zeros to places there that hold nothing and cannot be read. It returns how many blocks were rewritten, and how many
// could not be restored.
func (a *Array) HealPlaces(slot int, off, n int64) (healed, lost int64, err error) {
	err = a.works.Still(func() (err error) {
		healed, lost, err = a.healPlaces(a.slots.At(slot), off, n)
		return err
	})
	return healed, lost, err
}

func (a *Array) healPlaces(m *member.Member, off, n int64) (healed, lost int64, err error) {
	for s := range m.Place().All() {
		from, to := max(off, s.DataStart), min(off+n, s.DataStart+s.DataSize)
		if from >= to {
			continue
		}
		first, last := s.First+(from-s.DataStart)/Block, s.First+(to-1-s.DataStart)/Block
		h, l, err := a.healBlocks(m, first, last)
		healed, lost = healed+h, lost+l
		if err != nil {
			return healed, lost, err
		}
	}
	return healed, lost, a.journal.Checkpoint()
}

// healBlocks is HealPlaces for some blocks of one segment.
func (a *Array) healBlocks(m *member.Member, first, last int64) (healed, lost int64, err error) {
	for lay, block := a.Layout(), first; block <= last; {
		st, col, ok := lay.On(m.Slot, block)
		if !ok {
			break
		}
		next := block - int64(col) + int64(st.StripBlocks())
		n, err := a.clearUnwritten(m, st, block, min(last, next-1))
		if err != nil {
			return healed, lost, err
		}
		healed += n
		t := task.Alone(state.TaskCheck)
		if err := a.works.CheckStripe(t, st, task.How{Repair: true, Blame: -1}); err != nil {
			return healed, lost, fmt.Errorf("stripe %d: %w", st.Ordinal(), err)
		}
		found, _ := t.Found()
		healed, lost = healed+found.Repaired, lost+found.Unrepairable
		block = next
	}
	return healed, lost, nil
}

// clearUnwritten writes zeros to blocks of one stripe that were never written and cannot be read. What they hold never counts, so
// no crash matters.
func (a *Array) clearUnwritten(m *member.Member, st layout.Stripe, first, last int64) (cleared int64, err error) {
	defer a.stripes.Lock([]layout.ID{st.ID()}, true)()
	buf := make([]byte, Block)
	for block := first; block <= last; block++ {
		var sum [1]uint32
		if err := a.tables.Sums(m, block, sum[:]); err != nil {
			return cleared, err
		}
		if sum[0] != record.SumNever || m.Disk.ReadAt(buf, m.Offset(block)) == nil {
			continue
		}
		clear(buf)
		if err := m.WriteData([][]byte{buf}, block); err != nil {
			return cleared, err
		}
		cleared++
	}
	return cleared, a.alive()
}
