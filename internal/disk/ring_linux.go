package disk

import (
	"math"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A ring (io_uring) gives the kernel several operations with one call, and lets no thread wait for each. It wins where small operations wait
// for a device: docs/performance.md has the figures. On files it loses, because there the kernel hands most of them to threads of its
// own, and with large ones it wins nothing. So only small operations on devices use it, and only when the kernel has it: others, and
// what does not fit into it, take the plain calls.

// ringEntries is how many operations may wait to be given to the kernel, and twice as many may be under way.
const ringEntries = 256

// ringMost is the largest operation that goes into the ring, bytes.
const ringMost = 16 << 10

// The layout of what the kernel shares, from include/uapi/linux/io_uring.h.
type (
	ringParams struct {
		sqEntries, cqEntries, flags, cpu, idle, features, queue uint32
		_                                                       [3]uint32
		sq                                                      struct {
			head, tail, mask, entries, flags, dropped, array, _ uint32
			_                                                   uint64
		}
		cq struct {
			head, tail, mask, entries, overflow, cqes, flags, _ uint32
			_                                                   uint64
		}
	}
	ringEntry struct {
		op, flags     uint8
		priority      uint16
		fd            int32
		off, addr     uint64
		length, flag2 uint32
		user          uint64
		_             [3]uint64
	}
	ringResult struct {
		user   uint64
		result int32
		flags  uint32
	}
)

const (
	ringReadv      = 1
	ringWritev     = 2
	ringGetEvents  = 1
	ringOffSQ      = 0
	ringOffCQ      = 0x8000000
	ringOffEntries = 0x10000000
	ringNoDrop     = 2
)

// ring is one for all devices of the process.
type ring struct {
	fd      int
	sq, cq  []byte
	entries []byte
	p       ringParams
	mu      sync.Mutex
	ops     [2 * ringEntries]*ringOp // under way, by their numbers
	free    []uint64
	waiting uint32 // entries that the kernel does not know of yet
	giving  bool   // somebody is giving them to it
	broken  bool   // the kernel refused: no more is put in
}

// notGiven is the result of an operation that the kernel never took.
const notGiven = math.MinInt32

// ringOp is one operation. The kernel reads and writes what it points to until it is done.
type ringOp struct {
	vec    []unix.Iovec
	result int32
	done   chan struct{}
}

var ringOps = sync.Pool{New: func() any { return &ringOp{done: make(chan struct{}, 1)} }}

// theRing is nil where the kernel has none.
var theRing = sync.OnceValue(newRing)

func newRing() *ring {
	r := &ring{}
	fd, _, errno := syscall.Syscall(unix.SYS_IO_URING_SETUP, ringEntries, uintptr(unsafe.Pointer(&r.p)), 0)
	if errno != 0 {
		return nil
	}
	r.fd = int(fd)
	unix.CloseOnExec(r.fd)
	var errs [3]error
	r.sq, errs[0] = unix.Mmap(r.fd, ringOffSQ, int(r.p.sq.array+r.p.sqEntries*4), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED|unix.MAP_POPULATE)
	r.cq, errs[1] = unix.Mmap(r.fd, ringOffCQ, int(r.p.cq.cqes+r.p.cqEntries*uint32(unsafe.Sizeof(ringResult{}))), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED|unix.MAP_POPULATE)
	r.entries, errs[2] = unix.Mmap(r.fd, ringOffEntries, int(r.p.sqEntries*uint32(unsafe.Sizeof(ringEntry{}))), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED|unix.MAP_POPULATE)
	if errs != [3]error{} || r.p.features&ringNoDrop == 0 || r.p.cqEntries < uint32(len(r.ops)) {
		_ = unix.Close(r.fd)
		return nil
	}
	for i := range r.ops {
		r.free = append(r.free, uint64(i))
	}
	go r.collect()
	return r
}

func shared(b []byte, at uint32) *uint32 { return (*uint32)(unsafe.Pointer(&b[at])) }

// do has the kernel read or write, and returns when it has. ok is false when the ring has no room, and nothing was done.
func (r *ring) do(op uint8, fd int, bufs [][]byte, off int64) (n int, ok bool, err error) {
	if r == nil || Length(bufs) > ringMost {
		return 0, false, nil
	}
	o := ringOps.Get().(*ringOp)
	o.vec = o.vec[:0]
	for _, b := range bufs {
		if len(b) > 0 {
			o.vec = append(o.vec, unix.Iovec{Base: &b[0], Len: uint64(len(b))})
		}
	}
	if len(o.vec) == 0 || !r.give(o, ringEntry{op: op, fd: int32(fd), off: uint64(off), addr: uint64(uintptr(unsafe.Pointer(unsafe.SliceData(o.vec)))), length: uint32(len(o.vec))}) {
		ringOps.Put(o)
		return 0, false, nil
	}
	<-o.done
	runtime.KeepAlive(bufs)
	result := o.result
	clear(o.vec)
	ringOps.Put(o)
	if result == notGiven {
		return 0, false, nil
	}
	if result < 0 {
		return 0, true, syscall.Errno(-result)
	}
	return int(result), true, nil
}

// give puts an operation into the ring. Whoever finds nobody giving gives the kernel all that waits.
func (r *ring) give(o *ringOp, e ringEntry) bool {
	r.mu.Lock()
	if r.broken || len(r.free) == 0 || r.waiting >= r.p.sqEntries {
		r.mu.Unlock()
		return false
	}
	e.user = r.free[len(r.free)-1]
	r.free = r.free[:len(r.free)-1]
	r.ops[e.user] = o
	tail := shared(r.sq, r.p.sq.tail)
	at := *tail & *shared(r.sq, r.p.sq.mask)
	*(*ringEntry)(unsafe.Pointer(&r.entries[at*uint32(unsafe.Sizeof(e))])) = e
	*shared(r.sq, r.p.sq.array+4*at) = at
	atomic.StoreUint32(tail, *tail+1)
	r.waiting++
	if r.giving {
		r.mu.Unlock()
		return true
	}
	r.giving = true
	for r.waiting > 0 {
		n := r.waiting
		r.mu.Unlock()
		took, _, errno := syscall.Syscall6(unix.SYS_IO_URING_ENTER, uintptr(r.fd), uintptr(n), 0, 0, 0, 0)
		r.mu.Lock()
		switch errno {
		case 0:
			r.waiting -= uint32(took)
		case unix.EINTR, unix.EAGAIN, unix.EBUSY:
			r.mu.Unlock()
			runtime.Gosched()
			r.mu.Lock()
		default:
			r.takeBack()
		}
	}
	r.giving = false
	r.mu.Unlock()
	return true
}

// takeBack ends the use of a ring that the kernel refuses. What it has not taken yet is left to the plain calls. r.mu is held.
func (r *ring) takeBack() {
	tail, mask := shared(r.sq, r.p.sq.tail), *shared(r.sq, r.p.sq.mask)
	head := atomic.LoadUint32(shared(r.sq, r.p.sq.head))
	for at := head; at != *tail; at++ {
		e := (*ringEntry)(unsafe.Pointer(&r.entries[(at&mask)*uint32(unsafe.Sizeof(ringEntry{}))]))
		r.finish(e.user, notGiven)
	}
	atomic.StoreUint32(tail, head)
	r.waiting, r.broken = 0, true
}

// finish tells the caller of an operation how it ended. r.mu is held.
func (r *ring) finish(number uint64, result int32) {
	o := r.ops[number]
	r.ops[number] = nil
	r.free = append(r.free, number)
	o.result = result
	o.done <- struct{}{}
}

// collect tells of what is done.
func (r *ring) collect() {
	head, tail, mask := shared(r.cq, r.p.cq.head), shared(r.cq, r.p.cq.tail), *shared(r.cq, r.p.cq.mask)
	for {
		if atomic.LoadUint32(tail) == *head {
			if _, _, errno := syscall.Syscall6(unix.SYS_IO_URING_ENTER, uintptr(r.fd), 0, 1, ringGetEvents, 0, 0); errno == unix.EBADF {
				return
			} else if errno != 0 && errno != unix.EINTR {
				time.Sleep(time.Millisecond) // what is under way is waited for
			}
		}
		end := atomic.LoadUint32(tail)
		r.mu.Lock()
		for at := *head; at != end; at++ {
			c := (*ringResult)(unsafe.Pointer(&r.cq[r.p.cq.cqes+(at&mask)*uint32(unsafe.Sizeof(ringResult{}))]))
			r.finish(c.user, c.result)
		}
		r.mu.Unlock()
		atomic.StoreUint32(head, end)
	}
}

// deviceReadv and deviceWritev are preadv and pwritev for devices.
func deviceReadv(fd int, bufs [][]byte, off int64) (int, error) {
	if n, ok, err := theRing().do(ringReadv, fd, bufs, off); ok {
		return n, err
	}
	return preadv(fd, bufs, off)
}

func deviceWritev(fd int, bufs [][]byte, off int64) (int, error) {
	if n, ok, err := theRing().do(ringWritev, fd, bufs, off); ok {
		return n, err
	}
	return pwritev(fd, bufs, off)
}
