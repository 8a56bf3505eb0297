//go:build machine

package crash

import (
	"errors"
	"fmt"
	"slices"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/disk"
)

// The end of some scripts: members leave while the array goes on, then more are lost than it survives, perhaps with the power;
// what is left is rescued, and brought back in place where that is possible, with the power going meanwhile. Nothing that is read
// may be older than it was flushed, and nothing may be lost that was not given up.

// plug puts a disk back into the machine that is off.
func (c *machine) plug(_ string, n []int64) error {
	if d := c.disks[c.slot(n[0])]; !c.up && !d.shaky && !d.latent {
		c.takeStock()
		d.gone = false
	}
	return nil
}

// unplug takes one out, whether or not the array survives that.
func (c *machine) unplug(_ string, n []int64) error {
	if !c.up {
		c.takeStock()
		c.disks[c.slot(n[0])].gone = true
	}
	return nil
}

// takeStock notes, once, which disks are the members, before any is taken out that the array needs. Without one that was there to
// the end nothing tells what came after.
func (c *machine) takeStock() {
	if c.gaveUp != nil {
		return
	}
	if c.gaveUp = map[int64]bool{}; c.power.off {
		c.cut(0)
	}
	for slot, x := range c.judge().Current {
		if x.Disk != nil {
			c.disks[slot] = x.Disk.(*Disk)
			c.current = append(c.current, c.disks[slot])
		}
	}
}

// left is the state that the disks agree about.
func (c *machine) left() (roster.State, bool) {
	var found []roster.Candidate
	for _, d := range c.disks {
		if !d.gone {
			if r, _ := disk.ReadRecord(d); r != nil {
				found = append(found, roster.Candidate{Disk: d, Record: r})
			}
		}
	}
	states := roster.States(found)
	if len(states) == 0 {
		return roster.State{}, false
	}
	return states[0], true
}

// rescue holds what a rescue reads against the model, and notes the blocks it gives up. The array is not started any more after
// that, but by readmit.
func (c *machine) rescue(string, []int64) error {
	if c.up || c.power.off || !c.layout().Redundant() {
		return nil
	}
	c.takeStock()
	c.over = true
	if !slices.ContainsFunc(c.current, func(d *Disk) bool { return !d.gone }) || c.silent() {
		return nil
	}
	s, ok := c.left()
	if !ok {
		return nil
	}
	a, _, err := array.Rescue(s, nil, false, c.config())
	if err != nil {
		return fmt.Errorf("rescue: %w", err)
	}
	seen("rescued")
	c.over, c.rescued = false, true
	defer a.Abandon()
	given := map[int64]bool{} // blocks of the array
	if err := a.Losses(func(l state.Span) { mark(given, l) }, func(int64) error { return nil }); err != nil {
		return err
	}
	for p := range c.pieces(a.Layout(), 0, c.m.blocks) {
		for i := range p.span {
			c.gaveUp[p.first+i] = c.gaveUp[p.first+i] || given[p.off/block+i]
		}
	}
	c.note("  %d blocks are given up", len(given))
	// Rot that nothing has read yet is not known before it is read: such places are not given up beforehand. That goes for
	// those that had left before as well, of which a rescue reads what did not change since.
	rotten := slices.ContainsFunc(c.disks, func(d *Disk) bool { return !d.gone && d.shaky })
	c.over = rotten
	for p := range c.pieces(a.Layout(), 0, c.m.blocks) {
		if err := c.rescuedPiece(a, p, rotten); err != nil {
			return err
		}
	}
	return nil
}

// mark notes the blocks of a span.
func mark(blocks map[int64]bool, l state.Span) {
	for b := l.Offset / block; b < (l.Offset+l.Length)/block; b++ {
		blocks[b] = true
	}
}

// rescuedPiece holds a part of what a rescue reads against the model.
func (c *machine) rescuedPiece(a *array.Array, at piece, rotten bool) error {
	buf := make([]byte, at.span*block)
	lost, err := a.ReadKnown(buf, at.off)
	if err != nil {
		return err
	}
	lacks := map[int64]bool{}
	for _, l := range lost {
		mark(lacks, l)
	}
	for i := range at.span {
		b, away := at.first+i, lacks[at.off/block+i]
		if away && !c.gaveUp[b] && !rotten {
			return fmt.Errorf("a rescue lacks block %d, and had not given it up", b)
		}
		if away {
			continue
		}
		if err := c.m.allows(b, buf[i*block:][:block]); err != nil {
			return fmt.Errorf("a rescue: %w", err)
		}
	}
	return nil
}

