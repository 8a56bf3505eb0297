package record

import (
	"encoding/binary"
	"time"

	"github.com/google/uuid"
)

// field is one thing that stands in a record: where, how many bytes, and what it means. Encode and Decode go by the tables of fields, and
// a test holds docs/format.md against them.
type field[T any] struct {
	at, size int
	what     string
	put      func(x *T, b []byte)
	get      func(x *T, b []byte)
}

// number is a number of 1, 4 or 8 bytes.
func number[T any, N ~int | ~int64 | ~uint8 | ~uint64](at, size int, what string, of func(*T) *N) field[T] {
	return field[T]{at, size, what,
		func(x *T, b []byte) {
			var raw [8]byte
			binary.LittleEndian.PutUint64(raw[:], uint64(*of(x)))
			copy(b, raw[:size])
		},
		func(x *T, b []byte) {
			var raw [8]byte
			copy(raw[:], b)
			*of(x) = N(binary.LittleEndian.Uint64(raw[:]))
		}}
}

// slot is the number of a slot in one byte, 255 for none.
func slot[T any](at int, what string, of func(*T) *int) field[T] {
	return field[T]{at, 1, what,
		func(x *T, b []byte) { b[0] = uint8(*of(x)) },
		func(x *T, b []byte) { *of(x) = int(int8(b[0])) }}
}

// flag is a byte that is 1 or 0.
func flag[T any](at int, what string, of func(*T) *bool) field[T] {
	return field[T]{at, 1, what,
		func(x *T, b []byte) {
			if *of(x) {
				b[0] = 1
			}
		},
		func(x *T, b []byte) { *of(x) = b[0] != 0 }}
}

func identity[T any](at int, what string, of func(*T) *uuid.UUID) field[T] {
	return field[T]{at, 16, what,
		func(x *T, b []byte) { copy(b, of(x)[:]) },
		func(x *T, b []byte) { copy(of(x)[:], b) }}
}

func text[T any, S ~string](at, size int, what string, of func(*T) *S) field[T] {
	return field[T]{at, size, what,
		func(x *T, b []byte) { putText(b, string(*of(x))) },
		func(x *T, b []byte) { *of(x) = S(getText(b)) }}
}

// stamp is a time, in nanoseconds since 1970; 0 for none.
func stamp[T any](at int, what string, of func(*T) *time.Time) field[T] {
	return field[T]{at, 8, what,
		func(x *T, b []byte) {
			if t := *of(x); !t.IsZero() {
				binary.LittleEndian.PutUint64(b, uint64(t.UnixNano()))
			}
		},
		func(x *T, b []byte) {
			*of(x) = time.Time{}
			if n := int64(binary.LittleEndian.Uint64(b)); n != 0 {
				*of(x) = time.Unix(0, n).UTC()
			}
		}}
}

// rosterState is a state of the roster: its epoch, and the first 8 bytes of the identity of that.
func rosterState[T any](at int, what string, of func(*T) *State) []field[T] {
	return []field[T]{
		number(at, 8, "the epoch of "+what, func(x *T) *uint64 { return &of(x).Epoch }),
		number(at+8, 8, "the first 8 bytes of that epoch's identity", func(x *T) *uint64 { return &of(x).ID }),
	}
}

func putAll[T any](x *T, fields []field[T], b []byte) {
	for _, f := range fields {
		f.put(x, b[f.at:f.at+f.size])
	}
}

func getAll[T any](x *T, fields []field[T], b []byte) {
	for _, f := range fields {
		f.get(x, b[f.at:f.at+f.size])
	}
}

