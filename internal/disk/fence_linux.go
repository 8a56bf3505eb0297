package disk

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"nidalo/core/fence"
)

// Disks that several hosts are attached to. The host that owns an array registers a key with each of its disks, which has its fencing token in it, reserves the
// disk for those who are registered, has the keys of all earlier owners removed, and waits until their commands are done or aborted, before it reads anything.
// From that moment the disk itself refuses what an earlier owner writes, however late. A host that comes too late finds a higher token, or loses its key to the
// later one: both before it may write. Reads are not refused; what an earlier owner answers ends with its lease.

// ErrNoFence is wrapped when a disk has no persistent reservations.
var ErrNoFence = errors.New("it has no persistent reservations")

// reservations are those of one path to a disk.
type reservations interface {
	held() (fence.Held, error)
	do(action fence.Action, key, other uint64) error
	// remove takes another owner's key away. What that owner has under way ends with it, or at settle.
	remove(key, other uint64) error
	// settle returns when nothing is under way that came before.
	settle() error
}

// errConflict: somebody else was faster.
var errConflict = errors.New("the disk refuses, because of a reservation")

// Fence has a disk take writes from the owner with a token only: a whole disk, by all paths that there are to it here. again: it did so for this token
// before. The error wraps ErrNoFence, fence.ErrOvertaken or fence.ErrForeign.
func Fence(path string, token uint64, again bool) error {
	return onPaths(path, func(paths []reservations) error {
		key := fence.Key(token)
		for range 4 {
			ok, err := take(paths, key, token, again)
			if ok || err != nil && !errors.Is(err, errConflict) {
				return err
			}
		}
		return fmt.Errorf("%w: others go on registering", fence.ErrOvertaken)
	})
}

// take goes through the steps once, and says whether the key is the only one by then. A host that was stopped between two steps may have left a disk that knows no
// other key, and still works for the owner of one. So what is under way is ended each time, unless this process went through all the steps before.
func take(paths []reservations, key, token uint64, again bool) (ok bool, err error) {
	first := paths[0]
	h, err := first.held()
	if err != nil {
		return false, err
	}
	if err := h.Allows(token); err != nil {
		return false, err
	}
	settled := again && h.Only(key)
	for _, p := range paths {
		if err := p.do(fence.Register, key, 0); err != nil {
			return false, err
		}
	}
	switch h, err = first.held(); {
	case err != nil:
		return false, err
	case h.Allows(token) != nil:
		for _, p := range paths {
			_ = p.do(fence.Register, 0, 0)
		}
		return false, h.Allows(token)
	case h.Holder == 0:
		err = first.do(fence.Reserve, key, 0)
	case h.Holder != key:
		err = first.remove(key, h.Holder)
	}
	for _, other := range h.Others(key) {
		if err == nil && other != h.Holder {
			err = first.remove(key, other)
		}
	}
	if err == nil && !settled {
		err = first.settle()
	}
	if err != nil {
		return false, err
	}
	h, err = first.held()
	return err == nil && h.Only(key), err
}

// Unfence gives a disk free, if the owner with a token has it.
func Unfence(path string, token uint64) error {
	return onPaths(path, func(paths []reservations) error {
		h, err := paths[0].held()
		if err != nil || !h.Only(fence.Key(token)) {
			return err
		}
		for _, p := range paths {
			err = errors.Join(err, p.do(fence.Register, 0, 0))
		}
		return err
	})
}

// FencedBy is who has a disk.
func FencedBy(path string) (h fence.Held, err error) {
	err = onPaths(path, func(paths []reservations) (err error) {
		h, err = paths[0].held()
		return err
	})
	return h, err
}

