package disk

import "nidalo/internal/env"

// Stretch is what goes to one place of a disk, or comes from there.
type Stretch struct {
	Bufs [][]byte // in order
	Off  int64    // bytes
}

// Gathering is implemented by disks that do many operations in the time of one. They get no more than mostTogether, of longestTogether bytes.
type Gathering interface {
	// ReadMany reads stretches. Nothing may be put there before l.Arm said yes.
	ReadMany(l *Landing, all []Stretch) error
	// WriteMany writes stretches, in any order. When it fails, any of them may have been written.
	WriteMany(all []Stretch) error
}

// The bounds of what goes out together, operations and bytes, so that all of it takes no longer than one operation may.
const (
	mostTogether    = 64
	longestTogether = 1 << 20
)

// Gathers says whether many operations take the time of one.
func (p *Patient) Gathers() bool { return p.gathering != nil && env.Either(true) }

// ReadMany is ReadSoon for stretches of a disk that gathers. When it fails, any of them may have been read.
func (p *Patient) ReadMany(all []Stretch) error {
	return gathered(all, func(s Stretch) error { return p.ReadSoon(s.Bufs, s.Off) }, func(some []Stretch, bytes int64) error {
		p.wake()
		p.moved.Add(bytes)
		l := &Landing{}
		err := p.do("read", true, func() error { return p.gathering.ReadMany(l, some) })
		if err != nil {
			l.revoke()
		}
		return err
	})
}

// WriteMany is WriteVec for stretches of a disk that gathers. When it fails, any of them may have been written.
func (p *Patient) WriteMany(all []Stretch) error {
	return gathered(all, func(s Stretch) error { return p.WriteVec(s.Bufs, s.Off) }, func(some []Stretch, bytes int64) error {
		p.writing.Add(1)
		defer p.writing.Add(-1)
		p.wake()
		p.moved.Add(bytes)
		return p.do("write", false, func() error { return p.gathering.WriteMany(some) })
	})
}

// gathered does as many operations together as may be, and alone those that are too long for that.
func gathered(all []Stretch, alone func(Stretch) error, together func(some []Stretch, bytes int64) error) error {
	for len(all) > 0 {
		n, bytes := 0, 0
		for n < min(len(all), mostTogether) && bytes+Length(all[n].Bufs) <= longestTogether {
			bytes += Length(all[n].Bufs)
			n++
		}
		var err error
		if n < 2 {
			n, err = 1, alone(all[0])
		} else {
			err = together(all[:n], int64(bytes))
		}
		if err != nil {
			return err
		}
		all = all[n:]
	}
	return nil
}
