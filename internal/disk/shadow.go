package disk

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"nidalo/core/health"
	"nidalo/internal/env"
)

// Range is a stretch of a disk, in bytes.
type Range struct{ Offset, Length int64 }

// Shadow is a disk that is only read: what is written to it is kept in memory and seen by reads, and is gone with it.
// Ranges can be declared unreadable, for images of disks that could not be copied whole.
type Shadow struct {
	Disk
	bad []Range // ascending, none touching the next

	mu     env.RWMutex
	blocks map[int64][]byte // by number
}

const shadowBlock = 4096

// NewShadow puts a shadow before a disk. Nothing reaches the disk but reads.
func NewShadow(d Disk, bad []Range) *Shadow {
	bad = slices.Clone(bad)
	slices.SortFunc(bad, func(x, y Range) int { return cmp.Compare(x.Offset, y.Offset) })
	apart := bad[:0]
	for _, r := range bad {
		if l := len(apart) - 1; l >= 0 && r.Offset <= apart[l].Offset+apart[l].Length {
			apart[l].Length = max(apart[l].Length, r.Offset+r.Length-apart[l].Offset)
		} else {
			apart = append(apart, r)
		}
	}
	return &Shadow{Disk: d, bad: apart, blocks: map[int64][]byte{}}
}

// Bad says whether a block was declared unreadable, wholly or in part, and nothing was written over it.
func (s *Shadow) Bad(off int64) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.blocks[off/shadowBlock] == nil && s.declared(off, shadowBlock)
}

func (s *Shadow) declared(off, length int64) bool {
	i, _ := slices.BinarySearchFunc(s.bad, off, func(r Range, off int64) int { return cmp.Compare(r.Offset+r.Length, off+1) })
	return i < len(s.bad) && s.bad[i].Offset < off+length
}

func (s *Shadow) ReadAt(p []byte, off int64) error { return s.ReadVec([][]byte{p}, off) }

func (s *Shadow) ReadVec(bufs [][]byte, off int64) error {
	for _, p := range bufs {
		if err := s.read(p, off); err != nil {
			return err
		}
		off += int64(len(p))
	}
	return nil
}

func (s *Shadow) read(p []byte, off int64) error {
	s.mu.RLock()
	defer s.mu.RUnlock()
	own, first, last := 0, off/shadowBlock, (off+int64(len(p))-1)/shadowBlock
	if len(s.blocks) > 0 {
		for n := first; n <= last; n++ {
			if s.blocks[n] != nil {
				own++
			}
		}
	}
	if int64(own) <= last-first {
		if s.declared(off, int64(len(p))) {
			return fmt.Errorf("%s: unreadable at byte %d, as its list says", s.Identity(), off)
		}
		if err := s.Disk.ReadAt(p, off); err != nil {
			return err
		}
	}
	for n := first; own > 0 && n <= last; n++ {
		if b := s.blocks[n]; b != nil {
			at := n*shadowBlock - off
			copy(p[max(0, at):], b[max(0, -at):])
		}
	}
	return nil
}

func (s *Shadow) WriteAt(p []byte, off int64) error {
	if off%shadowBlock != 0 || len(p)%shadowBlock != 0 {
		return fmt.Errorf("%s: a write of %d bytes at %d is not of whole blocks", s.Identity(), len(p), off)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := 0; i < len(p); i += shadowBlock {
		s.blocks[(off+int64(i))/shadowBlock] = slices.Clone(p[i : i+shadowBlock])
	}
	return nil
}

func (s *Shadow) WriteVec(bufs [][]byte, off int64) error {
	for _, p := range bufs {
		if err := s.WriteAt(p, off); err != nil {
			return err
		}
		off += int64(len(p))
	}
	return nil
}

func (s *Shadow) Sync() error { return nil }

// Health is what the disk below says of itself.
func (s *Shadow) Health() (health.Readings, error) {
	if d, ok := s.Disk.(interface {
		Health() (health.Readings, error)
	}); ok {
		return d.Health()
	}
	return health.Readings{}, errors.ErrUnsupported
}
