// Package record turns everything Nidalo keeps on a member, besides the data itself, into bytes and back. It does no
// I/O. All numbers are little-endian; docs/format.md has the layout byte by byte.
//
//	offset on the member      what                                        file
//	0                         member record, first copy (256 KiB)         record.go
//	512 KiB                   member record, second copy
//	1 MiB                     journal: two heads, then the ring           journal.go
//	after it                  written map, one bit per checksum page      pages.go
//	after it                  witness table, of another member's pages    pages.go
//	after it                  checksum table, 4 bytes per block of data   pages.go
//	next multiple of 1 MiB    data
//	last 256 KiB              member record, third copy
//
// From the written map on this is one segment; a member that got more room has further ones behind it (place.go).
//
// Every decoder takes hostile bytes: it returns an error that wraps ErrFormat, or values within the stated bounds.
package record

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"nidalo/core/layout"
)

// Block is the unit of checksums, in bytes. Only a sector of 512 bytes never tears.
const Block = layout.Block

// Size is the room of one copy of the member record in bytes: for 64 members, two maps of 64 regions with a place on each of
// them, and volumes.
const Size = 256 << 10

// SecondCopy is the byte of a member at which the second copy of the record lies. The third lies at the end.
const SecondCopy = 512 << 10

// Version is the format version written by this program.
const Version = 3

var (
	// ErrFormat is wrapped by every decoding error.
	ErrFormat = errors.New("not valid")
	// ErrAbsent is returned where there is no trace of a record: the magic is missing.
	ErrAbsent = errors.New("no member record")
)

var magicRecord = [8]byte{'N', 'I', 'D', 'A', 'L', 'O', '/', 'm'}

// Castagnoli is the polynomial of all checksums of the format.
var Castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Features that a program must know to write (or even read) an array; the bits are given out in docs/format.md.
const (
	FeatureTwoLayouts = 1 << 0 // two layouts are in force, on two sides of a boundary
	FeatureRegions    = 1 << 1 // the regions are listed, and members may have several segments
	FeatureBack       = 1 << 2 // a change of layout goes back
	FeatureGuarded    = 1 << 3 // it is a guarded set, of which volumes have names
	FeatureOwed       = 1 << 4 // it is noted what members of it that are away missed
	FeatureSleep      = 1 << 5 // its disks are put to sleep, and sleep through checkpoints
	knownFeatures     = FeatureTwoLayouts | FeatureRegions | FeatureBack | FeatureGuarded | FeatureOwed | FeatureSleep
)

// Condition is the condition of a member as the roster holds it.
type Condition uint8

// The conditions of a member.
const (
	Active Condition = iota + 1
	Rebuilding
	Failing
	Failed
	Missing
	Vacant // the slot of a guarded set whose member was taken out: nothing belongs there
)

var conditionNames = [...]string{"?", "active", "rebuilding", "failing", "failed", "missing", "vacant"}

// TakesPart says whether a member in this condition is written to, and has its record kept.
func (c Condition) TakesPart() bool { return c == Active || c == Failing || c == Rebuilding }

// Counts says whether all that a member in this condition should hold counts.
func (c Condition) Counts() bool { return c == Active || c == Failing }

// Lacks says whether a member should be there in full and is not.
func (c Condition) Lacks() bool { return !c.Counts() && c != Vacant }

func (c Condition) String() string {
	if int(c) < len(conditionNames) {
		return conditionNames[c]
	}
	return "?"
}

// Errors counts what a member got wrong since it joined.
type Errors struct {
	Read, Write, Checksum uint64
}

// Total is their sum.
func (e Errors) Total() uint64 { return e.Read + e.Write + e.Checksum }

// Entry is one member in the roster.
type Entry struct {
	ID                 uuid.UUID // uuid.Nil for a slot that never had a disk
	Condition          Condition
	Cursor             int64   // strips below it are rebuilt (Rebuilding only)
	Size               int64   // of the disk, bytes
	DataSize           int64   // of the data of its first segment, bytes
	More               []int64 // of the data of each further segment, bytes
	Errors             Errors
	Bay, Model, Serial string // as last seen; for people, never for identification
	Path               string
	Since              time.Time // when the condition was entered
	// Left is the state that a member which is missing or failed has in its own record: a disk that carries another went on
	// by itself. The member may have left while the next record was being written to it; Tried is the state of that one.
	// Both are zero when that is not known.
	Left, Tried State
	// Base is the epoch up to which the member has everything, when it is away and while it catches up: all it may lack was
	// changed in a later one. 0: nothing it holds counts.
	Base uint64
	// Witness is the slot of the member that keeps the witnesses of this one's pages; -1: none does.
	Witness int
	Volume  string // the name of the volume on it, in a guarded set; empty: it has none
	// Owed is, of a data disk of a guarded set that is away or catches up, the parts in which its own data was changed without it: what it holds in the others is
	// right even when nothing is left to restore it from.
	Owed Parts
	// Void is the first batch in its own journal that never happened; 0: all did.
	Void uint64
	// Onto is the identity of the disk the member is being copied onto, and Cursor how many of its strips are. uuid.Nil: it
	// is not.
	Onto uuid.UUID
}

