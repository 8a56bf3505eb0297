//go:build machine

package crash

import (
	"bytes"
	"fmt"
	"slices"

	"nidalo/core/layout"
	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/internal/disk"
)

// outside reads the disks of an array that was stopped, with the format alone and nothing of the engine, and holds them
// against each other: records, checksums, parity and witnesses must agree.
func (c *machine) outside(string, []int64) error {
	if c.up || c.power.off || c.gaveUp != nil || c.broken != nil || !c.stopped || !c.sound() {
		return nil
	}
	seen("read from outside")
	set := c.judge()
	if set.Doubt != nil {
		return fmt.Errorf("from outside: %w", set.Doubt)
	}
	rec := set.Newest
	if !rec.Clean {
		return fmt.Errorf("from outside: the record does not say that the array was stopped in order")
	}
	members := make([]*outsider, len(rec.Roster))
	for slot, x := range set.Current {
		if x.Disk != nil && works(rec.Roster[slot].Condition) {
			members[slot] = &outsider{d: x.Disk, own: x.Record, pages: map[int64][]byte{}}
		}
	}
	lay, err := rec.Layout()
	if err != nil {
		return fmt.Errorf("from outside: %w", err)
	}
	for number := int64(0); number < lay.Stripes(); number++ {
		st := lay.Stripe(number)
		if lay.Offset(number) > c.m.blocks*block && st.Skip == 0 {
			continue
		}
		if lay.Offset(number) > 2*c.m.blocks*block {
			break
		}
		roles, at := make([]*outsider, st.Width()), make([]int64, st.Width())
		for role := range roles {
			roles[role], at[role] = members[st.Slot(role)], st.Block(st.Slot(role))
		}
		for col := range st.StripBlocks() {
			if err := agree(roles, st, at, int64(col)); err != nil {
				return fmt.Errorf("from outside: stripe %d, column %d: %w", number, col, err)
			}
		}
	}
	if !c.missed { // otherwise the next move clears what the one lacks that was away
		if err := emptied(rec, lay, members); err != nil {
			return fmt.Errorf("from outside: %w", err)
		}
	}
	for slot, m := range members {
		if m == nil {
			continue
		}
		if w := rec.Roster[slot].Witness; w >= 0 && members[w] != nil {
			if err := m.witnessed(members[w], lay.OnSlot(slot)); err != nil {
				return fmt.Errorf("from outside: slot %d: %w", slot, err)
			}
		}
	}
	return nil
}

// outsider is a member as its format alone tells of it.
type outsider struct {
	d     disk.Disk
	own   *record.Record
	pages map[int64][]byte // of its checksum table; nil: never written
}

func (o *outsider) page(kind record.PageKind, number int64) (buf []byte, checkpoint uint64, err error) {
	buf = make([]byte, block)
	if err := o.d.ReadAt(buf, o.own.Place.PageAt(kind, number)); err != nil {
		return nil, 0, err
	}
	checkpoint, _, err = record.CheckPage(buf, kind, o.own.Tag(), number)
	return buf, checkpoint, err
}

// sums is a page of its checksum table; nil when its map says that it was never written.
func (o *outsider) sums(number int64) ([]byte, error) {
	if buf, ok := o.pages[number]; ok {
		return buf, nil
	}
	bits, _, err := o.page(record.MapPage, number/record.BitsPerPage)
	if err != nil {
		return nil, err
	}
	var buf []byte
	if record.PageBit(bits, int(number%record.BitsPerPage)) {
		if buf, _, err = o.page(record.SumPage, number); err != nil {
			return nil, err
		}
	}
	o.pages[number] = buf
	return buf, nil
}

// block is one block of its data, and its sum; zeros where it was never written.
func (o *outsider) block(number int64) (data []byte, sum uint32, err error) {
	page, err := o.sums(number / record.SumsPerPage)
	data = make([]byte, block)
	if err != nil || page == nil {
		return data, record.SumNever, err
	}
	if sum = record.PageSum(page, int(number%record.SumsPerPage)); sum == record.SumNever {
		return data, sum, nil
	}
	if err := o.d.ReadAt(data, o.own.Place.Offset(number)); err != nil {
		return nil, 0, err
	}
	if record.Sum(data) != sum {
		return nil, 0, fmt.Errorf("block %d does not have the sum in the table", number)
	}
	return data, sum, nil
}

