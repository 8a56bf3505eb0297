//go:build machine

package crash

import (
	"bytes"
	"fmt"

	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/internal/disk"
)

// outside reads the disks of an array that was stopped, with the format alone and nothing of the engine, and holds them
// against each other: records, checksums, parity and witnesses must agree.
func (c *machine) outside(string, []int64) error {
	if c.up || c.power.off || c.gaveUp != nil || !c.stopped || !c.sound() {
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
	n := c.lay.Shape.StripBlocks()
	for number := int64(0); number < c.lay.Stripes() && c.lay.Offset(number) <= c.m.blocks*block; number++ {
		st := c.lay.Stripe(number)
		roles := make([]*outsider, st.Width())
		for role := range roles {
			roles[role] = members[st.Slot(role)]
		}
		for col := range n {
			if err := agree(roles, st.Data, st.Row*int64(n)+int64(col)); err != nil {
				return fmt.Errorf("from outside: stripe %d, column %d: %w", number, col, err)
			}
		}
	}
	for slot, m := range members {
		if m == nil {
			continue
		}
		if w := rec.Roster[slot].Witness; w >= 0 && members[w] != nil {
			if err := m.witnessed(members[w]); err != nil {
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

func (o *outsider) page(kind record.PageKind, start, number int64) (buf []byte, checkpoint uint64, err error) {
	buf = make([]byte, block)
	if err := o.d.ReadAt(buf, start+number*block); err != nil {
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
	bits, _, err := o.page(record.MapPage, o.own.Place.MapStart, number/record.BitsPerPage)
	if err != nil {
		return nil, err
	}
	var buf []byte
	if record.PageBit(bits, int(number%record.BitsPerPage)) {
		if buf, _, err = o.page(record.SumPage, o.own.Place.SumStart, number); err != nil {
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
	if err := o.d.ReadAt(data, o.own.Place.DataStart+number*block); err != nil {
		return nil, 0, err
	}
	if record.Sum(data) != sum {
		return nil, 0, fmt.Errorf("block %d does not have the sum in the table", number)
	}
	return data, sum, nil
}

// agree holds a column against its code: the parity follows from the data, and where anything was written every parity was.
func agree(roles []*outsider, k int, number int64) error {
	strips, never, written := make([][]byte, len(roles)), 0, 0
	for role, o := range roles {
		if o == nil {
			return nil // a member is away: what it would hold is anybody's guess
		}
		data, sum, err := o.block(number)
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
	parity.Encode(rows, strips[:k])
	for j := range rows {
		if !bytes.Equal(rows[j], strips[k+j]) {
			return fmt.Errorf("parity %d does not follow from the data", j)
		}
	}
	return nil
}

// witnessed holds what another member has seen of its pages against what they are: never newer, and the same where it is as new.
func (o *outsider) witnessed(holder *outsider) error {
	p := o.own.Place
	for i := range p.MapPages + p.SumPages {
		kind, start, number := record.MapPage, p.MapStart, i
		if i >= p.MapPages {
			if kind, start, number = record.SumPage, p.SumStart, i-p.MapPages; true {
				if page, err := o.sums(number); err != nil || page == nil {
					continue
				}
			}
		}
		buf, checkpoint, err := o.page(kind, start, number)
		if err != nil {
			return err
		}
		on, _, err := holder.page(record.WitnessPage, holder.own.Place.WitnessStart, i/record.WitnessesPerPage)
		if err != nil {
			continue // never written
		}
		w := record.PageWitness(on, o.own.Tag(), int(i%record.WitnessesPerPage))
		if w.Checkpoint > checkpoint || w.Checkpoint == checkpoint && w.Sum != record.PageSumOf(buf) {
			return fmt.Errorf("page %d is of checkpoint %d, its witness has seen %d", number, checkpoint, w.Checkpoint)
		}
	}
	return nil
}
