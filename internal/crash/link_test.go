//go:build machine

package crash

import (
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"nidalo/internal/env"
)

// Some disks are lent by another host. Its link breaks: what was on its way may have arrived or not, its answer may be lost, and it may land as late as the
// beginning of the next session, which the lender begins with all that it has of the one before done. Within the patience of the engine's side the
// link is made again, and what was not answered is sent again, in any order; after that the disk is gone, and comes back as it is by then.

// linkPatience is how long the engine's side waits for a link, see remote.Disk.
const linkPatience = 30 * time.Second

// sent is a write that was on its way when the link broke.
type sent struct {
	off  int64
	data []byte
}

// OutOfTouch says whether the link to the disk's host is broken and there is still patience.
func (d *Disk) OutOfTouch() bool { return d.severed }

// breakLink breaks the link: what is asked from now on waits.
func (d *Disk) breakLink() {
	d.severed, d.breaks = true, 0
	d.links++
}

// breaksNow says whether the link breaks at this block.
func (d *Disk) breaksNow() bool {
	if d.breaks > 0 {
		if d.breaks--; d.breaks == 0 {
			d.breakLink()
			return true
		}
	}
	return false
}

// drain has what was on its way land, or get lost.
func (d *Disk) drain(r *rand.Rand) {
	for _, i := range r.Perm(len(d.late)) {
		if w := d.late[i]; r.IntN(3) > 0 {
			seen("a write landed late")
			for at := 0; at < len(w.data); at += block {
				b := (w.off + int64(at)) / block
				d.cached[b] = append(d.cached[b], w.data[at:][:block])
				delete(d.bad, b)
			}
		}
	}
	d.late = nil
}

// sending does a write over as many links as it takes.
func (d *Disk) sending(off int64, p []byte) error {
	for {
		link := d.links
		err := d.land(p, off)
		if d.links == link || d.gone || d.power.off {
			return err
		}
		if err == errBroken {
			d.late = append(d.late, sent{off, slices.Clone(p)})
		}
		if err := d.answer(); err != nil {
			return err
		}
		seen("a write was sent again")
	}
}

// idles are what an administrator does that costs nothing and takes long.
var idles = map[string]bool{"pause": true, "wait": true, "hold": true}

// severs says whether links break.
func (s Script) severs() bool {
	return slices.ContainsFunc(s.Ops, func(o Op) bool { return o.Verb == "sever" })
}

// sever breaks the link to a disk's host for a while, which is a loss when it is longer than the patience.
func (c *machine) sever(_ string, n []int64) error {
	c.losing.Lock()
	free := sync.OnceFunc(c.losing.Unlock)
	defer free()
	slot, d := c.active(n[0])
	lasts := time.Duration(n[1]) * time.Millisecond
	if d == nil && lasts < linkPatience && works(c.a.MemberStates()[slot].Condition) {
		d = c.memberAt(slot)
	}
	if d == nil || d.gone || d.severed || lasts >= linkPatience && c.broken != nil && !c.mended {
		return nil
	}
	d.breaks = int(1 + n[2])
	for soon := env.Now().Add(2 * time.Second); !d.severed && d.breaks > 0 && env.Now().Before(soon) && !c.halted(); {
		env.Wait(20 * time.Millisecond)
	}
	switch {
	case d.gone:
		return nil
	case c.halted():
		d.drain(salted(n[3]))
		d.severed, d.breaks = false, 0
		return nil
	}
	if !d.severed {
		d.breakLink()
	}
	seen("a link broke")
	free()
	began := env.Now()
	for d.severed && !c.halted() && env.Since(began) < min(lasts, linkPatience) {
		env.Wait(min(100*time.Millisecond, lasts))
	}
	switch {
	case !d.severed: // it was pulled, or the power went
	case lasts < linkPatience || c.halted():
		d.drain(salted(n[3]))
		d.severed = false
		seen("a link was made again")
	default:
		d.whole, d.pulled, d.gone, d.severed = true, c.session, true, false
		seen("a link was given up")
	}
	return nil
}

// severs has links break again and again in what was drawn, and disks come back.
func (d *drawing) severs() {
	often := 2 + d.IntN(12)
	var ops []Op
	add := func(verb string, n ...int64) { ops = append(ops, Op{By: "link", Verb: verb, Args: n}) }
	for _, o := range d.Ops {
		if ops = append(ops, o); o.By == "" || d.IntN(often) > 0 {
			continue
		}
		add("pause", d.Int64N(80))
		switch d.IntN(3) {
		case 0:
			add("sever", d.slot(), d.upTo(9), d.upTo(4), d.salt())
		case 1:
			add("sever", d.slot(), d.Int64N(29_000), d.upTo(4), d.salt())
		default:
			add("sever", d.slot(), 40_000, d.upTo(4), d.salt())
			add("pause", d.Int64N(60))
			add("back", d.Int64N(3))
		}
	}
	d.Ops = ops
}
