//go:build linux

// Package carryover keeps what a device was told is written, and is not flushed yet, in memory that outlives the processes: a file in
// a file system that is memory. It is a ring of entries. A writer adds one before it passes the data on, and a flush lets go of those
// that came before it. After a crash the next process passes the entries on again, in order, so nothing that was acknowledged is lost.
//
// A process may end at any instruction, the machine does not: so what matters is the order of the stores. An entry gets its head with
// its length first and counts in when the end of the ring is moved behind it; its contents follow; then it is marked as whole. An
// entry that is not whole was never acknowledged.
//
// The file, little-endian; the first 4096 bytes are the head of the ring:
//
//	offset  bytes
//	0       8      "NIDALOCO"
//	8       4      version
//	16      8      length of the ring
//	24      16     identity of the array
//	40      8      number of the start of the array that everything in here was passed on to
//	48      8      where the ring begins, a position that only grows: it is at 4096 + position modulo length
//	56      8      where it ends
//	64      8      1: something was lost, and the next flush has to say so
//
// and each entry, at a multiple of 64, padded to one:
//
//	0       8      its position
//	8       4      state: 1 being filled, 2 whole, 3 of no use
//	12      4      kind: 1 data, 2 zeros, 3 what is left up to the end of the ring
//	16      8      where it belongs, bytes
//	24      8      how long it is, bytes
//	64             data
package carryover

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"unsafe"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"
)

const (
	magic   = "NIDALOCO"
	version = 1
	front   = 4096 // bytes before the ring
	unit    = 64   // entries begin at multiples of it

	// MaxData bounds the data of one entry, bytes.
	MaxData = 2 << 20
	// MinSize and MaxSize bound a ring, bytes.
	MinSize = 4 * MaxData
	MaxSize = 1 << 30
)

const (
	filling = 1
	whole   = 2
	useless = 3

	kindData   = 1
	kindZeros  = 2
	kindFiller = 3
)

var (
	// ErrVersion is returned for a file that another version wrote; it is left as it is.
	ErrVersion = errors.New("it was written by another version")
	// ErrDamaged is returned for a file that is not what it should be.
	ErrDamaged = errors.New("it is damaged")
)

// Ring is the carry-over of one device. Its methods may be called at the same time.
type Ring struct {
	file *os.File
	all  []byte // the file
	size uint64

	mu       sync.Mutex
	room     sync.Cond       // of mu: something was let go
	head     uint64          // as in the file
	tail     uint64          // as in the file
	underway map[uint64]bool // positions of entries that were not passed on yet; false: in doubt
	session  uint64          // how many sessions have begun
	closed   bool
	array    uuid.UUID
}

// Entry is a place in a ring.
type Entry struct {
	r    *Ring
	at   uint64
	Data []byte // to be filled; nil for zeros
}

