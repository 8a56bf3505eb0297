// Package member is one disk in an array: its reads and writes, its errors, and what follows from them. It knows nothing of the other
// members: a Roll decides which of them take part.
package member

import (
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Member is one slot's disk as the engine works with it. Another disk in the slot is another member.
type Member struct {
	Judge *Judge // nil when it is only looked at
	Slot  int
	Disk  disk.Disk // nil when there is none
	// Patient is Disk as what it is when it is not only looked at; else nil.
	Patient   *disk.Patient
	Identity  uuid.UUID
	place     atomic.Pointer[record.Place]
	Tag       uint64
	Key       uint32 // unique in the array
	state     atomic.Int32
	Cursor    atomic.Int64 // how many of its strips are rebuilt
	Base      uint64       // when it was away: it has all that was not changed after this epoch, but what is rebuilt; 0: nothing
	Has       record.State // of the roster, that its own record is in for certain; guarded by the roster
	Tried     record.State // of the roster, that was last written to it, perhaps in part; guarded by the roster
	Errs      errorCounts
	SetBack   atomic.Bool // one of its pages was older than its witness; it was said
	Stale     bool        // in a rescue: it left the array earlier, at the epoch Base
	Ring      Ring
	reason    atomic.Pointer[string] // why it is failing or failed, when this process saw it
	Lost      atomic.Int64           // when the array failed by its loss, which no roster tells any more; ns
	keeps     atomic.Bool            // it cannot give blocks back
	used      atomic.Bool            // see Used
	measuring atomic.Bool            // a call of Measure is under way
	syncs     syncs
	closing   env.Once
	closed    chan struct{} // closed when the disk is
}

// syncs are those of one disk. They are counted as they are asked for.
type syncs struct {
	asked  atomic.Uint64
	mu     env.Mutex // one goes to the disk at a time
	served uint64    // the last that one which went to the disk was for
	err    error     // of one that failed
}

// errorCounts is how often a member did not do what it was asked since it joined.
type errorCounts struct{ Read, Write, Checksum atomic.Uint64 }

// Known is what is known of a member when it is made.
type Known struct {
	Slot      int
	Disk      disk.Disk // nil: there is none
	Identity  uuid.UUID
	Place     record.Place
	Condition record.Condition
	Cursor    int64
	Base      uint64
	Errors    record.Errors
	Has       record.State
	Stale     bool
}

// New makes a member. j may be nil when it is only looked at.
func New(j *Judge, k Known) *Member {
	m := &Member{Judge: j, Slot: k.Slot, Disk: k.Disk, Identity: k.Identity, Base: k.Base, Has: k.Has, Tried: k.Has,
		Stale: k.Stale, Tag: record.TagOf(k.Identity), Ring: ringOf(k.Place), closed: make(chan struct{})}
	m.state.Store(int32(k.Condition))
	m.place.Store(&k.Place)
	m.Cursor.Store(k.Cursor)
	m.Errs.Read.Store(k.Errors.Read)
	m.Errs.Write.Store(k.Errors.Write)
	m.Errs.Checksum.Store(k.Errors.Checksum)
	if j != nil {
		m.Key = j.keys.Add(1)
		if k.Disk != nil {
			m.Patient = disk.NewPatient(k.Disk, j.limits.Patience, func() bool { return !j.roll.Needs(k.Slot) })
			m.Disk = m.Patient
		}
	}
	return m
}

// Place is where its parts lie, which is not to be changed.
func (m *Member) Place() *record.Place { return m.place.Load() }

// Extend gives it another place, in which all that it has is where it was.
func (m *Member) Extend(to record.Place) { m.place.Store(&to) }

// Errors is how often it did not do what it was asked.
func (m *Member) Errors() record.Errors {
	return record.Errors{Read: m.Errs.Read.Load(), Write: m.Errs.Write.Load(), Checksum: m.Errs.Checksum.Load()}
}

// Condition is the condition in memory.
func (m *Member) Condition() record.Condition { return record.Condition(m.state.Load()) }

// Become sets the condition in memory: the record that says so is the roster's to write.
func (m *Member) Become(to record.Condition) { m.state.Store(int32(to)) }

// Decline makes an active member a failing one, in memory, and says whether it was one.
func (m *Member) Decline(why string) bool {
	if !m.state.CompareAndSwap(int32(record.Active), int32(record.Failing)) {
		return false
	}
	m.reason.Store(&why)
	return true
}

// Because notes why it is out.
func (m *Member) Because(cause error) {
	why := cause.Error()
	m.reason.Store(&why)
}

// Why is why it is failing or failed, empty when this process did not see it.
func (m *Member) Why() string {
	if why := m.reason.Load(); why != nil {
		return *why
	}
	return ""
}

// Live says that the member takes part: it is written to, and its record is kept.
func (m *Member) Live() bool { return m.Disk != nil && m.Condition().TakesPart() }

// Full says that all that the member should hold counts.
func (m *Member) Full() bool { return m.Disk != nil && m.Condition().Counts() }

// Usable says that what the member holds of a stripe is current.
func (m *Member) Usable(st layout.Stripe) bool {
	return m.Full() || m.Disk != nil && m.Condition() == record.Rebuilding && st.Nth(m.Slot) < m.Cursor.Load()
}

// Name is how people know it.
func (m *Member) Name() string {
	if m.Disk == nil {
		return fmt.Sprintf("slot %d", m.Slot)
	}
	return m.Disk.Identity().String()
}

// Offset is where a block of its data lies on the disk, in bytes.
func (m *Member) Offset(block int64) int64 { return m.Place().Offset(block) }

// Release closes the member's disk, so that others can open it. It does not wait: what is under way on a disk that hangs
// holds it for as long as it hangs.
func (m *Member) Release() {
	if m.Disk == nil {
		return
	}
	m.closing.Do(func() {
		if m.Patient == nil {
			_ = m.Disk.Close()
			close(m.closed)
			return
		}
		env.Go(func() {
			_ = m.Disk.Close()
			close(m.closed)
		})
	})
}

// ReleaseWait is how long a command waits for the handle of a disk that left; only a disk that hangs takes longer.
const ReleaseWait = 2 * time.Second

// Released waits until the disk is closed, but not for long.
func (m *Member) Released() {
	if m.Disk == nil {
		return
	}
	m.Release()
	env.Wait(ReleaseWait, m.closed)
}

// Bare is the disk itself, without the patience.
func (m *Member) Bare() disk.Disk {
	if m.Patient != nil {
		return m.Patient.Disk
	}
	return m.Disk
}

// Measure finds out how large the disk is by now. While one call hangs with the disk, others return at once.
func (m *Member) Measure() {
	d, ok := m.Bare().(disk.Measurer)
	if !ok || !m.measuring.CompareAndSwap(false, true) {
		return
	}
	defer m.measuring.Store(false)
	_, _ = d.Measure() // it keeps the size it had
}

// Reserve makes room for a stretch of the member where that may be short, in a file on a file system that is nearly full.
func (m *Member) Reserve(off, n int64) error {
	if r, ok := m.Bare().(disk.Reserver); ok {
		return r.Reserve(off, n)
	}
	return nil
}

// Discard has the disk forget blocks of its data, and says whether it did. One that cannot is not asked again.
func (m *Member) Discard(block, n int64) bool {
	d, ok := m.Disk.(disk.Discarder)
	if !ok || m.keeps.Load() {
		return false
	}
	if err := d.Discard(m.Offset(block), n*layout.Block); err != nil {
		m.keeps.Store(true)
		return false
	}
	return true
}

// ReadData reads blocks of its data; a disk that is late is left alone when the array can do without it.
func (m *Member) ReadData(bufs [][]byte, block int64) error {
	var err error
	m.Use()
	if m.Patient != nil {
		err = m.Patient.ReadSoon(bufs, m.Offset(block))
	} else {
		err = m.Disk.ReadVec(bufs, m.Offset(block))
	}
	if err != nil {
		m.ReadProblem(err)
	}
	return err
}

// InsistData is ReadData that waits for as long as the disk may take.
func (m *Member) InsistData(bufs [][]byte, block int64) error {
	m.Use()
	err := m.Disk.ReadVec(bufs, m.Offset(block))
	if err != nil {
		m.ReadProblem(err)
	}
	return err
}

// WriteData writes blocks of its data. An error is one of the array as a whole, see WriteProblem.
func (m *Member) WriteData(bufs [][]byte, block int64) error {
	m.Judge.inPlace.Add(int64(disk.Length(bufs)))
	if err := m.Write(bufs, m.Offset(block)); err != nil {
		return m.WriteProblem(err)
	}
	return nil
}

// Gathers says whether its disk reads or writes many stretches in the time of one.
func (m *Member) Gathers() bool { return m.Patient != nil && m.Patient.Gathers() }

// ReadMany reads many stretches of a member that gathers, where their offsets say, bytes of the disk. An error says nothing of the disk: what is wanted for
// certain is read by ReadData then, which finds out.
func (m *Member) ReadMany(all []disk.Stretch) error {
	m.Use()
	return m.Patient.ReadMany(all)
}

// WriteMany is WriteData for many stretches of a member that gathers, where their offsets say, bytes of the disk.
func (m *Member) WriteMany(all []disk.Stretch) error {
	for _, s := range all {
		m.Judge.inPlace.Add(int64(disk.Length(s.Bufs)))
	}
	if err := m.write(func() error { return m.Patient.WriteMany(all) }); err != nil {
		return m.WriteProblem(err)
	}
	return nil
}

// Write tries as often as the limits say: a disk may have to find another place for a sector first. Places written again
// are right in any case, because nothing else writes there meanwhile.
func (m *Member) Write(bufs [][]byte, off int64) error {
	return m.write(func() error { return m.Disk.WriteVec(bufs, off) })
}

func (m *Member) write(f func() error) error {
	m.Use()
	for try := 1; ; try++ {
		err := f()
		if err == nil || try >= m.Judge.limits.Tries || errors.Is(err, disk.ErrGone) || errors.Is(err, disk.ErrFull) || errors.Is(err, disk.ErrHung) {
			return err
		}
		m.Errs.Write.Add(1)
	}
}

// errUnsynced marks errors of a sync: what was written before may be gone, and no further sync can tell.
var errUnsynced = errors.New("the writes may not be durable")

// Sync makes what was written to the member before durable. One call at a time goes to the disk, and serves all that waited for their turn
// when it began. After one that failed all fail: a system tells of what it dropped once, to one of those that ask.
func (m *Member) Sync() error {
	turn := m.syncs.asked.Add(1)
	m.syncs.mu.Lock()
	defer m.syncs.mu.Unlock()
	if m.syncs.err != nil || m.syncs.served >= turn {
		return m.syncs.err
	}
	serves := m.syncs.asked.Load()
	if err := m.Disk.Sync(); err != nil {
		m.syncs.err = fmt.Errorf("%w: %w", err, errUnsynced)
		return m.syncs.err
	}
	m.syncs.served = serves
	return nil
}

// PutRecord writes all copies of a record, the first after the others with a sync in between: a crash leaves at least one whole, and one of the first
// two, which are found on a disk whatever its size.
func (m *Member) PutRecord(r *record.Record) error {
	own := r.Clone()
	own.Slot, own.Member, own.Place = m.Slot, m.Identity, *m.Place()
	buf, err := own.Encode()
	if err != nil {
		return err
	}
	m.Tried = own.State()
	at := disk.RecordCopies(own.Place.Size)
	for _, places := range [][]int64{at[1:], at[:1]} {
		for _, off := range places {
			if err := m.Disk.WriteAt(buf, off); err != nil {
				return err
			}
		}
		if err := m.Sync(); err != nil {
			return err
		}
	}
	m.Has = m.Tried
	return nil
}

// Ring is the journal's account of its ring on one member. Positions are in blocks. Guarded by the journal.
type Ring struct {
	Start    int64 // bytes from the start of the member to block 0 of the ring
	Blocks   int64
	Head     int64 // where the next entry goes
	Live     int64 // blocks from the oldest entry that is needed to the head, with what was skipped at the end
	Reserved int64
	Sequence uint64          // of the last head written
	Slept    bool            // the last head says that the member was put to sleep
	Joined   uint64          // the first batch that the member can have a part in
	Headers  [Headers][]byte // room for those of entries on their way
}

// Headers is how many entries may be on their way to one journal at the same time.
const Headers = 2

func ringOf(p record.Place) Ring {
	return Ring{Start: p.JournalStart + record.JournalHeads*layout.Block, Blocks: p.JournalSize/layout.Block - record.JournalHeads}
}

// Take finds the place of an entry of n blocks and accounts for it.
func (r *Ring) Take(n int64) int64 {
	if r.Head+n > r.Blocks {
		probe.RingWraps.Seen()
		r.Live += r.Blocks - r.Head
		r.Head = 0
	}
	at := r.Head
	r.Head += n
	r.Live += n
	return at
}
