//go:build machine

package crash

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"nidalo/internal/array"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// clientVerbs are what clients do, each with its stretch of the array. "watch" does some of it too, with all of the array.
var clientVerbs = map[string]verb{
	"write":  {[]string{"at", "blocks"}, true, (*machine).clientWrite},
	"take":   {[]string{"at", "blocks"}, true, (*machine).clientTake},
	"force":  {[]string{"at", "blocks"}, true, (*machine).clientForce},
	"part":   {[]string{"at", "from", "bytes"}, true, (*machine).clientPart},
	"beside": {[]string{"at", "from", "bytes"}, true, (*machine).clientBeside},
	"zero":   {[]string{"at", "blocks"}, true, (*machine).clientZero},
	"flush":  {nil, true, (*machine).clientFlush},
	"read":   {[]string{"at", "blocks"}, true, (*machine).clientRead},
	"status": {[]string{"at", "blocks"}, true, (*machine).clientStatus},
}

// stretch is the part of the array that an actor may write; everything for one that only looks.
func (c *machine) stretch(by string) (from, to int64) {
	i, ok := c.client(by)
	if n := int64(c.script.Clients); ok {
		return c.base * int64(i) / n, c.base * int64(i+1) / n
	}
	return 0, c.base
}

// client is the number of a client; not ok: the actor is none.
func (c *machine) client(by string) (i int, ok bool) {
	i, err := strconv.Atoi(strings.TrimPrefix(by, "client "))
	return i, err == nil && i >= 0 && i < c.script.Clients
}

// place fits a place into an actor's stretch.
func (c *machine) place(by string, at, blocks int64) (first, span int64) {
	from, to := c.stretch(by)
	if at < from || at >= to {
		at = from + (at%(to-from)+(to-from))%(to-from)
	}
	if to-at < blocks {
		blocks = to - at
	}
	if further := c.longer(by, at); further >= 0 {
		at = further
	}
	_, most := c.off(at, max(1, blocks))
	span = max(1, min(blocks, most))
	if c.up {
		c.across(at, span)
	}
	return at, span
}

func (c *machine) user(by string) *array.Client {
	if c.users[by] == nil {
		c.users[by] = c.a.NewClient()
	}
	return c.users[by]
}

func (c *machine) clientWrite(by string, n []int64) error {
	first, span := c.place(by, n[0], n[1])
	c.m.begin(first, span, false)
	off, _ := c.off(first, span)
	err := c.user(by).WriteAt(c.m.contents(first, span), off)
	c.m.end(first, span, err)
	return c.unlessLost(by, first, span, err)
}

// clientTake writes data that comes as it is asked for, as from a socket.
func (c *machine) clientTake(by string, n []int64) error {
	first, span := c.place(by, n[0], n[1])
	c.m.begin(first, span, false)
	data := c.m.contents(first, span)
	rest := data
	off, _ := c.off(first, span)
	err := c.user(by).Receive(off, span*block, func(p []byte) error {
		rest = rest[copy(p, rest):]
		return nil
	})
	if errors.Is(err, array.ErrNotTaken) {
		err = c.user(by).WriteAt(data, off)
	} else {
		seen("written as it came")
	}
	c.m.end(first, span, err)
	return c.unlessLost(by, first, span, err)
}

func (c *machine) clientForce(by string, n []int64) error {
	if err := c.clientWrite(by, n); err != nil {
		return err
	}
	first, span := c.place(by, n[0], n[1])
	acked := c.m.acked(first, span)
	off, _ := c.off(first, span)
	err := c.user(by).FlushRange(off, span*block)
	if err == nil {
		c.m.flushed(first, acked)
	}
	return c.told(by, err)
}

// clientPart writes a part of a block again with the bytes that it has.
func (c *machine) clientPart(by string, n []int64) error {
	b, _ := c.place(by, n[0], 1)
	if c.m.torn[b] || c.isBroken(b) {
		return nil
	}
	p := c.m.contents(b, 1)
	from := n[1] % (block - 1)
	bytes := 1 + n[2]%(block-from)
	off, _ := c.off(b, 1)
	seen("part of a block written")
	return c.unlessLost(by, b, 1, c.user(by).WriteAt(p[from:from+bytes], off+from))
}

