package table

import (
	"errors"
	"fmt"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
)

// ErrDamaged is wrapped when the tables of a disk cannot be read.
var ErrDamaged = errors.New("its tables are damaged")

// Note enters what some runs, ascending, mean for the sums of a disk that is not a member yet, on the disk. Pages that are older than
// their witnesses say nothing of what it holds: all their blocks are in doubt then.
func (t *Tables) Note(m *member.Member, runs []record.Run, epoch, checkpoint uint64) error {
	maps := map[int64][]byte{}
	for len(runs) > 0 {
		page := runs[0].Start / record.SumsPerPage
		at := page / record.BitsPerPage
		if maps[at] == nil {
			buf, old, err := t.ownPage(m, record.MapPage, at)
			if err != nil {
				return err
			}
			if old {
				setAllBits(m, at, buf)
			}
			maps[at] = buf
		}
		buf := make([]byte, layout.Block)
		if record.PageBit(maps[at], int(page%record.BitsPerPage)) {
			own, old, err := t.ownPage(m, record.SumPage, page)
			if err != nil {
				return err
			}
			buf = own
			for i := 0; old && i < record.SumsPerPage; i++ {
				record.SetPageSum(buf, i, record.SumDoubt)
			}
		}
		record.SetPageBit(maps[at], int(page%record.BitsPerPage), true)
		record.SetPageEpoch(buf, epoch)
		end := (page + 1) * record.SumsPerPage
		var rest []record.Run
		for len(runs) > 0 && runs[0].Start < end {
			r := runs[0]
			runs = runs[1:]
			for b := r.Start; b < min(end, r.Start+int64(r.Count)); b++ {
				record.SetPageSum(buf, int(b%record.SumsPerPage), r.SumOf(int(b-r.Start)))
			}
			if over := r.Start + int64(r.Count) - end; over > 0 {
				rest = append(rest, r.Last(int(over)))
			}
		}
		runs = append(rest, runs...)
		record.SealPage(buf, record.SumPage, m.Tag, page, checkpoint)
		if err := m.Disk.WriteAt(buf, m.Place().PageAt(record.SumPage, page)); err != nil {
			return err
		}
	}
	if err := m.Sync(); err != nil {
		return err
	}
	for at, buf := range maps {
		record.SealPage(buf, record.MapPage, m.Tag, at, checkpoint)
		if err := m.Disk.WriteAt(buf, m.Place().PageAt(record.MapPage, at)); err != nil {
			return err
		}
	}
	return m.Sync()
}

// ownPage reads a page of a disk that is not a member yet, and says whether it is older than its witness.
func (t *Tables) ownPage(m *member.Member, kind record.PageKind, page int64) (buf []byte, old bool, err error) {
	buf = make([]byte, layout.Block)
	if err := m.Disk.ReadAt(buf, m.Place().PageAt(kind, page)); err != nil {
		return nil, false, err
	}
	newest, oldest, err := record.CheckPage(buf, kind, m.Tag, page)
	if err != nil {
		return nil, false, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	w, err := t.seenOf(m, kind, page)
	if err != nil {
		return nil, false, err
	}
	return buf, older(record.PageSumOf(buf), newest, oldest, w), nil
}