// agree holds a column against its code: the parity follows from the data, and where anything was written every parity was.
func agree(roles []*outsider, st layout.Stripe, at []int64, col int64) error {
	k := st.Data
	strips, never, written := make([][]byte, len(roles)), 0, 0
	for role, o := range roles {
		if o == nil {
			return nil // a member is away: what it would hold is anybody's guess
		}
		data, sum, err := o.block(at[role] + col)
		if err != nil {
			return fmt.Errorf("role %d: %w", role, err)
		}
		if strips[role] = data; sum != record.SumNever {
			written++
		} else if role >= k {
			never++
		}
	}
	if never > 0 && written > 0 && never != len(roles)-k {
		return fmt.Errorf("some parity blocks were written and others never")
	}
	if never > 0 && written > 0 {
		return fmt.Errorf("data was written and its parity never")
	}
	rows := make([][]byte, len(roles)-k)
	for j := range rows {
		rows[j] = make([]byte, block)
	}
	data := strips[:k]
	if st.Fixed { // the weight of a disk is that of its slot
		data = make([][]byte, layout.MaxMembers)
		for role := range k {
			data[st.Slots[role]] = strips[role]
		}
	}
	parity.Encode(rows, data)
	for j := range rows {
		if !bytes.Equal(rows[j], strips[k+j]) {
			return fmt.Errorf("parity %d does not follow from the data", j)
		}
	}
	return nil
}

// witnessed holds what another member has seen of its pages against what they are: never newer, and the same where it is as new. A page that rotted where
// the array has nothing, since it was made smaller, is nobody's to mend.
func (o *outsider) witnessed(holder *outsider, on []*layout.Region) error {
	used := func(kind record.PageKind, number int64) bool {
		n := int64(record.SumsPerPage)
		if kind == record.MapPage {
			n *= record.BitsPerPage
		}
		return slices.ContainsFunc(on, func(r *layout.Region) bool {
			begin, blocks := r.Span(o.own.Slot)
			return begin < (number+1)*n && number*n < begin+blocks
		})
	}
	p := o.own.Place
	for _, kind := range []record.PageKind{record.MapPage, record.SumPage} {
		for number := range p.Pages(kind) {
			if page, err := o.sums(number); kind == record.SumPage && (err != nil || page == nil) {
				continue
			}
			buf, checkpoint, err := o.page(kind, number)
			if err != nil && !used(kind, number) {
				continue
			}
			if err != nil {
				return err
			}
			page, at, ok := p.WitnessOf(&holder.own.Place, kind, number)
			if !ok {
				continue
			}
			on, _, err := holder.page(record.WitnessPage, page)
			if err != nil {
				continue // never written
			}
			w := record.PageWitness(on, o.own.Tag(), at)
			if w.Checkpoint > checkpoint || w.Checkpoint == checkpoint && w.Sum != record.PageSumOf(buf) {
				return fmt.Errorf("page %d is of checkpoint %d, its witness has seen %d", number, checkpoint, w.Checkpoint)
			}
		}
	}
	return nil
}

// emptied holds that what neither side of a boundary uses is never-written, when all members are there.
func emptied(rec *record.Record, lay *layout.Map, members []*outsider) error {
	if rec.Turn == nil || slices.Contains(members, nil) {
		return nil
	}
	turn, err := rec.Turns()
	if err != nil {
		return err
	}
	for _, s := range turn.Free(lay) {
		m := members[s.Slot]
		for b := s.Block; b < s.Block+s.N; b++ {
			page, err := m.sums(b / record.SumsPerPage)
			if err != nil {
				return err
			}
			if page == nil {
				b = (b/record.SumsPerPage+1)*record.SumsPerPage - 1
			} else if record.PageSum(page, int(b%record.SumsPerPage)) != record.SumNever {
				return fmt.Errorf("block %d of slot %d is of no use, and not never-written", b, s.Slot)
			}
		}
	}
	return nil
}