// Short is the start of an identity as a number.
func Short(id uuid.UUID) uint64 { return binary.LittleEndian.Uint64(id[:]) }

// TaskKind names long work.
type TaskKind uint8

// The kinds of task that live on members. A rebuild is the roster's Cursor.
const (
	NoTask TaskKind = iota
	Check
)

// Task is the state of a consistency check, so that it goes on after a crash or a move.
type Task struct {
	Kind         TaskKind
	Repair       bool
	Paused       bool
	Blame        int   // 1 more than the slot that is to blame where nothing shows which is; 0: none
	Cursor       int64 // stripes done; WholeCheck when it has ended and was of all
	Mismatches   int64
	Repaired     int64
	Unrepairable int64
	Started      time.Time
	Ended        time.Time // zero while it runs
}

// WholeCheck is the cursor of a check that ended, of all there was.
const WholeCheck = 1 << 62

// Record is the member record.
type Record struct {
	Features uint64
	Array    uuid.UUID
	Name     string
	Created  time.Time
	Level    layout.Level
	Groups   int // as chosen at creation
	Strip    int64

	Member uuid.UUID
	Slot   int
	Place  Place

	Epoch      uint64
	EpochID    uuid.UUID // drawn anew with every epoch: two arrays that parted and both went on differ here
	Before     uint64    // the start of the identity of the epoch before: what a crash in a change of the roster leaves on some
	Generation uint64    // raised with every write of the record
	Clean      bool      // stopped in order: the journal is empty
	Writer     uint64    // which host wrote it, see WriterOf; 0: not known
	SpinDown   int64     // seconds after which a disk that nothing was asked of is put to sleep; 0: never
	Starts     uint64    // raised, durably, at every start before a page is written: no number of a checkpoint is used twice

	Roster  []Entry
	Task    Task
	Changes Changes
	// Regions are the parts of the array's map in logical order; none: it has the one that follows from the level and the sizes.
	Regions []layout.Region
	// Turn is a change to another layout that is under way, or nil. The regions are listed then.
	Turn *Turn

	segments, members, regions int // as they are written; 0 otherwise
}

const (
	headSize  = 512
	entrySize = 512
	maxName   = 64
)

// WitnessOf is the slot that keeps the witnesses of a member's pages in an array of so many; -1: none can.
func WitnessOf(slot, members int) int {
	if members < 2 {
		return -1
	}
	return (slot + 1) % members
}

// Encode writes the record into as many whole blocks as it takes, at most Size bytes. What Decode would refuse is refused
// here: a record that cannot be read back must never replace one that can.
func (r *Record) Encode() ([]byte, error) {
	if len(r.Roster) == 0 || len(r.Roster) > layout.MaxMembers || r.Slot < 0 || r.Slot >= len(r.Roster) {
		return nil, fmt.Errorf("slot %d in a roster of %d members: %w", r.Slot, len(r.Roster), ErrFormat)
	}
	if err := r.check(); err != nil {
		return nil, err
	}
	rest := r.encodeParts()
	used := headSize + len(r.Roster)*entrySize + len(rest)
	if used > Size {
		return nil, fmt.Errorf("member record: %d bytes are too many: %w", used, ErrFormat)
	}
	buf := make([]byte, (used+Block-1)&^(Block-1))
	copy(buf, magicRecord[:])
	binary.LittleEndian.PutUint32(buf[12:], uint32(len(buf)))
	binary.LittleEndian.PutUint32(buf[16:], Version)
	own := *r
	own.segments, own.members, own.regions = 1+len(r.Place.More), len(r.Roster), len(r.Regions)
	if own.Features &^= knownFeatures; own.regions > 0 {
		own.Features |= FeatureRegions
	}
	if own.Level == layout.Guarded {
		own.Features |= FeatureGuarded | FeatureOwed
	}
	if own.SpinDown > 0 {
		own.Features |= FeatureSleep
	}
	if own.Turn != nil {
		own.Features |= FeatureTwoLayouts
		if own.Turn.Way == Back {
			own.Features |= FeatureBack
		}
	}
	putAll(&own, headFields, buf[:headSize])
	for i := range r.Roster {
		putAll(&r.Roster[i], entryFields, buf[headSize+i*entrySize:][:entrySize])
	}
	copy(buf[headSize+len(r.Roster)*entrySize:], rest)
	binary.LittleEndian.PutUint32(buf[8:], crc32.Checksum(buf[12:], Castagnoli))
	return buf, nil
}

