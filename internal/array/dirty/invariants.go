//go:build machine

package dirty

import (
	"fmt"
	"math/bits"

	"nidalo/core/layout"
)

// Invariants holds the cache against itself; still says that no client uses it. It waits for nothing: a
// shard that is locked is in the middle of a change.
func (c *Cache) Invariants(still bool) error {
	var charged, answered int64
	for i := range c.shards {
		sh := &c.shards[i]
		if !sh.TryLock() {
			return nil
		}
		defer sh.Unlock()
		for id, s := range sh.stripes {
			if s.cur == nil && s.out == nil {
				return fmt.Errorf("stripe %v is held without anything dirty", id)
			}
			for _, l := range []*Layer{s.cur, s.out} {
				if l == nil {
					continue
				}
				charged += l.charge
				if l.answered {
					answered++
				}
				if err := l.check(); err != nil {
					return fmt.Errorf("stripe %v: %w", id, err)
				}
			}
		}
	}
	// What a destage has done with is given back a little later.
	if used := c.used.Load(); used < charged || still && used != charged {
		return fmt.Errorf("%d bytes are charged, what it holds is %d", used, charged)
	}
	if n := c.answered.Load(); n < answered || still && n != answered {
		return fmt.Errorf("%d layers are counted as answered, %d are", n, answered)
	}
	return nil
}

func (l *Layer) check() error {
	count, charge := 0, int64(layerCost)
	for role := range l.Dirty {
		for w := range l.Dirty[role] {
			d, z := l.Dirty[role][w], l.Zero[role][w]
			if z&^d != 0 {
				return fmt.Errorf("role %d: blocks are zeroed and not dirty", role)
			}
			p := &l.parts[role]
			if p.strip == nil && d&^z&^p.blocks.have[w] != 0 {
				return fmt.Errorf("role %d: dirty blocks without contents", role)
			}
			if p.strip != nil && len(p.blocks.list) > 0 || p.blocks.have.Count() != len(p.blocks.list) {
				return fmt.Errorf("role %d: blocks beside a strip, or not as many as there should be", role)
			}
			count += bits.OnesCount64(d)
			charge += int64(bits.OnesCount64(d&^z)) * layout.Block
		}
	}
	switch {
	case count != l.count:
		return fmt.Errorf("%d blocks are dirty, counted are %d", count, l.count)
	case charge > l.charge:
		return fmt.Errorf("it holds %d bytes, charged are %d", charge, l.charge)
	case len(l.By) == 0:
		return fmt.Errorf("no client wrote it")
	}
	return nil
}
