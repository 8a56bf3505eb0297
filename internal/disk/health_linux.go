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

// Health asks a disk how it is, by the pass-through commands of the kernel; for a partition, the disk that it is on. Files, and
// disks behind controllers that do not pass commands on, have nothing to say, which is an error.
// They are asked once a minute at most, since some disks pause their work to answer.
func (f *File) Health() (r health.Readings, err error) {
	f.told.Lock()
	defer f.told.Unlock()
	if time.Since(f.told.at) < healthEvery {
		return f.told.readings, f.told.err
	}
	defer func() { f.told.at, f.told.readings, f.told.err = time.Now(), r, err }()
	gone := f.raw.Control(func(fd uintptr) {
		whole, release, e := wholeOf(fd)
		if err = e; err == nil {
			r, err = healthOf(whole)
			release()
		}
	})
	if gone != nil {
		return r, os.ErrClosed
	}
	return r, err
}

// ErrAsleep is returned instead of the health of a disk that would have to wake up to tell.
var ErrAsleep = errors.New("the disk sleeps")

// folder is where the system keeps what it knows of an open device.
func folder(fd uintptr) (string, error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(fd), &st); err != nil {
		return "", err
	}
	if st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return "", errors.New("not a device")
	}
	return filepath.EvalSymlinks(fmt.Sprintf("/sys/dev/block/%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev)))
}

// wholeOf is a descriptor of the disk that a partition is on, to be released; of anything else the one given.
func wholeOf(fd uintptr) (whole uintptr, release func(), err error) {
	at, err := folder(fd)
	if err != nil {
		return 0, nil, err
	}
	if _, err := os.Stat(filepath.Join(at, "partition")); err != nil {
		return fd, func() {}, nil
	}
	d, err := os.OpenFile(nodeOf(filepath.Base(filepath.Dir(at))), os.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return 0, nil, err
	}
	return d.Fd(), func() { _ = d.Close() }, nil
}

// Asleep says whether the disk has to wake up before it can do anything. Asking does not wake it.
func (f *File) Asleep() (yes bool) {
	if !f.device {
		return false
	}
	_ = f.raw.Control(func(fd uintptr) {
		if at, err := folder(fd); err == nil {
			yes = asleep(fd, at)
		}
	})
	return yes
}

// Standby puts a whole disk to sleep: by ATA's command for that, or by SCSI's. A partition is left alone, since the disk has others.
func (f *File) Standby() (err error) {
	if !f.device {
		return errors.ErrUnsupported
	}
	gone := f.raw.Control(func(fd uintptr) {
		var at string
		if at, err = folder(fd); err != nil {
			return
		}
		switch _, part := os.Stat(filepath.Join(at, "partition")); {
		case part == nil:
			err = fmt.Errorf("it is a partition, and the disk has others: %w", errors.ErrUnsupported)
		case !strings.HasPrefix(filepath.Base(at), "sd"):
			err = fmt.Errorf("nothing turns in it: %w", errors.ErrUnsupported)
		default:
			err = standby(fd)
		}
	})
	if gone != nil {
		return os.ErrClosed
	}
	return err
}

func standby(fd uintptr) error {
	// ATA: STANDBY IMMEDIATE by ATA PASS-THROUGH (16), no data (SAT-3, 12.2.2).
	if sense, ok := sgCommand(fd, []byte{0: 0x85, 1: 3 << 1, 2: 0x20, 14: 0xe0, 15: 0}); ok && len(sense) >= 22 && sense[0] == 0x72 && sense[8] == 9 && sense[21]&1 == 0 {
		return nil
	}
	// SCSI: START STOP UNIT, power condition STANDBY, from which the disk comes back by itself (SBC-3, 5.25). One that is stopped does not.
	return sgNone(fd, []byte{0: 0x1b, 4: 3 << 4, 5: 0})
}

func asleep(fd uintptr, at string) bool {
	if _, err := os.Stat(filepath.Join(at, "partition")); err == nil {
		at = filepath.Dir(at)
	}
	// What the kernel itself put to sleep it would wake for any command.
	if state, err := os.ReadFile(filepath.Join(at, "device/power/runtime_status")); err == nil && strings.TrimSpace(string(state)) == "suspended" {
		return true
	}
	if !strings.HasPrefix(filepath.Base(at), "sd") {
		return false
	}
	// ATA: CHECK POWER MODE by ATA PASS-THROUGH (16), which returns its count register in the sense data (SAT-3, 12.2.2.6).
	if sense, ok := sgCommand(fd, []byte{0: 0x85, 1: 3 << 1, 2: 0x20, 14: 0xe5, 15: 0}); ok && len(sense) >= 22 && sense[0] == 0x72 && sense[8] == 9 {
		return sense[13] == 0x00 // standby; 0x80 is idle, 0xff active
	}
	// SCSI: REQUEST SENSE tells of standby by "low power condition on" (SPC-4, 5.12).
	data := make([]byte, 252)
	if err := sgRead(fd, data, []byte{0: 0x03, 4: 252, 5: 0}); err == nil && data[0]&0x7f == 0x70 {
		return data[12] == 0x5e && data[13] != 0x41 // 0x41 and others: idle conditions, from which it answers at once
	}
	return false
}

// sgCommand sends a command without data, and returns its sense data.
func sgCommand(fd uintptr, command []byte) (sense []byte, ok bool) {
	sense = make([]byte, 32)
	h := sgHeader{id: 'S', direction: -1, commandLen: uint8(len(command)), senseMost: uint8(len(sense)), command: &command[0], sense: &sense[0], timeout: healthWait}
	if err := ioctl(fd, sgIO, unsafe.Pointer(&h)); err != nil || h.host != 0 {
		return nil, false
	}
	return sense[:h.senseLen], true
}

// sgNone sends a command without data, and fails when the disk did not do it.
func sgNone(fd uintptr, command []byte) error {
	sense := make([]byte, 32)
	h := sgHeader{id: 'S', direction: -1, commandLen: uint8(len(command)), senseMost: uint8(len(sense)), command: &command[0], sense: &sense[0], timeout: healthWait}
	if err := ioctl(fd, sgIO, unsafe.Pointer(&h)); err != nil {
		return err
	}
	if h.status != 0 || h.host != 0 {
		return fmt.Errorf("the disk did not take the command: status %#x, host %#x: %w", h.status, h.host, errors.ErrUnsupported)
	}
	return nil
}

// sgRead sends a command that returns data.
func sgRead(fd uintptr, data, command []byte) error {
	sense := make([]byte, 32)
	h := sgHeader{id: 'S', direction: sgFromDevice, commandLen: uint8(len(command)), senseMost: uint8(len(sense)), dataLen: uint32(len(data)),
		data: &data[0], command: &command[0], sense: &sense[0], timeout: healthWait}
	if err := ioctl(fd, sgIO, unsafe.Pointer(&h)); err != nil {
		return err
	}
	if h.status != 0 || h.host != 0 {
		return fmt.Errorf("the disk did not take the command: status %#x, host %#x", h.status, h.host)
	}
	return nil
}

func healthOf(fd uintptr) (health.Readings, error) {
	device, err := folder(fd)
	if err != nil {
		return health.Readings{}, err
	}
	if asleep(fd, device) {
		return health.Readings{}, ErrAsleep
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
		return scsiHealth(fd)
	}
	r, err := health.FromATA(page)
	if err == nil && ataRead(fd, page, [16]byte{0: 0x85, 1: 4 << 1, 2: 0x0e, 6: 1, 14: 0xec}) == nil {
		r.LinkFromATA(page)
	}
	return r, err
}

// scsiHealth asks a SCSI disk for the log pages that it has: LOG SENSE (10), SPC-4, section 6.8.
func scsiHealth(fd uintptr) (health.Readings, error) {
	pages := map[byte][]byte{}
	ask := func(page byte) []byte {
		data := make([]byte, 1024)
		if sgRead(fd, data, []byte{0: 0x4d, 2: 0x40 | page, 7: byte(len(data) >> 8), 8: byte(len(data) & 0xff), 9: 0}) != nil {
			return nil
		}
		return data
	}
	supported := ask(0)
	if supported == nil || supported[0]&0x3f != 0 {
		return health.Readings{}, errors.New("it keeps no log pages")
	}
	for _, page := range supported[4:min(len(supported), 4+int(supported[2])<<8+int(supported[3]))] {
		if health.SCSIPage(page) {
			if data := ask(page); data != nil {
				pages[page] = data
			}
		}
	}
	return health.FromSCSI(pages)
}

func ataRead(fd uintptr, page []byte, command [16]byte) error {
	clear(page)
	return sgRead(fd, page, command[:])
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