// Length is how many bytes a record takes of which head is the first block; a block where none begins.
func Length(head []byte) int {
	if len(head) < Block || [8]byte(head[:8]) != magicRecord {
		return Block
	}
	return int(min(max(binary.LittleEndian.Uint32(head[12:]), Block), Size))
}

// Decode reads one copy of a member record, whole, perhaps with more behind it. ErrAbsent means the magic is not there; any other error wraps ErrFormat.
func Decode(buf []byte) (*Record, error) {
	if len(buf) < Block || [8]byte(buf[:8]) != magicRecord {
		return nil, ErrAbsent
	}
	length := binary.LittleEndian.Uint32(buf[12:])
	if length < Block || length > Size || length%Block != 0 || int(length) > len(buf) {
		return nil, fmt.Errorf("member record: length %d: %w", length, ErrFormat)
	}
	buf = buf[:length]
	if binary.LittleEndian.Uint32(buf[8:]) != crc32.Checksum(buf[12:], Castagnoli) {
		return nil, fmt.Errorf("member record: wrong checksum: %w", ErrFormat)
	}
	if v := binary.LittleEndian.Uint32(buf[16:]); v != Version {
		return nil, fmt.Errorf("member record: format version %d, this program knows %d: %w", v, Version, ErrFormat)
	}
	r := &Record{}
	getAll(r, headFields, buf[:headSize])
	if unknown := r.Features &^ uint64(knownFeatures); unknown != 0 {
		return nil, fmt.Errorf("member record: needs features %#x that this program does not have: %w", unknown, ErrFormat)
	}
	segments, members, regions := r.segments, r.members, r.regions
	r.segments, r.members, r.regions = 0, 0, 0
	if members < 1 || members > layout.MaxMembers || headSize+members*entrySize > len(buf) || r.Slot < 0 || r.Slot >= members {
		return nil, fmt.Errorf("member record: slot %d of %d members: %w", r.Slot, members, ErrFormat)
	}
	r.Roster = make([]Entry, members)
	for i := range r.Roster {
		getAll(&r.Roster[i], entryFields, buf[headSize+i*entrySize:][:entrySize])
	}
	if err := r.decodeParts(buf[headSize+members*entrySize:], segments, regions); err != nil {
		return nil, err
	}
	if err := r.check(); err != nil {
		return nil, err
	}
	return r, nil
}

// CheckVolume says what is wrong with the name of a volume.
func CheckVolume(name string) error {
	if name == "parity" {
		return errors.New("a volume cannot be called parity: other disks of the set have that")
	}
	if err := CheckName(name); err != nil {
		return fmt.Errorf("volume: %w", err)
	}
	return nil
}

// CheckName says what is wrong with an array name: it is also the name of the export, and part of commands.
func CheckName(name string) error {
	if name == "" || len(name) > maxName {
		return fmt.Errorf("the name must have 1 to %d characters", maxName)
	}
	for _, r := range name {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_.", r)) {
			return fmt.Errorf("the name %q has a %q: letters, digits, dots, dashes and underscores are allowed", name, r)
		}
	}
	if name[0] == '-' || name[0] == '.' {
		return fmt.Errorf("the name %q must start with a letter or a digit", name)
	}
	return nil
}

// maxEpoch bounds epochs, generations and batch numbers: no array gets there, and a number below it can be raised.
const maxEpoch = 1<<48 - 2

// maxStarts bounds how often an array can be started; with the checkpoints of each it makes MaxCheckpoint.
const (
	maxStarts = 1<<24 - 2
	perStart  = 1 << 24
)

