package disk

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/survey"
)

// Block devices are read and written past the system's memory (O_DIRECT): what is read comes from the medium, and memory is
// not filled twice. Places and lengths must then be whole sectors, and so must the addresses of buffers.

// mostSector is the largest sector that the engine's blocks are multiples of, bytes.
const mostSector = record.Block

// surveyed is what the system says of an open device.
func surveyed(raw syscall.RawConn) (survey.Device, bool) {
	number := deviceNumber(raw)
	if number == "" {
		return survey.Device{}, false
	}
	return survey.Of(number)
}

// identify asks the system what the device is, and refuses what cannot be used as a disk.
func (d *File) identify(write bool) error {
	d.sector = 512
	at, ok := surveyed(d.raw)
	if !ok {
		return nil
	}
	d.sector = at.Sector
	d.identity = identityOf(d.identity.Path, at)
	switch {
	case at.Sector > mostSector:
		return fmt.Errorf("%s: its sectors have %d bytes; more than %d cannot be used", d.identity, at.Sector, mostSector)
	case !write:
	case at.Zones != "":
		return fmt.Errorf("%s: it takes writes in order only (%s zones), which an array cannot give it", d.identity, at.Zones)
	case at.ReadOnly:
		return fmt.Errorf("%s: %w", d.identity, ErrReadOnly)
	}
	return nil
}

// identityOf is what people know a device of the survey by.
func identityOf(path string, at survey.Device) state.Identity {
	return state.Identity{Path: path, Bay: state.Printable(at.Bay), Model: state.Printable(at.Model), Serial: state.Printable(at.Named())}
}

// Surveyed is what people know a device of the survey by.
func Surveyed(at survey.Device) state.Identity { return identityOf(at.Path, at) }

// Ioctl asks the kernel something of the device.
func (d *File) Ioctl(request uintptr, p unsafe.Pointer) (err error) {
	gone := d.raw.Control(func(fd uintptr) { err = ioctl(fd, request, p) })
	if gone != nil {
		return os.ErrClosed
	}
	return err
}

// Sector is the least that can be read or written, bytes; 1 for a file.
func (d *File) Sector() int { return d.sector }

// RereadPartitions has the system read the partition table of a whole disk again. Nothing is done for anything else.
func (d *File) RereadPartitions() error {
	if at, ok := surveyed(d.raw); !d.device || !ok || !at.Whole() {
		return nil
	}
	return rereadPartitions(d.raw)
}

// holder names the user of a device, for the end of an error.
func holder(path string) string {
	who := Holders(path)
	if len(who) == 0 {
		who = programs(path)
	}
	if len(who) == 0 {
		return "for a moment, or by another program"
	}
	return strings.Join(who, "; ")
}

// whole says whether buffers and a place can go to a device as they are.
func (d *File) whole(bufs [][]byte, off int64) bool {
	if off%int64(d.sector) != 0 {
		return false
	}
	for _, b := range bufs {
		if len(b)%d.sector != 0 || len(b) > 0 && uintptr(unsafe.Pointer(&b[0]))%uintptr(d.sector) != 0 {
			return false
		}
	}
	return true
}

// readDirect reads into the buffers in order, through a buffer of its own where theirs do not fit.
func (d *File) readDirect(bufs [][]byte, off int64) error {
	if d.whole(bufs, off) {
		return d.problem(vectored(d.raw, bufs, off, deviceReadv))
	}
	sector := int64(d.sector)
	from := off / sector * sector
	until := min((off+int64(Length(bufs))+sector-1)/sector*sector, d.size.Load())
	own := alignedBuffer(int(until - from))
	defer giveAligned(own)
	if err := vectored(d.raw, [][]byte{own}, from, deviceReadv); err != nil {
		return d.problem(err)
	}
	at := own[off-from:]
	for _, b := range bufs {
		at = at[copy(b, at):]
	}
	return nil
}

// writeDirect writes the buffers in order, through a buffer of its own where theirs do not fit. Parts of sectors are refused: the
// engine writes none.
func (d *File) writeDirect(bufs [][]byte, off int64) error {
	if !d.whole(bufs, off) {
		n := Length(bufs)
		if off%int64(d.sector) != 0 || n%d.sector != 0 {
			return fmt.Errorf("%s: %d bytes at %d are not whole sectors of %d", d.identity, n, off, d.sector)
		}
		own := alignedBuffer(n)
		defer giveAligned(own)
		at := own
		for _, b := range bufs {
			at = at[copy(at, b):]
		}
		bufs = [][]byte{own}
	}
	err := vectored(d.raw, bufs, off, deviceWritev)
	if err != nil {
		return d.deviceProblem(err, true)
	}
	return nil
}

// kept keeps buffers of up to 1 MiB whose address is a multiple of the largest sector.
var kept = sync.Pool{New: func() any { b := align(make([]byte, keptSize+mostSector), keptSize); return &b }}

const keptSize = 1 << 20

func align(b []byte, n int) []byte {
	skip := -uintptr(unsafe.Pointer(&b[0])) % mostSector
	return b[skip : int(skip)+n]
}

func alignedBuffer(n int) []byte {
	if n > keptSize {
		return align(make([]byte, n+mostSector), n)
	}
	return (*kept.Get().(*[]byte))[:n]
}

func giveAligned(b []byte) {
	if b = b[:cap(b)]; cap(b) >= keptSize && cap(b) < keptSize+mostSector {
		b = b[:keptSize]
		kept.Put(&b)
	}
}

// How long an error of a device is held back until it is known whether the device is going. A disk that is pulled under load
// often gives errors of single places before the kernel says that it went.
const (
	fateWait  = 1500 * time.Millisecond
	fateLook  = 20 * time.Millisecond
	fateAgain = time.Minute // reads are held back once in this time: a disk with bad places is not slowed further
)

// deviceProblem tells a device that is gone from one that has a bad place. In the moments after it was pulled the kernel
// gives several errors, "no space" and short reads among them; what it says of the device itself decides, now or shortly. A
// device has no file system that could be full.
func (d *File) deviceProblem(err error, write bool) error {
	err = unwrapPath(err)
	if refusedByFence(err) {
		if tell := d.overtaken.Load(); tell != nil {
			(*tell)() // before the disk counts as lost
		}
		return fmt.Errorf("%s: %w: another host has reserved it", d.identity.Path, ErrGone)
	}
	gone := errors.Is(err, syscall.ENODEV) || errors.Is(err, syscall.ENXIO) || errors.Is(err, os.ErrClosed)
	if gone || d.going(write) {
		return fmt.Errorf("%s: %w (%w)", d.identity.Path, ErrGone, err)
	}
	return fmt.Errorf("%s: %w", d.identity.Path, err)
}

// going waits until it is known whether the device is about to go.
func (d *File) going(write bool) bool {
	began := time.Now()
	if !write {
		last := time.Unix(0, d.doubted.Load())
		switch since := began.Sub(last); {
		case since > fateAgain:
			d.doubted.Store(began.UnixNano())
		case since > fateWait:
			return present(d.f, d.raw) != nil
		default:
			began = last
		}
	}
	for time.Since(began) < fateWait {
		if present(d.f, d.raw) != nil {
			return true
		}
		time.Sleep(fateLook)
	}
	return present(d.f, d.raw) != nil
}