// Create makes an empty ring of a size in bytes, in place of what is there.
func Create(path string, size int64, array uuid.UUID) (*Ring, error) {
	size = min(max(size, MinSize), MaxSize) &^ (front - 1)
	temporary := path + ".new"
	f, err := os.OpenFile(temporary, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	// All of it at once: a store into a page that cannot be had would end the process.
	if err = unix.Fallocate(int(f.Fd()), 0, 0, front+size); err == nil {
		head := make([]byte, front)
		copy(head, magic)
		binary.LittleEndian.PutUint32(head[8:], version)
		binary.LittleEndian.PutUint64(head[16:], uint64(size))
		copy(head[24:], array[:])
		_, err = f.WriteAt(head, 0)
	}
	if err == nil {
		err = os.Rename(temporary, path)
	}
	if err != nil {
		_ = f.Close()
		_ = os.Remove(temporary)
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return open(f, path)
}

// Open takes over a ring that another process left. What is in it is there to be passed on again.
func Open(path string) (*Ring, error) {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	return open(f, path)
}

func open(f *os.File, path string) (*Ring, error) {
	r := &Ring{file: f, underway: map[uint64]bool{}}
	r.room.L = &r.mu
	err := r.load()
	if err != nil {
		_ = r.release()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return r, nil
}

func (r *Ring) load() error {
	if err := unix.Flock(int(r.file.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return fmt.Errorf("another process uses it: %w", err)
	}
	st, err := r.file.Stat()
	if err != nil {
		return err
	}
	if st.Size() < front || st.Size() > front+MaxSize {
		return fmt.Errorf("%w: %d bytes", ErrDamaged, st.Size())
	}
	head := make([]byte, front)
	if _, err := r.file.ReadAt(head, 0); err != nil {
		return err
	}
	if string(head[:8]) != magic {
		return fmt.Errorf("%w: it begins with %q", ErrDamaged, head[:8])
	}
	if v := binary.LittleEndian.Uint32(head[8:]); v != version {
		return fmt.Errorf("%w, %d; this one is %d", ErrVersion, v, version)
	}
	r.size = binary.LittleEndian.Uint64(head[16:])
	if int64(r.size) != st.Size()-front || r.size%front != 0 || r.size < MinSize {
		return fmt.Errorf("%w: a ring of %d bytes in %d", ErrDamaged, r.size, st.Size())
	}
	if r.all, err = unix.Mmap(int(r.file.Fd()), 0, int(st.Size()), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED); err != nil {
		return err
	}
	_ = unix.Mlock(r.all) // where it may
	r.array = uuid.UUID(r.all[24:40])
	r.head, r.tail = r.word(48).Load(), r.word(56).Load()
	if r.head%unit != 0 || r.tail%unit != 0 || r.tail < r.head || r.tail-r.head > r.size {
		return fmt.Errorf("%w: from %d to %d", ErrDamaged, r.head, r.tail)
	}
	return r.walk(func(uint64, int64, int64, []byte) error { return nil })
}

// word is one of the numbers in the head, or at the beginning of an entry.
func (r *Ring) word(at int) *atomic.Uint64 { return (*atomic.Uint64)(unsafe.Pointer(&r.all[at])) }

func (r *Ring) half(at int) *atomic.Uint32 { return (*atomic.Uint32)(unsafe.Pointer(&r.all[at])) }

// place is where a position is in the file.
func (r *Ring) place(at uint64) int { return front + int(at%r.size) }

// Array is whose carry-over it is.
func (r *Ring) Array() uuid.UUID { return r.array }

// Start is the number of the start of the array that everything was passed on to; 0: none.
func (r *Ring) Start() uint64 { return r.word(40).Load() }

// SetStart notes that everything was passed on to a start.
func (r *Ring) SetStart(n uint64) { r.word(40).Store(n) }

// Lost says whether something was lost that a flush has not told of.
func (r *Ring) Lost() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return !r.closed && r.word(64).Load() != 0
}

// SetLost notes that, or that a flush has told.
func (r *Ring) SetLost(lost bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return
	}
	v := uint64(0)
	if lost {
		v = 1
	}
	r.word(64).Store(v)
}

// Used is how much of the ring is taken, and how much there is, in bytes.
func (r *Ring) Used() (used, size int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return int64(r.tail - r.head), int64(r.size)
}

// ErrFull is returned by Add when there is no room; Wait waits for some.
var ErrFull = errors.New("no room")

// Add makes room for length bytes of data that belong at off, or for zeros there. Whole or Drop must follow.
func (r *Ring) Add(off, length int64, zeros bool) (*Entry, error) {
	n, kind := uint64(unit), uint32(kindZeros)
	if !zeros {
		if length > MaxData {
			return nil, fmt.Errorf("an entry of %d bytes", length)
		}
		n, kind = unit+uint64(length+unit-1)&^(unit-1), kindData
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return nil, os.ErrClosed
	}
	rest := r.size - r.tail%r.size
	need := n
	if rest < n {
		need += rest
	}
	if r.size-(r.tail-r.head) < need {
		return nil, ErrFull
	}
	if rest < n { // an entry does not go round the end
		r.begin(r.tail, kindFiller, useless, 0, int64(rest-unit))
		r.setTail(r.tail + rest)
	}
	at := r.tail
	r.begin(at, kind, filling, off, length)
	r.setTail(at + n)
	r.underway[at] = true
	e := &Entry{r: r, at: at}
	if !zeros {
		e.Data = r.all[r.place(at)+unit:][:length:length]
	}
	return e, nil
}

func (r *Ring) begin(at uint64, kind, state uint32, off, length int64) {
	p := r.place(at)
	r.word(p + 16).Store(uint64(off))
	r.word(p + 24).Store(uint64(length))
	r.half(p + 12).Store(kind)
	r.half(p + 8).Store(state)
	r.word(p).Store(at)
}

func (r *Ring) setTail(to uint64) {
	r.tail = to
	r.word(56).Store(to)
}

// Place is where the data of an entry is in the file, bytes.
func (e *Entry) Place() int64 { return int64(e.r.place(e.at)) + unit }

// Whole notes that the data of an entry is there: from now on it is passed on again after a crash.
func (e *Entry) Whole() { e.r.half(e.r.place(e.at) + 8).Store(whole) }

// Passed notes that an entry was passed on. A flush that begins after that covers it.
func (e *Entry) Passed() {
	e.r.mu.Lock()
	defer e.r.mu.Unlock()
	e.r.settled(e.at)
}

// Drop notes that an entry is of no use: it is durable already, or was never acknowledged.
func (e *Entry) Drop() {
	e.r.mu.Lock()
	defer e.r.mu.Unlock()
	e.drop()
}

// drop is Drop. r.mu is held.
func (e *Entry) drop() {
	e.r.half(e.r.place(e.at) + 8).Store(useless)
	e.r.shed()
	e.r.settled(e.at)
}

// Doubt is Drop for an entry that was passed on in a session last, over a connection that broke: it may still be read from where it lies, so its place is kept
// until the next session begins. A process that ends before that leaves an entry that was never acknowledged and is passed on again all the same, in its turn.
func (e *Entry) Doubt(session uint64) {
	e.r.mu.Lock()
	defer e.r.mu.Unlock()
	if e.r.session == session {
		e.r.underway[e.at] = false
		e.r.room.Broadcast() // to Close
		return
	}
	e.drop()
}

// Begin notes that a session begins, and returns its number. What went over earlier connections is done, so what was in doubt is dropped.
func (r *Ring) Begin() (session uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.session++
	if r.closed {
		return r.session
	}
	for at, used := range r.underway {
		if !used {
			r.half(r.place(at) + 8).Store(useless)
			delete(r.underway, at)
		}
	}
	r.shed()
	return r.session
}

// settled notes that an entry is not used any more. r.mu is held.
func (r *Ring) settled(at uint64) {
	if delete(r.underway, at); r.closed {
		r.room.Broadcast() // to Close
	}
}

// used says whether entries are being passed on. r.mu is held.
func (r *Ring) used() bool {
	for _, used := range r.underway {
		if used {
			return true
		}
	}
	return false
}

// shed moves the beginning of the ring over entries that are of no use. r.mu is held.
func (r *Ring) shed() {
	at := r.head
	for at < r.tail && r.half(r.place(at)+8).Load() == useless {
		at += r.span(at)
	}
	if at != r.head {
		r.setHead(at)
	}
}

// span is how much of the ring an entry takes.
func (r *Ring) span(at uint64) uint64 {
	p := r.place(at)
	length := r.word(p + 24).Load()
	if r.half(p+12).Load() == kindZeros {
		length = 0
	}
	return unit + (length+unit-1)&^(unit-1)
}

func (r *Ring) setHead(to uint64) {
	r.head = to
	r.word(48).Store(to)
	r.room.Broadcast()
}

// Mark is up to where everything was passed on: what a flush that begins now covers.
func (r *Ring) Mark() uint64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	mark := r.tail
	for at := range r.underway {
		mark = min(mark, at)
	}
	return mark
}

// Flushed lets go of everything up to a mark.
func (r *Ring) Flushed(mark uint64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if mark > r.head && mark <= r.tail && !r.closed {
		r.setHead(mark)
		r.shed()
	}
}

// Wait waits until something was let go since it was called, or ctx ends.
func (r *Ring) Wait(ctx context.Context, head uint64) error {
	stop := context.AfterFunc(ctx, func() {
		r.mu.Lock()
		r.room.Broadcast()
		r.mu.Unlock()
	})
	defer stop()
	r.mu.Lock()
	defer r.mu.Unlock()
	for r.head == head && ctx.Err() == nil && !r.closed {
		r.room.Wait()
	}
	return ctx.Err()
}

// Head is where the ring begins, for Wait.
func (r *Ring) Head() uint64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.head
}