// FirstCheckpoint is the number of the first checkpoint of a start, and LastCheckpoint that of the last it may make.
func FirstCheckpoint(start uint64) uint64 { return start*perStart + 1 }

// LastCheckpoint is the last number of a start.
func LastCheckpoint(start uint64) uint64 { return start*perStart + perStart - 1 }

// MaxDisk is the largest disk a record may speak of, in bytes: what is beyond is a forgery or damage.
const MaxDisk = 1 << 56

// check holds what every user of a record relies on: the name is one, the geometry can be computed, and the places and
// counters are within their bounds.
func (r *Record) check() error {
	if err := CheckName(r.Name); err != nil {
		return fmt.Errorf("member record: %w: %w", err, ErrFormat)
	}
	if r.Epoch > maxEpoch || r.Generation > maxEpoch || r.Starts > maxStarts {
		return fmt.Errorf("member record: epoch %d, generation %d: %w", r.Epoch, r.Generation, ErrFormat)
	}
	for i, e := range r.Roster {
		if e.Condition < Active || e.Condition > Vacant || e.Cursor < 0 || e.DataSize < 0 || e.DataSize > MaxDisk || e.Size < 0 || e.Size > MaxDisk ||
			e.Witness < -1 || e.Witness >= len(r.Roster) || e.Witness == i || e.Left.Epoch > r.Epoch || e.Base > r.Epoch || e.Tried.Epoch > r.Epoch {
			return fmt.Errorf("member record: roster entry %d is out of bounds: %w", i, ErrFormat)
		}
	}
	lay, err := r.Layout()
	if err != nil {
		return fmt.Errorf("member record: %w: %w", err, ErrFormat)
	}
	if err := r.Place.check(); err != nil {
		return fmt.Errorf("member record: %w: %w", err, ErrFormat)
	}
	if own := r.Roster[r.Slot]; len(r.Place.More) == len(own.More) {
		for _, on := range lay.OnSlot(r.Slot) {
			if begin, n := on.Span(r.Slot); !r.Place.Holds(begin, n) {
				return fmt.Errorf("member record: its places are too small for a member of its slot: %w", ErrFormat)
			}
		}
	}
	if err := r.checkVolumes(lay); err != nil {
		return err
	}
	if r.Task.Cursor < 0 || r.Task.Cursor > lay.Stripes() && r.Task.Ended.IsZero() || r.Task.Kind > Check || r.Task.Blame < 0 || r.Task.Blame > len(r.Roster) {
		return fmt.Errorf("member record: task is out of bounds: %w", ErrFormat)
	}
	return nil
}

// State names a state of the roster.
type State struct{ Epoch, ID uint64 }

// State is the state of the roster that the record is in.
func (r *Record) State() State { return State{r.Epoch, Short(r.EpochID)} }

// Previous is the state that the one the record is in was made from; its epoch is 0 when there was none.
func (r *Record) Previous() State { return State{r.Epoch - 1, r.Before} }

// LeftBy says whether a record is in the state that the entry says its member left in.
func (e Entry) LeftBy(own *Record) bool {
	s := own.State()
	return e.Left.Epoch != 0 && (s == e.Left || s == e.Tried)
}

// Here makes the entry that of a member in some condition which is not away.
func (e *Entry) Here(c Condition, since time.Time) {
	e.Condition, e.Cursor, e.Since = c, 0, since
	e.Left, e.Tried, e.Base, e.Owed, e.Void = State{}, State{}, 0, Parts{}, 0
}

// PlaceOf is the place of the member, as its own record has it, with the size and the segments that the roster knows of: a crash may have
// left a member that does not.
func (e Entry) PlaceOf(own Place) (Place, error) {
	own.Size = max(own.Size, e.Size)
	return own.Fit(e.More)
}

// Segment is how much data a segment of the member has, the first being 0, and the number of its first block.
func (e Entry) Segment(i int) (size, first int64, ok bool) {
	s := Segment{DataSize: e.DataSize}
	for _, more := range e.More[:min(i, len(e.More))] {
		s = Segment{First: s.next(), DataSize: more}
	}
	return s.DataSize, s.First, i <= len(e.More)
}

// Clone is a deep copy.
func (r *Record) Clone() *Record {
	c := *r
	c.Roster = append([]Entry(nil), r.Roster...)
	c.Place.More, c.Regions = slices.Clone(r.Place.More), slices.Clone(r.Regions)
	if r.Turn != nil {
		turn := *r.Turn
		c.Turn = &turn
	}
	return &c
}
