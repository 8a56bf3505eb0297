package disk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

const sgToDevice = -2 // SG_DXFER_TO_DEV

// ErrNotSaid is returned by Recovery when a disk does not tell.
var ErrNotSaid = errors.New("the disk does not say")

// Recovery asks a disk how long it tries to read or write a bad place before it gives up: 0 means without a limit of its own. A disk
// that sleeps is not asked.
func Recovery(path string) (most time.Duration, err error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	at, err := folder(f.Fd())
	if err != nil {
		return 0, err
	}
	if !strings.HasPrefix(filepath.Base(at), "sd") {
		return 0, ErrNotSaid
	}
	if asleep(f.Fd(), at) {
		return 0, ErrAsleep
	}
	if reading, ok := ataRecovery(f.Fd(), 1); ok {
		writing, _ := ataRecovery(f.Fd(), 2)
		return max(reading, writing), nil
	}
	// SCSI: the read-write error recovery mode page, whose bytes 10 and 11 are the limit in ms; 0 leaves it to the disk (SBC-3, 6.5.8).
	data := make([]byte, 64)
	if err := sgRead(f.Fd(), data, []byte{0: 0x1a, 1: 0x08, 2: 0x01, 4: 64, 5: 0}); err != nil {
		return 0, ErrNotSaid
	}
	page := data[4+int(data[3]):]
	if len(page) < 12 || page[0]&0x3f != 1 || page[1] < 10 {
		return 0, ErrNotSaid
	}
	return time.Duration(binary.BigEndian.Uint16(page[10:])) * time.Millisecond, nil
}

// ataRecovery asks by SCT Error Recovery Control: SMART WRITE LOG to log E0h with action 3, function 2, for reads (1) or writes (2); the
// answer, in tenths of a second, comes in the count and the low byte of the LBA (ACS-3, 8.3.4; SAT-3, 12.2.2.6).
func ataRecovery(fd uintptr, which byte) (time.Duration, bool) {
	data := make([]byte, 512)
	data[0], data[2], data[4] = 3, 2, which
	command := []byte{0: 0x85, 1: 5 << 1, 2: 0x26, 4: 0xd6, 6: 1, 8: 0xe0, 10: 0x4f, 12: 0xc2, 14: 0xb0, 15: 0}
	sense := make([]byte, 32)
	h := sgHeader{id: 'S', direction: sgToDevice, commandLen: uint8(len(command)), senseMost: uint8(len(sense)), dataLen: 512,
		data: &data[0], command: &command[0], sense: &sense[0], timeout: healthWait}
	if err := ioctl(fd, sgIO, unsafe.Pointer(&h)); err != nil || h.host != 0 || h.senseLen < 22 || sense[0] != 0x72 || sense[8] != 9 || sense[21]&1 != 0 {
		return 0, false
	}
	return time.Duration(int(sense[13])|int(sense[15])<<8) * 100 * time.Millisecond, true
}

// KernelTimeout is how long the kernel waits for a command of a SCSI or SATA disk, by its name, before it resets it; 0 where it has no such
// time.
func KernelTimeout(name string) time.Duration {
	raw, err := os.ReadFile(filepath.Join("/sys/block", name, "device/timeout"))
	if err != nil {
		return 0
	}
	n, _ := strconv.Atoi(strings.TrimSpace(string(raw)))
	return time.Duration(n) * time.Second
}

// Cache says what the system makes of a disk's write cache, by its name: whether it flushes it, and, where the disk itself says so,
// whether there is one. The two differ where the system was told not to flush.
func Cache(name string) (flushed bool, own string) {
	raw, _ := os.ReadFile(filepath.Join("/sys/block", name, "queue/write_cache"))
	types, _ := filepath.Glob(filepath.Join("/sys/block", name, "device/scsi_disk/*/cache_type"))
	for _, path := range types {
		if kind, err := os.ReadFile(path); err == nil {
			own = strings.TrimSpace(string(kind))
		}
	}
	return strings.TrimSpace(string(raw)) == "write back", own
}

// FlushTime writes a block near the end of a disk and flushes it, some times over, and returns the middle of the times. What stands there
// is written again as it was.
func FlushTime(path string, times int) (time.Duration, error) {
	d, err := Open(path)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	buf, at := make([]byte, 4096), (d.Size()-1<<20)&^4095
	if err := d.ReadAt(buf, at); err != nil {
		return 0, err
	}
	var took []time.Duration
	for range times {
		began := time.Now()
		if err := errors.Join(d.WriteAt(buf, at), d.Sync()); err != nil {
			return 0, fmt.Errorf("%s: %w", path, err)
		}
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	return took[len(took)/2], nil
}