// onPaths does something with all paths of this host to a whole disk.
func onPaths(path string, f func([]reservations) error) error {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	names := pathsOf(filepath.Base(real))
	var all []reservations
	for _, name := range names {
		d, err := os.OpenFile(nodeOf(name), os.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
		if err != nil {
			return fmt.Errorf("%s: %w", nodeOf(name), unwrapPath(err))
		}
		defer func() { _ = d.Close() }()
		switch {
		case strings.HasPrefix(name, "nvme"):
			all = append(all, nvmePath{d.Fd()})
		case strings.HasPrefix(name, "sd"):
			all = append(all, scsiPath{fd: d.Fd(), resets: attribute(name, "device/vendor") == neverAborts})
		}
	}
	if len(all) == 0 {
		return fmt.Errorf("%s: %w", path, ErrNoFence)
	}
	if err := f(all); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// attribute is what the kernel says of a block device under a name; empty: nothing.
func attribute(device, name string) string {
	raw, _ := os.ReadFile(filepath.Join("/sys/block", device, name))
	return strings.TrimSpace(string(raw))
}

// pathsOf are the devices of this host that are the same whole disk as one, which may be a device that the system made of several paths. None when that is a
// partition, which cannot be fenced by itself.
func pathsOf(name string) (out []string) {
	if strings.HasPrefix(attribute(name, "dm/uuid"), "mpath-") {
		below, _ := os.ReadDir(filepath.Join("/sys/block", name, "slaves"))
		for _, e := range below {
			out = append(out, e.Name())
		}
		return out
	}
	wwid := func(name string) string { return cmp.Or(attribute(name, "device/wwid"), attribute(name, "wwid")) }
	if _, err := os.Stat(filepath.Join("/sys/block", name)); err != nil {
		return nil
	}
	out, mine := []string{name}, wwid(name)
	entries, _ := os.ReadDir("/sys/block")
	for _, e := range entries {
		if mine != "" && e.Name() != name && wwid(e.Name()) == mine {
			out = append(out, e.Name())
		}
	}
	return out
}

// fenceRoom is how much of an answer is read, bytes: more registrations than any array has hosts.
const fenceRoom = 4096

// fenceWait is how long a command may take, ms: what others have under way is aborted first.
const fenceWait = 60_000

// neverAborts is the vendor of the targets of Linux: there a PREEMPT AND ABORT never ends when the other host had anything under way (6.1 and 6.12). They end
// everything in a reset of the unit, which keeps reservations.
const neverAborts = "LIO-ORG"

type scsiPath struct {
	fd     uintptr
	resets bool // what is under way is ended by a reset of the unit, not together with a key
}

func (p scsiPath) held() (fence.Held, error) {
	keys, reservation := make([]byte, fenceRoom), make([]byte, 256)
	if err := p.send(fence.SCSIRead(false, len(keys)), keys, sgFromDevice); err != nil {
		return fence.Held{}, err
	}
	if err := p.send(fence.SCSIRead(true, len(reservation)), reservation, sgFromDevice); err != nil {
		return fence.Held{}, err
	}
	return fence.FromSCSI(keys, reservation)
}

func (p scsiPath) do(action fence.Action, key, other uint64) error {
	command, data := fence.SCSI(action, key, other, true)
	err := p.send(command, data, sgToDevice)
	if action == fence.Register && err != nil && !errors.Is(err, errConflict) { // it cannot keep them without power
		command, data = fence.SCSI(action, key, other, false)
		err = p.send(command, data, sgToDevice)
	}
	return err
}

func (p scsiPath) remove(key, other uint64) error {
	if p.resets {
		return p.do(fence.Preempt, key, other)
	}
	return p.do(fence.PreemptAndAbort, key, other)
}

func (p scsiPath) settle() error {
	if !p.resets {
		return nil
	}
	what := int32(sgResetUnit)
	if err := ioctl(p.fd, sgReset, unsafe.Pointer(&what)); err != nil {
		return fmt.Errorf("what other hosts have under way on it cannot be ended: %w", err)
	}
	return nil
}

// send sends a command. What happened to a path since the last one is told once, instead of an answer.
func (p scsiPath) send(command, data []byte, direction int32) error {
	for try := 0; ; try++ {
		sense := make([]byte, 32)
		h := sgHeader{id: 'S', direction: direction, commandLen: uint8(len(command)), senseMost: uint8(len(sense)), dataLen: uint32(len(data)),
			data: &data[0], command: &command[0], sense: &sense[0], timeout: fenceWait}
		err := ioctl(p.fd, sgIO, unsafe.Pointer(&h))
		switch {
		case err != nil:
			return fmt.Errorf("%w (%w)", ErrNoFence, err)
		case h.status == sgConflict:
			return errConflict
		case h.status == 0 && h.host == 0:
			return nil
		}
		switch key := senseKey(sense[:min(int(h.senseLen), len(sense))]); {
		case key == sgAttention && try < 5:
		case key == sgIllegal:
			return ErrNoFence
		default:
			return fmt.Errorf("the disk did not take the command: status %#x, host %#x, sense key %#x", h.status, h.host, key)
		}
	}
}

// senseKey is the kind of an error in sense data of either format; 0: there is none.
func senseKey(sense []byte) byte {
	switch {
	case len(sense) < 3:
	case sense[0]&0x7f == 0x70 || sense[0]&0x7f == 0x71:
		return sense[2] & 0xf
	case sense[0]&0x7f == 0x72 || sense[0]&0x7f == 0x73:
		return sense[1] & 0xf
	}
	return 0
}

const (
	sgConflict  = 0x18       // RESERVATION CONFLICT
	sgIllegal   = 5          // ILLEGAL REQUEST
	sgAttention = 6          // UNIT ATTENTION
	sgReset     = 0x2284     // SG_SCSI_RESET
	sgResetUnit = 0x101      // SG_SCSI_RESET_DEVICE, and nothing more than that
	nvmeIO      = 0xc0484e43 // NVME_IOCTL_IO_CMD
	nvmeID      = 0x4e40     // NVME_IOCTL_ID
	nvmeRefused = 0x83       // Reservation Conflict
	nvmeUnknown = 0x01       // Invalid Command Opcode
)

type nvmePath struct{ fd uintptr }

func (p nvmePath) held() (fence.Held, error) {
	data := make([]byte, fenceRoom)
	op, ten, eleven := fence.NVMeReport(len(data))
	if err := p.send(op, data, ten, eleven); err != nil {
		return fence.Held{}, err
	}
	return fence.FromNVMe(data)
}

func (p nvmePath) do(action fence.Action, key, other uint64) error {
	op, ten, data := fence.NVMe(action, key, other, true)
	err := p.send(op, data, ten, 0)
	if action == fence.Register && err != nil && !errors.Is(err, errConflict) {
		op, ten, data = fence.NVMe(action, key, other, false)
		err = p.send(op, data, ten, 0)
	}
	return err
}

func (p nvmePath) remove(key, other uint64) error { return p.do(fence.PreemptAndAbort, key, other) }

func (p nvmePath) settle() error { return nil }

func (p nvmePath) send(op uint8, data []byte, ten, eleven uint32) error {
	id, err := unix.IoctlRetInt(int(p.fd), nvmeID)
	if err != nil {
		return fmt.Errorf("%w (%w)", ErrNoFence, err)
	}
	c := nvmeCommand{opcode: op, namespace: uint32(id), data: &data[0], dataLen: uint32(len(data)), timeout: fenceWait}
	c.cdw[0], c.cdw[1] = ten, eleven
	status, _, errno := unix.Syscall(unix.SYS_IOCTL, p.fd, nvmeIO, uintptr(unsafe.Pointer(&c)))
	switch {
	case errno != 0:
		return fmt.Errorf("%w (%w)", ErrNoFence, errno)
	case status&0x7ff == nvmeRefused:
		return errConflict
	case status&0x7ff == nvmeUnknown:
		return ErrNoFence
	case status != 0:
		return fmt.Errorf("the disk did not take the command: status %#x", status)
	}
	return nil
}

// refusedByFence says whether a write was refused because another host has reserved the disk.
func refusedByFence(err error) bool { return errors.Is(err, unix.EBADE) }