// clientBeside writes a block, and at the same time a part of it with the same bytes.
func (c *machine) clientBeside(by string, n []int64) error {
	b, _ := c.place(by, n[0], 1)
	if c.isBroken(b) {
		return nil
	}
	c.m.begin(b, 1, false)
	c.m.loose[b] = true
	p := c.m.contents(b, 1)
	from := n[1] % (block - 1)
	bytes := 1 + n[2]%(block-from)
	var whole, part error
	var both env.Group
	user := c.user(by)
	off, _ := c.off(b, 1)
	both.Go(func() { whole = user.WriteAt(p, off) })
	both.Go(func() { part = user.WriteAt(p[from:from+bytes], off+from) })
	both.Wait()
	err := errors.Join(whole, part)
	c.m.end(b, 1, err)
	return c.unlessLost(by, b, 1, err)
}

func (c *machine) clientZero(by string, n []int64) error {
	first, span := c.place(by, n[0], n[1])
	c.m.begin(first, span, true)
	off, _ := c.off(first, span)
	err := c.user(by).Zero(off, span*block)
	c.m.end(first, span, err)
	return c.unlessLost(by, first, span, err)
}

// clientFlush: what anybody had acknowledged when it began is durable when it returns. Where writes may fail for want of room by then,
// that holds for the client's own only: others are told themselves.
func (c *machine) clientFlush(by string, _ []int64) error {
	acked, breaks := c.m.acked(0, c.m.blocks), c.breaks
	err := c.user(by).Flush()
	if err != nil {
		return c.told(by, err)
	}
	if breaks == c.breaks {
		delete(c.unsure, by)
	}
	if c.short || c.broken != nil {
		for from, span := range c.owned(by) {
			c.m.flushed(from, acked[from:from+span])
		}
		return nil
	}
	c.m.flushed(0, acked)
	return nil
}

// still notes how often each block of a range was written, to tell later which stood still.
func (c *machine) still(first, span int64) func(b int64) bool {
	before := c.m.acked(first, span)
	return func(b int64) bool {
		now := c.m.acked(b, 1)[0]
		return now != 0 && now == before[b-first]
	}
}

// clientRead: whatever stood still reads as it was written last.
func (c *machine) clientRead(by string, n []int64) error {
	first, span := c.place(by, n[0], n[1])
	return c.readBack(first, span)
}

func (c *machine) readBack(first, span int64) error {
	if c.broken != nil {
		return c.readBroken(first, span)
	}
	for p := range c.pieces(c.a.Layout(), first, span) {
		if err := c.readPiece(p); err != nil {
			return err
		}
	}
	return nil
}

func (c *machine) readPiece(at piece) error {
	first, span := at.first, at.span
	still := c.still(first, span)
	got, done := room(span * block)
	defer done()
	if err := c.a.ReadAt(got, at.off); err != nil && c.broken != nil {
		return c.readBroken(first, span) // disks were lost meanwhile
	} else if err != nil {
		return err
	}
	for b := first; b < first+span; b++ {
		if p := got[(b-first)*block:][:block]; still(b) {
			if err := c.m.reads(b, p); err != nil {
				return err
			}
		} else if !c.m.busy[b] && c.m.torn[b] {
			if err := c.m.allows(b, p); err != nil {
				return err
			}
		}
	}
	return nil
}

// clientStatus: a block that holds something is no hole.
func (c *machine) clientStatus(by string, n []int64) error {
	first, span := c.place(by, n[0], n[1])
	still := c.still(first, span)
	off, _ := c.off(first, span)
	extents, err := c.a.Extents(off, span*block, int(span))
	if err != nil {
		return err
	}
	b := first
	for _, x := range extents {
		for end := b + x.Length/block; b < end; b++ {
			if c.isBroken(b) && slices.Contains(c.m.may[b], 0) {
				continue // what was written may be given up, and the client not told yet
			}
			if !x.Written && still(b) && c.m.now(b) != 0 {
				return fmt.Errorf("block %d is said to be a hole; its version is %d", b, c.m.now(b))
			}
		}
	}
	return nil
}

// rooms are buffers to be used again: one goroutine of the machine runs at a time.
var rooms [][]byte

// room is a buffer of n bytes until done is called.
func room(n int64) (buf []byte, done func()) {
	if last := len(rooms) - 1; last >= 0 {
		buf, rooms = rooms[last], rooms[:last]
	}
	if int64(cap(buf)) < n {
		buf = make([]byte, n)
	}
	probe.Soil(buf[:n]) // a read that leaves some of it as it was is noticed
	return buf[:n], func() { rooms = append(rooms, buf) }
}
