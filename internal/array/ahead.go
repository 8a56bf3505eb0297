package array

import (
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/probe"
)

// A member on another host answers many reads in the time of one. So what the stripes of a destage have to read of such members is asked for together, before
// they are worked out. It is judged by its checksums where it is used; what did not come, or is wrong, is read then, as if nothing had been asked.

// ahead is what was read ahead for one run.
type ahead struct {
	role, col int
	buf       []byte
	of        *asking
}

// asking is what is asked of a member.
type asking struct {
	m     *member.Member
	reads []disk.Stretch
	came  bool
}

// readAhead reads what the updates will want of members that gather.
func (d *destaging) readAhead() {
	var asked []*asking // by slot; nil: the member does not gather, or nothing is asked of it
	for slot := range d.a.slots.Len() {
		if m := d.a.slots.At(slot); m.Live() && m.Gathers() {
			if asked == nil {
				asked = make([]*asking, d.a.slots.Len())
			}
			asked[slot] = &asking{m: m}
		}
	}
	if asked != nil {
		d.readFrom(asked)
	}
}

// readFrom reads what the updates will want of some members.
func (d *destaging) readFrom(asked []*asking) {
	for _, u := range d.updates {
		if u.each(func(r *run) error { return r.ask(asked) }) != nil {
			return // it fails again when it is worked out
		}
	}
	_ = member.Parallel(len(asked), func(slot int) error {
		if a := asked[slot]; a != nil && len(a.reads) > 0 {
			a.came = a.m.ReadMany(a.reads) == nil
			probe.ReadAhead.Seen()
		}
		return nil
	})
}

// ask asks for what the run will read.
func (r *run) ask(asked []*asking) error {
	if err := r.readSums(); err != nil {
		return err
	}
	way := r.way()
	if !r.hasParity() || way != anew && way != fold {
		return nil
	}
	for role, m := range r.roles {
		stays := role < r.st.Data && !r.isDirty(role)
		if m == nil || m.Slot >= len(asked) || stays != (way == anew) || record.AllAre(r.sums[role], record.SumNever) {
			continue
		}
		to := asked[m.Slot]
		if to == nil || to.m != m {
			continue
		}
		buf, off := r.alloc(), m.Offset(r.block(m, r.col))
		r.ahead = append(r.ahead, ahead{role, r.col, buf, to})
		if n := len(to.reads); n > 0 && to.reads[n-1].Off+int64(disk.Length(to.reads[n-1].Bufs)) == off {
			to.reads[n-1].Bufs = append(to.reads[n-1].Bufs, buf)
		} else {
			to.reads = append(to.reads, disk.Stretch{Bufs: [][]byte{buf}, Off: off})
		}
	}
	return nil
}

// held is what was read ahead of a role, if that is right; nil otherwise.
func (r *run) held(role int) []byte {
	for _, h := range r.ahead {
		if h.role != role || h.col != r.col || len(h.buf) != r.n*Block || !h.of.came || h.of.m != r.roles[role] {
			continue
		}
		if record.Holds(h.buf, r.sums[role]) || probe.AheadUnjudged.On() {
			return h.buf
		}
	}
	return nil
}