// headFields are what stands in front of the roster, behind the magic, the checksum, the length and the version.
var headFields = []field[Record]{
	number(20, 8, "features a program must know to use the array: 2 when its regions are listed, 3 when it changes to another layout besides, 7 when that goes back, 26 when it is a guarded set, 58 when its disks sleep besides, 10 when it does not note what members that are away missed", func(r *Record) *uint64 { return &r.Features }),
	identity(28, "identity of the array", func(r *Record) *uuid.UUID { return &r.Array }),
	text(44, maxName, "name", func(r *Record) *string { return &r.Name }),
	stamp(108, "time of creation", func(r *Record) *time.Time { return &r.Created }),
	text(116, 16, "level, as text", func(r *Record) *levelName { return (*levelName)(&r.Level) }),
	number(132, 4, "groups as chosen for levels 10, 50, 60; else 0", func(r *Record) *int { return &r.Groups }),
	number(136, 4, "strip, bytes", func(r *Record) *int64 { return &r.Strip }),
	identity(140, "identity of this member", func(r *Record) *uuid.UUID { return &r.Member }),
	number(156, 4, "slot of this member", func(r *Record) *int { return &r.Slot }),
	flag(160, "1 when stopped in order", func(r *Record) *bool { return &r.Clean }),
	number(164, 8, "size of the disk, bytes", func(r *Record) *int64 { return &r.Place.Size }),
	number(172, 8, "start of the journal, bytes", func(r *Record) *int64 { return &r.Place.JournalStart }),
	number(180, 8, "size of the journal, bytes", func(r *Record) *int64 { return &r.Place.JournalSize }),
	number(188, 4, "segments of this member", func(r *Record) *int { return &r.segments }),
	number(192, 4, "a checksum (CRC-32C) of the name of the host that wrote this; 0: not known", func(r *Record) *uint64 { return &r.Writer }),
	number(196, 8, "epoch", func(r *Record) *uint64 { return &r.Epoch }),
	identity(204, "identity of the epoch", func(r *Record) *uuid.UUID { return &r.EpochID }),
	number(220, 8, "generation", func(r *Record) *uint64 { return &r.Generation }),
	number(228, 4, "number of members, n", func(r *Record) *int { return &r.members }),
	number(232, 1, "task: 0 none, 1 check", func(r *Record) *TaskKind { return &r.Task.Kind }),
	flag(233, "task: 1 when it repairs", func(r *Record) *bool { return &r.Task.Repair }),
	flag(234, "task: 1 when it is paused", func(r *Record) *bool { return &r.Task.Paused }),
	number(235, 1, "task: the slot that is to blame where nothing shows which is, + 1; 0 for none", func(r *Record) *int { return &r.Task.Blame }),
	number(236, 8, "task: stripes that are done; 2^62: all there were when it ended", func(r *Record) *int64 { return &r.Task.Cursor }),
	number(244, 8, "task: mismatches", func(r *Record) *int64 { return &r.Task.Mismatches }),
	number(252, 8, "task: repaired", func(r *Record) *int64 { return &r.Task.Repaired }),
	number(260, 8, "task: unrepairable", func(r *Record) *int64 { return &r.Task.Unrepairable }),
	stamp(268, "task: started", func(r *Record) *time.Time { return &r.Task.Started }),
	stamp(276, "task: ended", func(r *Record) *time.Time { return &r.Task.Ended }),
	number(284, 8, "change map: changes of epochs after this one are marked in it; 0: they are not", func(r *Record) *uint64 { return &r.Changes.Since }),
	field[Record]{292, 8 * len(Changes{}.Parts), "change map: bit i, lowest first, says that something was changed in the stripes s with ⌊256·s / stripes⌋ = i",
		func(r *Record, b []byte) {
			for i, v := range r.Changes.Parts {
				binary.LittleEndian.PutUint64(b[8*i:], v)
			}
		},
		func(r *Record, b []byte) {
			for i := range r.Changes.Parts {
				r.Changes.Parts[i] = binary.LittleEndian.Uint64(b[8*i:])
			}
		}},
	number(324, 8, "the first 8 bytes of the identity of the epoch before", func(r *Record) *uint64 { return &r.Before }),
	number(332, 8, "starts: how often the array was started, see checkpoints", func(r *Record) *uint64 { return &r.Starts }),
	number(340, 4, "regions that are listed; 0: there is the one that follows from level and sizes", func(r *Record) *int { return &r.regions }),
	number(344, 4, "seconds after which a disk that nothing was asked of is put to sleep; 0: never", func(r *Record) *int64 { return &r.SpinDown }),
}

// levelName is a level as it is written.
type levelName string

// entryFields are those of one entry of the roster.
var entryFields = append(append([]field[Entry]{
	identity(0, "identity of the member", func(e *Entry) *uuid.UUID { return &e.ID }),
	number(16, 1, "condition: 1 active, 2 rebuilding, 3 failing, 4 failed, 5 missing, 6 vacant", func(e *Entry) *Condition { return &e.Condition }),
	slot(17, "slot of the member that keeps the witnesses of this one, 255 for none", func(e *Entry) *int { return &e.Witness }),
	number(24, 8, "rebuilding: strips that are current; being copied onto another disk: strips that are copied", func(e *Entry) *int64 { return &e.Cursor }),
	number(32, 8, "size of the disk, bytes", func(e *Entry) *int64 { return &e.Size }),
	number(40, 8, "size of the data of its first segment, bytes", func(e *Entry) *int64 { return &e.DataSize }),
	number(48, 8, "reads that failed", func(e *Entry) *uint64 { return &e.Errors.Read }),
	number(56, 8, "writes that failed", func(e *Entry) *uint64 { return &e.Errors.Write }),
	number(64, 8, "wrong checksums", func(e *Entry) *uint64 { return &e.Errors.Checksum }),
	stamp(72, "condition entered at", func(e *Entry) *time.Time { return &e.Since }),
	text(80, 32, "bay, as last seen; for people, as the next three", func(e *Entry) *string { return &e.Bay }),
	text(112, 64, "model", func(e *Entry) *string { return &e.Model }),
	text(176, 64, "serial", func(e *Entry) *string { return &e.Serial }),
	text(240, 200, "path", func(e *Entry) *string { return &e.Path }),
	number(456, 8, "the epoch up to which a member that is away, or catches up, has everything; 0: nothing it holds counts", func(e *Entry) *uint64 { return &e.Base }),
	identity(472, "identity of the disk it is being copied onto, or zeros", func(e *Entry) *uuid.UUID { return &e.Onto }),
}, rosterState(440, "the record that was last begun to be written to a member that is away; 0: not known", func(e *Entry) *State { return &e.Tried })...),
	rosterState(496, "the last record that a member which is away surely has; 0: not known", func(e *Entry) *State { return &e.Left })...)