// readmit brings members back in place, unless the power goes before, and then starts the array and holds it against the model.
func (c *machine) readmit(_ string, n []int64) error {
	if c.up || !c.rescued || c.over {
		return nil
	}
	if c.power.left = -1; n[0] >= 0 {
		c.power.left = int(n[0])
	}
	s, ok := c.left()
	if !ok {
		return errors.New("nothing is left")
	}
	slots, err := s.Readmits()
	if err == nil {
		var a *array.Array
		if a, _, err = array.Rescue(s, nil, false, c.config()); err == nil {
			c.note("  slots %v are brought back", slots)
			err = a.Readmit(func(int64) error { return nil })
			a.Abandon()
		}
	} else if c.readmitted {
		err = nil // the power went after all was done
	}
	switch {
	case c.power.off:
		c.note("  power goes while members are brought back")
		seen("power cut while members were brought back")
		c.cut(n[1])
		c.readmitted = true
		return nil
	case errors.Is(err, roster.ErrNoReadmission) || errors.Is(err, roster.ErrStale):
		c.over = true
		return nil
	case err != nil:
		return fmt.Errorf("bringing back: %w", err)
	}
	c.cut(n[1])
	c.over = true
	return c.broughtBack(n[2])
}

func (c *machine) broughtBack(swap int64) error {
	a, err := array.Open(c.judge(), c.config())
	if err != nil {
		return fmt.Errorf("after bringing back: %w", err)
	}
	seen("brought back in place")
	c.a, c.up = a, true
	if err := c.readsAsPromised(); err != nil {
		return err
	}
	// What is lost stays lost when members that are not there are replaced.
	for slot, m := range a.MemberStates() {
		if isLost(m) && swap>>slot&1 == 1 {
			if err := c.replaceBy(slot, c.newDisk()); err != nil {
				return err
			}
		}
	}
	c.waitTasks()
	if err := c.readsAsPromised(); err != nil {
		return err
	}
	return c.writtenAgain()
}

// readsAsPromised: what can be read is as new as it was flushed, and what cannot was given up.
func (c *machine) readsAsPromised() error {
	a := c.a
	for b := range c.m.blocks {
		off, most := c.off(b, 1)
		if most == 0 {
			continue
		}
		got := make([]byte, block)
		if err := a.ReadAt(got, off); err != nil {
			if !c.gaveUp[b] {
				return fmt.Errorf("after bringing back block %d: %w; it was not given up", b, err)
			}
			continue
		}
		if err := c.m.allows(b, got); err != nil {
			return fmt.Errorf("after bringing back: %w", err)
		}
	}
	return nil
}

// writtenAgain: what was given up can be written again, and then all is as it should be.
func (c *machine) writtenAgain() error {
	a := c.a
	grown := false
	for p := range c.pieces(a.Layout(), 0, c.m.blocks) {
		grown = grown || p.first >= c.base
		c.m.begin(p.first, p.span, false)
		for done, per := int64(0), int64(0); done < p.span; done += per {
			st, in := a.Layout().Locate(p.off + done*block)
			per = (st.StripeSize() - in) / block // at once, since a part of a lost stripe cannot be kept
			data := c.m.contents(p.first+done, min(per, p.span-done))
			if err := errors.Join(a.WriteAt(data, p.off+done*block), a.Flush()); err != nil {
				if errors.Is(err, array.ErrUnkept) && (a.Layout().Offset(st.Ordinal()) > st.Offset() || st.Offset()+st.StripeSize() > c.base*block) {
					return nil // a part of the stripe is laid out anew, or not ours to write, and is lost
				}
				return err
			}
		}
		c.m.end(p.first, p.span, nil)
	}
	result, err := c.checked(true)
	for _, p := range result.Places {
		if lay := a.Layout(); lay.Offset(p.Stripe) > lay.Stripe(p.Stripe).Offset() {
			continue // a part of it is laid out anew, and nobody can write there
		}
		if err == nil && !grown && a.Layout().Offset(p.Stripe+1) <= c.base*block { // all of it was written again
			err = errors.New("not all is as it should be")
		}
	}
	if err != nil {
		return fmt.Errorf("check after bringing back: %+v, %w", result, err)
	}
	for slot, m := range a.MemberStates() {
		if m.Condition != record.Active {
			c.note("  slot %d is %s", slot, m.Condition)
		}
	}
	return c.readBack(0, c.m.blocks)
}
