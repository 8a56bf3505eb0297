package disk

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"nidalo/core/health"
)

// nvmeCommand is struct nvme_passthru_cmd of the kernel's linux/nvme_ioctl.h.
type nvmeCommand struct {
	opcode, flags        uint8
	_                    uint16
	namespace            uint32
	_, _                 uint32
	metadata             uint64
	data                 *byte
	metadataLen, dataLen uint32
	cdw                  [6]uint32 // 10 to 15
	timeout, result      uint32    // ms
}

// sgHeader is struct sg_io_hdr of the kernel's scsi/sg.h.
type sgHeader struct {
	id, direction           int32
	commandLen, senseMost   uint8
	_                       uint16
	dataLen                 uint32
	data, command, sense    *byte
	timeout, flags          uint32 // ms
	_                       int32
	_                       *byte
	status, masked, message uint8
	senseLen                uint8
	host, driver            uint16
	residual                int32
	_, _                    uint32
}

const (
	nvmeAdmin    = 0xc0484e41 // NVME_IOCTL_ADMIN_CMD
	nvmeLog      = 0x02       // Get Log Page
	sgIO         = 0x2285     // SG_IO
	sgFromDevice = -3         // SG_DXFER_FROM_DEV
	healthWait   = 5000       // ms
	healthEvery  = time.Minute
)

// Health asks a whole disk how it is, by the pass-through commands of the kernel. Partitions, files and disks behind
// controllers that do not pass commands on have nothing to say, which is an error.
// They are asked once a minute at most, since some disks pause their work to answer.
func (f *File) Health() (r health.Readings, err error) {
	f.told.Lock()
	defer f.told.Unlock()
	if time.Since(f.told.at) < healthEvery {
		return f.told.readings, f.told.err
	}
	defer func() { f.told.at, f.told.readings, f.told.err = time.Now(), r, err }()
	gone := f.raw.Control(func(fd uintptr) { r, err = healthOf(fd) })
	if gone != nil {
		return r, os.ErrClosed
	}
	return r, err
}

func healthOf(fd uintptr) (health.Readings, error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(fd), &st); err != nil {
		return health.Readings{}, err
	}
	if st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return health.Readings{}, errors.New("not a device")
	}
	device, err := filepath.EvalSymlinks(fmt.Sprintf("/sys/dev/block/%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev)))
	if err != nil {
		return health.Readings{}, err
	}
	page := make([]byte, health.PageSize)
	if strings.HasPrefix(filepath.Base(device), "nvme") {
		c := nvmeCommand{opcode: nvmeLog, namespace: 0xffffffff, data: &page[0], dataLen: health.PageSize, timeout: healthWait}
		c.cdw[0] = (health.PageSize/4-1)<<16 | 0x02
		if err := ioctl(fd, nvmeAdmin, unsafe.Pointer(&c)); err != nil {
			return health.Readings{}, err
		}
		return health.FromNVMe(page)
	}
	// ATA PASS-THROUGH (16), a read of one sector by PIO: SAT-3, section 12.2.2.3.
	if err := ataRead(fd, page, [16]byte{0: 0x85, 1: 4 << 1, 2: 0x0e, 4: 0xd0, 6: 1, 10: 0x4f, 12: 0xc2, 14: 0xb0}); err != nil {
		return health.Readings{}, err
	}
	r, err := health.FromATA(page)
	if err == nil && ataRead(fd, page, [16]byte{0: 0x85, 1: 4 << 1, 2: 0x0e, 6: 1, 14: 0xec}) == nil {
		r.LinkFromATA(page)
	}
	return r, err
}

func ataRead(fd uintptr, page []byte, command [16]byte) error {
	sense := make([]byte, 32)
	clear(page)
	h := sgHeader{id: 'S', direction: sgFromDevice, commandLen: 16, senseMost: uint8(len(sense)), dataLen: uint32(len(page)),
		data: &page[0], command: &command[0], sense: &sense[0], timeout: healthWait}
	if err := ioctl(fd, sgIO, unsafe.Pointer(&h)); err != nil {
		return err
	}
	if h.status != 0 || h.host != 0 {
		return fmt.Errorf("the disk did not take the command: status %#x, host %#x", h.status, h.host)
	}
	return nil
}

func ioctl(fd, request uintptr, p unsafe.Pointer) error {
	result, _, code := syscall.Syscall(syscall.SYS_IOCTL, fd, request, uintptr(p))
	runtime.KeepAlive(p)
	switch {
	case code != 0:
		return code
	case result != 0: // of NVMe: what the controller said
		return fmt.Errorf("the disk did not take the command: status %#x", result)
	}
	return nil
}
