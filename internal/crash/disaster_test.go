//go:build machine

package crash

import (
	"errors"
	"fmt"
	"slices"

	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/disk"
)

// disaster is the end of some seeds: members leave while the array goes on, then more are lost than it survives, perhaps
// with the power; what is left is rescued, and brought back in place where that is possible, with the power going
// meanwhile. Nothing that is read may be older than it was flushed, and nothing may be lost that was not given up.
func (c *machine) disaster() error {
	c.note("disaster")
	c.power.left = -1
	if c.r.IntN(2) == 0 {
		c.power.left = 1 + c.r.IntN(1<<(4+c.r.IntN(8)))
	}
	for range 1 + c.r.IntN(2) {
		if err := c.steps(c.r.IntN(6)); err != nil {
			return err
		}
		c.a.WaitTasks()
		slot := c.r.IntN(len(c.disks))
		if d := c.memberAt(slot); d == nil || c.power.off || d.isGone() || c.a.MemberStates()[slot].Condition != record.Active || !c.canLose(slot) {
			continue
		}
		if c.r.IntN(2) == 0 {
			c.note("  slot %d vanishes", slot)
			c.memberAt(slot).vanish(c.r)
		} else if c.note("  failed slot %d", slot); c.a.Fail(slot, false) != nil {
			continue
		}
		if err := c.steps(c.r.IntN(8)); err != nil {
			return err
		}
	}
	c.power.off = true
	c.a.Abandon()
	for _, d := range c.all {
		d.cut(c.r)
	}
	c.power.off, c.power.left = false, -1

	set := c.judge()
	current := set.Current
	for slot, x := range current {
		if x.Disk != nil {
			c.disks[slot] = x.Disk.(*Disk)
		}
	}
	for slot, d := range c.disks {
		if d.gone && c.r.IntN(4) > 0 {
			c.note("  slot %d is there again", slot)
			d.gone = false
		}
	}
	for range c.r.IntN(3) {
		slot := c.r.IntN(len(c.disks))
		c.note("  slot %d is lost", slot)
		c.disks[slot].gone = true
	}
	// Without anybody who was there to the end, nobody can know what came after.
	if !slices.ContainsFunc(current, func(x array.Candidate) bool { return x.Disk != nil && !x.Disk.(*Disk).gone }) {
		return nil
	}
	promised, err := c.rescued()
	if err != nil || promised == nil {
		return err
	}
	return c.broughtBack(promised)
}

// steps does random things until the power goes.
func (c *machine) steps(n int) error {
	for range n {
		if err := c.step(c.a.NewClient(), 0, c.m.blocks); err != nil {
			if c.power.off {
				return nil
			}
			return err
		}
	}
	return nil
}

// left is the state that the disks agree about.
func (c *machine) left() (array.State, bool) {
	var found []array.Candidate
	for _, d := range c.disks {
		if !d.gone {
			if r, _ := disk.ReadRecord(d); r != nil {
				found = append(found, array.Candidate{Disk: d, Record: r})
			}
		}
	}
	states := array.States(found)
	if len(states) == 0 {
		return array.State{}, false
	}
	return states[0], true
}

// rescued holds what a rescue reads against the model, and returns the blocks it gave up; nil when there is nothing.
func (c *machine) rescued() (promised map[int64]bool, err error) {
	s, ok := c.left()
	if !ok {
		return nil, nil
	}
	a, _, err := array.Rescue(s, nil, false, c.config())
	if err != nil {
		return nil, fmt.Errorf("rescue: %w", err)
	}
	seen("rescued")
	defer a.Abandon()
	promised = map[int64]bool{}
	err = a.Losses(func(l array.Span) {
		for b := l.Offset / block; b < (l.Offset+l.Length)/block; b++ {
			promised[b] = true
		}
	}, func(int64) error { return nil })
	if err != nil {
		return nil, err
	}
	c.note("  %d blocks are given up", len(promised))
	buf := make([]byte, c.m.blocks*block)
	lost, err := a.ReadKnown(buf, 0)
	if err != nil {
		return nil, err
	}
	lacks := map[int64]bool{}
	for _, l := range lost {
		for b := l.Offset / block; b < (l.Offset+l.Length)/block; b++ {
			lacks[b] = true
		}
	}
	for b := range c.m.blocks {
		got := buf[b*block:][:block]
		switch {
		case lacks[b] && !promised[b]:
			return nil, fmt.Errorf("a rescue lacks block %d, and had not given it up", b)
		case !lacks[b] && !slices.ContainsFunc(c.m.may[b], func(v uint64) bool { return matches(got, b, v) }):
			return nil, fmt.Errorf("a rescue reads block %d as %s; allowed are versions %v", b, describe(got, b), c.m.may[b])
		}
	}
	return promised, nil
}

// broughtBack brings members back in place, starts the array, and holds it against the model.
func (c *machine) broughtBack(promised map[int64]bool) error {
	for tries := 0; ; tries++ {
		c.power.left = -1
		if tries < 3 && c.r.IntN(2) == 0 {
			c.power.left = 1 + c.r.IntN(1<<(2+c.r.IntN(7)))
		}
		s, ok := c.left()
		if !ok {
			return errors.New("nothing is left")
		}
		slots, err := s.Readmits()
		if err != nil {
			if tries == 0 {
				return nil
			}
			break // the power went after all was done
		}
		a, _, err := array.Rescue(s, nil, false, c.config())
		if err == nil {
			c.note("  slots %v are brought back", slots)
			err = a.Readmit(func(int64) error { return nil })
			a.Abandon()
		}
		if errors.Is(err, array.ErrNoReadmission) || errors.Is(err, array.ErrStale) {
			return nil
		}
		if err == nil {
			break
		}
		if !c.power.off {
			return fmt.Errorf("bringing back: %w", err)
		}
		c.note("  power goes while members are brought back")
		for _, d := range c.disks {
			d.cut(c.r)
		}
		c.power.off = false
	}
	c.power.left = -1
	for _, d := range c.disks {
		d.cut(c.r)
	}
	a, err := array.Open(c.judge(), c.config())
	if err != nil {
		return fmt.Errorf("after bringing back: %w", err)
	}
	seen("brought back in place")
	for b := range c.m.blocks {
		got := make([]byte, block)
		switch err := a.ReadAt(got, b*block); {
		case err != nil && !promised[b]:
			return fmt.Errorf("after bringing back block %d: %w; it was not given up", b, err)
		case err == nil && !slices.ContainsFunc(c.m.may[b], func(v uint64) bool { return matches(got, b, v) }):
			return fmt.Errorf("after bringing back block %d reads as %s; allowed are versions %v", b, describe(got, b), c.m.may[b])
		}
	}
	// What was given up can be written again, and then all is as it should be.
	c.a = a
	c.m.write(0, c.m.blocks, false)
	per := c.geo.StripeSize() / block // at once, since a part of a lost stripe cannot be kept
	for first := int64(0); first < c.m.blocks; first += per {
		if err := errors.Join(a.WriteAt(c.m.contents(first, min(per, c.m.blocks-first)), first*block), a.Flush()); err != nil {
			return err
		}
	}
	result, err := c.checked(true)
	for _, p := range result.Places {
		if err == nil && p.Stripe*c.geo.StripeSize() < c.m.blocks*block {
			err = errors.New("not all is as it should be")
		}
	}
	if err != nil {
		return fmt.Errorf("check after bringing back: %+v, %w", result, err)
	}
	return c.readBack(0, c.m.blocks)
}
