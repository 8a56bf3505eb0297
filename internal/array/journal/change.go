package journal

import (
	"cmp"
	"slices"

	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/probe"
)

// Commit makes a change happen whatever comes, or returns an error and leaves everything as it was. The caller holds the locks of
// the stripes, room in the journals and the barrier, through Commit and Place.
//
//	1  room is made for it where files have none yet
//	2  blocks that go in place at once are written and synced    a crash here leaves them never-written
//	3  the others are committed to the journals, one sync        a crash here leaves the old contents; after it, the new ones
func (j *Journal) Commit(c *Change) error {
	c.sort()
	if err := j.makeRoom(c.Writes); err != nil {
		return err
	}
	touched, err := j.WriteInPlace(c.Writes, record.RunInPlace)
	if err != nil {
		return err
	}
	if !probe.FreshNotSynced.On() {
		if err := j.syncMembers(touched); err != nil {
			return err
		}
	}
	if probe.PlacedBeforeCommit.On() {
		if _, err := j.WriteInPlace(c.Writes, record.RunPayload); err != nil {
			return err
		}
	}
	return j.commit(c)
}

// makeRoom makes sure that what is committed finds room in its place: a file system that is full is an error of the write
// before the commit, when everything can still be taken back, and would stop the array after it.
func (j *Journal) makeRoom(writes []Write) error {
	for _, w := range writes {
		if w.Kind != record.RunPayload || !w.Hole || !w.M.Live() {
			continue
		}
		if err := w.M.Reserve(w.M.Offset(w.Block), int64(w.N)*record.Block); err != nil {
			if err := w.M.WriteProblem(err); err != nil {
				return err
			}
		}
	}
	return nil
}

// Place brings a change in place that was committed, and enters its sums. A crash in it is repeated from the journals.
func (j *Journal) Place(c *Change) error {
	if _, err := j.WriteInPlace(c.Writes, record.RunPayload); err != nil {
		// Committed but not in place: only a start can sort that out.
		j.host.Freeze(err)
		return err
	}
	for _, w := range c.Writes {
		if !w.M.Live() || probe.SingleSumNotEntered.On() && w.N == 1 {
			continue
		}
		if w.M.Condition() == record.Rebuilding {
			probe.WriteInRebuild.Seen()
		}
		j.host.Tables.Enter(w.M, w.Kind, w.Block, w.N, w.Sums)
		if w.Kind == record.RunNever {
			j.host.Emptied(w.M, w.Block, int64(w.N))
		}
	}
	if err := j.tellCopies(c.Writes); err != nil {
		return err
	}
	return j.host.Alive()
}

// WriteInPlace writes the runs of one kind to the members' data, neighbours in one go and members at the same time, and
// returns the members it wrote to. The writes are sorted.
func (j *Journal) WriteInPlace(writes []Write, kind record.RunKind) ([]*member.Member, error) {
	var touched []*member.Member
	var begins []int // the first run of each
	var runs []stretch
	var bufs [][]byte // of all runs, one after the other
	bytes := 0
	for _, w := range writes {
		if w.Kind != kind || !w.M.Live() {
			continue
		}
		bytes += w.N * record.Block
		if touched == nil {
			few := &fewRuns{}
			touched, begins, runs, bufs = few.touched[:0], few.begins[:0], few.runs[:0], few.bufs[:0]
			if len(writes) > len(few.runs) {
				runs, bufs = make([]stretch, 0, len(writes)), make([][]byte, 0, len(writes))
			}
		}
		if n := len(touched); n == 0 || touched[n-1] != w.M {
			touched, begins = append(touched, w.M), append(begins, len(runs))
		}
		bufs = append(bufs, w.Buf[:w.N*record.Block])
		if n := len(runs); n > begins[len(begins)-1] && runs[n-1].end == w.Block {
			runs[n-1].end = w.Block + int64(w.N)
			runs[n-1].bufs = runs[n-1].bufs[:len(runs[n-1].bufs)+1]
		} else {
			runs = append(runs, stretch{w.Block, w.Block + int64(w.N), bufs[len(bufs)-1:]})
		}
	}
	if len(touched) == 0 {
		return nil, nil
	}
	begins = append(begins, len(runs))
	err := j.host.Fan.Out(len(touched), bytes, func(i int) error {
		own := runs[begins[i]:begins[i+1]]
		if len(own) > 1 && touched[i].Gathers() {
			return writeTogether(touched[i], own)
		}
		return j.host.Fan.OnOne(len(own), func(k int) error { return touched[i].WriteData(own[k].bufs, own[k].first) })
	})
	return touched, err
}

// fewRuns is room for what a small change writes in place. It is not used again: a disk that hangs may still have the list of buffers.
type fewRuns struct {
	touched [4]*member.Member
	begins  [5]int
	runs    [4]stretch
	bufs    [4][]byte
}

// writeTogether writes runs to a member that gathers them.
func writeTogether(m *member.Member, runs []stretch) error {
	all := make([]disk.Stretch, 0, len(runs))
	for _, r := range runs {
		all = append(all, disk.Stretch{Bufs: r.bufs, Off: m.Offset(r.first)})
	}
	return m.WriteMany(all)
}

// stretch is what goes to neighbouring blocks of a member in one go, from first to before end.
type stretch struct {
	first, end int64
	bufs       [][]byte
}

// Blocks is how many blocks the members are to write in place or mark.
func (c *Change) Blocks() (n int64) {
	for _, w := range c.Writes {
		n += int64(w.N)
	}
	return n
}

// sort puts the writes into the order of the members, and of the places on each.
func (c *Change) sort() {
	order := func(x, y Write) int {
		return cmp.Or(cmp.Compare(x.M.Slot, y.M.Slot), cmp.Compare(x.Block, y.Block))
	}
	if !slices.IsSortedFunc(c.Writes, order) { // mostly they are
		slices.SortFunc(c.Writes, order)
	}
}

func (j *Journal) syncMembers(members []*member.Member) error {
	if len(members) == 0 {
		return nil
	}
	return j.host.Fan.Out(len(members), member.SmallFan, func(i int) error {
		if !members[i].Live() {
			return nil
		}
		if err := members[i].Sync(); err != nil {
			return members[i].WriteProblem(err)
		}
		return nil
	})
}

// tellCopies writes to the copies what was just put in place on the members that are being copied, in strips that are copied.
// The caller holds the stripes and the barrier. A copy that cannot be written is given up; the array does not mind.
func (j *Journal) tellCopies(writes []Write) error {
	lay := j.host.Layout()
	for _, w := range writes {
		m := j.host.Slots.Onto(w.M.Slot)
		if m == nil || !m.Live() || probe.CopyNotMirrored.On() || !j.host.Slots.Has(w.M) {
			continue
		}
		if st, _, ok := lay.On(m.Slot, w.Block); !ok || st.Nth(m.Slot) >= m.Cursor.Load() {
			continue
		}
		if w.Kind == record.RunPayload || w.Kind == record.RunInPlace {
			if err := m.WriteData([][]byte{w.Buf[:w.N*record.Block]}, w.Block); err != nil {
				return err // of the array: a copy that cannot be written was given up
			}
		}
		if m.Live() {
			probe.WriteMirrored.Seen()
			j.host.Tables.Enter(m, w.Kind, w.Block, w.N, w.Sums)
		}
	}
	return nil
}