// Again calls pass for everything that is whole, in order. Data is valid during the call only; nil means zeros.
func (r *Ring) Again(pass func(off, length int64, data []byte) error) error {
	return r.walk(func(_ uint64, off, length int64, data []byte) error { return pass(off, length, data) })
}

// walk goes over the whole entries. Nothing in the file is believed.
func (r *Ring) walk(each func(at uint64, off, length int64, data []byte) error) error {
	r.mu.Lock()
	at, tail := r.head, r.tail
	r.mu.Unlock()
	for at < tail {
		p, rest := r.place(at), min(tail-at, r.size-at%r.size)
		if rest < unit || r.word(p).Load() != at {
			return fmt.Errorf("%w: no entry at %d", ErrDamaged, at)
		}
		kind, state := r.half(p+12).Load(), r.half(p+8).Load()
		off, length := r.word(p+16).Load(), r.word(p+24).Load()
		span := r.span(at)
		if off > 1<<62 || length > 1<<62 || span > rest || kind < kindData || kind > kindFiller || state < filling || state > useless ||
			kind == kindData && length > MaxData {
			return fmt.Errorf("%w: entry at %d", ErrDamaged, at)
		}
		var data []byte
		if kind == kindData {
			data = r.all[p+unit:][:length]
		}
		if state == whole && kind != kindFiller {
			if err := each(at, int64(off), int64(length), data); err != nil {
				return err
			}
		}
		at += span
	}
	return nil
}

// Empty forgets everything in a ring. Nobody may be adding to it.
func (r *Ring) Empty() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.setHead(r.tail)
}

// Close lets go of the memory when every entry was passed on or dropped, and takes no more. The file stays, for another process to
// open.
func (r *Ring) Close() error {
	r.mu.Lock()
	r.closed = true
	r.room.Broadcast()
	for r.used() {
		r.room.Wait()
	}
	r.mu.Unlock()
	return r.release()
}

// release is Close as a process that ends does it.
func (r *Ring) release() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.closed = true
	var err error
	if r.all != nil {
		err = unix.Munmap(r.all)
		r.all = nil
	}
	return errors.Join(err, r.file.Close())
}
