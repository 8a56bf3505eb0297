// Package fence reads and writes what persistent reservations are made of: the keys by which a disk that several hosts are attached to knows them, and the
// data of the commands. Sources: SPC-4, sections 5.13, 6.15 and 6.16; NVM Express 2.0 base specification, sections 7.2 to 7.5.
package fence

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
)

// ours marks the keys of owners of arrays: its place in the upper two bytes, the fencing token in the others.
const ours = 0x4e49 << 48

// MaxToken is the highest token that a key has room for.
const MaxToken = 1<<48 - 1

// Key is the key of the owner with a token; it is never 0.
func Key(token uint64) uint64 { return ours | token&MaxToken }

// Token is the token in a key; not ok: it is another system's.
func Token(key uint64) (token uint64, ok bool) { return key & MaxToken, key&^MaxToken == ours }

// Held is what a disk says of its registrations.
type Held struct {
	Keys      []uint64 // that are registered, one for each path
	Holder    uint64   // that has reserved it; 0: none
	WriteOnly bool     // the reservation refuses writes of those that are not registered, and nothing else
}

// Only says whether one key is the only one registered, and has the reservation.
func (h Held) Only(key uint64) bool {
	return h.WriteOnly && h.Holder == key && !slices.ContainsFunc(h.Keys, func(k uint64) bool { return k != key })
}

// Others are the keys besides one, each once.
func (h Held) Others(key uint64) (out []uint64) {
	for _, k := range h.Keys {
		if k != key && !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

var (
	// ErrOvertaken is wrapped when a later owner has registered.
	ErrOvertaken = errors.New("a later owner has reserved it")
	// ErrForeign is wrapped when another system has.
	ErrForeign = errors.New("another system has reserved it")
	// ErrFormat is wrapped when what a disk says makes no sense.
	ErrFormat = errors.New("what it says of its reservation makes no sense")
)

// Allows says whether the owner with a token may take the disk.
func (h Held) Allows(token uint64) error {
	for _, k := range append(slices.Clone(h.Keys), h.Holder) {
		switch t, mine := Token(k); {
		case k == 0:
		case !mine:
			return fmt.Errorf("%w, with key %#x", ErrForeign, k)
		case t > token:
			return fmt.Errorf("%w, with token %d", ErrOvertaken, t)
		}
	}
	if h.Holder != 0 && !h.WriteOnly {
		return fmt.Errorf("%w, in a way that this program does not use", ErrForeign)
	}
	return nil
}

// SCSI's type of a reservation that refuses writes of those that are not registered, and NVMe's.
const (
	scsiType = 5
	nvmeType = 3
)

// FromSCSI reads the answers to READ KEYS and READ RESERVATION.
func FromSCSI(keys, reservation []byte) (h Held, err error) {
	n, err := length(keys)
	if err != nil || n%8 != 0 {
		return h, ErrFormat
	}
	for at := 8; at < 8+n; at += 8 {
		h.Keys = append(h.Keys, binary.BigEndian.Uint64(keys[at:]))
	}
	if n, err = length(reservation); err != nil || n != 0 && n < 16 {
		return h, ErrFormat
	}
	if n != 0 {
		h.Holder, h.WriteOnly = binary.BigEndian.Uint64(reservation[8:]), reservation[21] == scsiType
	}
	return h, nil
}

// length is how much follows the first 8 bytes of an answer.
func length(data []byte) (int, error) {
	if len(data) < 8 {
		return 0, ErrFormat
	}
	n := binary.BigEndian.Uint32(data[4:])
	if int64(n) > int64(len(data)-8) {
		return 0, ErrFormat
	}
	return int(n), nil
}

// Action is what PERSISTENT RESERVE OUT is to do, its service action.
type Action byte

// The actions, with SCSI's numbers.
const (
	Reserve         Action = 1
	Preempt         Action = 4 // remove another key; what its owner has under way goes on
	PreemptAndAbort Action = 5
	Register        Action = 6 // and ignore what key is there
)

// SCSI is the command for an action of the owner of one key about another, with its parameters. What is registered stays when the disk loses its power, if
// persist is set, which not all disks can do.
func SCSI(do Action, key, other uint64, persist bool) (command, data []byte) {
	command, data = make([]byte, 10), make([]byte, 24)
	command[0], command[1], command[2], command[8] = 0x5f, byte(do), scsiType, byte(len(data))
	if do == Register {
		key, other = 0, key
	}
	binary.BigEndian.PutUint64(data, key)
	binary.BigEndian.PutUint64(data[8:], other)
	if persist && do == Register {
		data[20] = 1
	}
	return command, data
}

// SCSIRead is the command that asks for the keys, or for the reservation, with room for an answer.
func SCSIRead(reservation bool, room int) []byte {
	command := make([]byte, 10)
	command[0], command[7], command[8] = 0x5e, byte(room>>8), byte(room)
	if reservation {
		command[1] = 1
	}
	return command
}

// FromNVMe reads the answer to Reservation Report with extended entries.
func FromNVMe(data []byte) (h Held, err error) {
	const head, entry = 64, 64
	if len(data) < head {
		return h, ErrFormat
	}
	kind, n := data[4], int(binary.LittleEndian.Uint16(data[5:]))
	if n > (len(data)-head)/entry {
		return h, ErrFormat
	}
	h.WriteOnly = kind == nvmeType
	for i := range n {
		e := data[head+i*entry:]
		key := binary.LittleEndian.Uint64(e[8:])
		if h.Keys = append(h.Keys, key); e[2]&1 != 0 {
			h.Holder = key
		}
	}
	return h, nil
}

// NVMe is the command for an action: its opcode, its dword 10, and its data.
func NVMe(do Action, key, other uint64, persist bool) (opcode uint8, dword uint32, data []byte) {
	data = make([]byte, 16)
	switch do {
	case Register:
		opcode, dword = 0x0d, 2|1<<3 // replace what is there, whatever it is
		if key == 0 {
			dword = 1 | 1<<3 // unregister
		}
		if persist {
			dword |= 3 << 30
		}
		binary.LittleEndian.PutUint64(data[8:], key)
		return opcode, dword, data
	case Preempt:
		dword = 1
	case PreemptAndAbort:
		dword = 2
	}
	binary.LittleEndian.PutUint64(data, key)
	binary.LittleEndian.PutUint64(data[8:], other)
	return 0x11, dword | nvmeType<<8, data
}

// NVMeReport is the opcode that asks for a report, and its dwords 10 and 11, with room for an answer.
func NVMeReport(room int) (opcode uint8, dword10, dword11 uint32) { return 0x0e, uint32(room/4 - 1), 1 }
