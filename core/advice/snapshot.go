// Package advice says what to do next, whether a disk may leave its bay, and what a loss would mean: pure functions of a
// snapshot of one host, so that everything that gives advice gives the same.
package advice

import (
	"fmt"
	"slices"
	"time"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
)

// Snapshot is what is known of one host at one moment.
type Snapshot struct {
	Now    time.Time
	Host   string  // the name of this host
	Arrays []Array // in service
	Idle   []Idle
	Disks  []Disk
	Home   *Home // nil: it can be written
}

// Home is the home of the service when it cannot be written.
type Home struct {
	Path   string
	Why    string
	Since  time.Time
	Notes  bool // what the service remembers is not written
	Events int  // and tasks, that are not in the history yet
	Lost   int  // and tasks, that never will be
}

// Array is an array in service.
type Array struct {
	ID, Name  string
	Map       *layout.Map
	Condition state.Condition
	Failure   string // why it has failed; empty while it serves
	Margin    int    // negative when data is out of reach
	Unproven  bool   // parity does not protect all of it until a check has ended
	Used      int64  // bytes that were ever written
	Created   time.Time
	Members   []Member // by slot
	Tasks     []Task
	Check     Check
	Device    *Device // that it is attached as, or should be
	// Room on its disks: what it would gain by growing now, or once the disks that are too small are larger ones too; and what is unused, on
	// how many disks. Bytes.
	Gain, GainThen, Unused int64
	GainMoves              bool // growing now lays data out anew
	Larger                 int
	Short                  []string
	FileSystem             *FileSystem // on it, which ends before it since it grew
}

// FileSystem is a file system that ends before the array that it is on.
type FileSystem struct {
	Kind    string
	End     int64  // bytes
	Command string // that makes it as large
}

// Member is one slot of an array.
type Member struct {
	Slot      int
	Condition record.Condition
	Disk      state.Identity
	Spindle   string // the physical disk that it is on; empty when that is not known
	Part      int    // number of the partition that it is on, 0 for a whole disk
	Reason    string // why it is failing, failed or missing, or why its disk predicts a failure; empty when not known
	Since     time.Time
	Errors    uint64
	Foretold  bool  // still active, but its disk predicts a failure
	CatchesUp bool  // it is away, and what it holds still counts when it comes back
	Need      int64 // bytes that a disk must have to take its place
	Size      int64 // of its disk, bytes
	Onto      *Copy // the copy of it that is being made
	StandsFor string
	Away      time.Time // since when its host does not answer, while it still counts
	Twins     []Twin    // disks that each claim to be this member
	Exchange  string    // what the exchange of its disk waits for, in words; empty: none is under way
}

// Copy is the disk that a member is being copied onto.
type Copy struct {
	Disk    state.Identity
	Spindle string
}

// Twin is a disk that claims to be the same member as another.
type Twin struct {
	Why     string
	Example string // one of the two, as an argument
}

// Task is long work on an array that has not ended.
type Task struct {
	Kind    state.TaskKind
	Slot    int // the member that it is about, or -1
	State   state.TaskState
	Percent float64
	Left    time.Duration // negative when not known
	Spread  float64       // how far off Left may be, as a share of it; 1: not known
	Waits   string        // for what, in words
	Regular bool          // it began by itself, and goes on by itself
}

// Check is the last consistency check, under way or ended; its zero value means that there was none.
type Check struct {
	Ended                              time.Time
	Mismatches, Repaired, Unrepairable int64
	Next                               time.Time // when another begins by itself; zero: none does
	Late                               string    // why one that should have begun by itself did not, in words; empty: none is late
}

// Device is what an array is attached as.
type Device struct {
	Path      string // empty when there is no device
	Connected bool
	Reason    string // why not
}

// Idle is an array that was found and is not in service.
type Idle struct {
	ID, Name string
	Why      IdleKind
	Reason   string
	Twins    []Twin
}

// IdleKind is why an array is not in service.
type IdleKind int

// The reasons for an array not to be in service.
const (
	CannotStart IdleKind = iota
	TakenOut             // by the administrator
	Unowned              // this host could not be made its owner
	Stranger             // it was never in service here
	Elsewhere            // another host has it, and this one stands by
	Waits                // for disks that may still come
)

// Disk is a disk of the host, a partition, or an empty bay.
type Disk struct {
	state.Identity
	Spindle string
	Size    int64
	State   state.DiskState
	Holds   []string
	Held    []string // its users, in words: it is mounted, or a device is built on it
	Bad     string   // why it is not to be trusted
	Told    string   // of a bad disk: for how long it ran and what it counted, as it said last
	Carries string   // identity of the array whose member record is on it
	Part    int      // number of the partition, 0 for a whole disk
	Lab     bool
	Serves  []string // as a spare: the arrays it is for; none: all
}

func (d Disk) servesArray(name string) bool {
	return d.State == state.DiskSpare && d.Bad == "" && (len(d.Serves) == 0 || slices.Contains(d.Serves, name))
}

// spindles are the physical disks of all slots, for layout.MarginOfDisks.
func (a *Array) spindles() []string {
	out := make([]state.Identity, len(a.Members))
	for i, m := range a.Members {
		out[i] = m.Disk
	}
	return state.Spindles(out)
}

// without is the margin, and the margin with luck, without the members that do not work and those for which lost is true.
func (a *Array) without(lost func(m Member) bool) (certain, best int) {
	return a.Map.MarginOfDisks(a.spindles(), func(slot int) bool { return !a.Members[slot].Condition.Counts() || lost(a.Members[slot]) })
}

// task is the task that restores or copies a member.
func (a *Array) task(slot int) *Task {
	for i, t := range a.Tasks {
		if t.Slot == slot && (t.Kind == state.TaskRebuild || t.Kind == state.TaskCatchUp || t.Kind == state.TaskRetire) {
			return &a.Tasks[i]
		}
	}
	return nil
}

// ends says when a task ends, as a clause; empty when that is not known.
func (t *Task) ends(now time.Time) string {
	if t == nil || t.Left < 0 || t.State != state.TaskRunning {
		return ""
	}
	return "ends " + say.End(now, t.Left.Seconds(), t.Spread)
}

// argument is how a command names a member: by its bay, unless another disk is in there by now.
func (s *Snapshot) argument(m Member) string {
	another := func(d Disk) bool { return d.Bay == m.Disk.Bay && d.Serial != "" && d.Serial != m.Disk.Serial }
	if m.Disk == (state.Identity{}) || m.Disk.Bay != "" && slices.ContainsFunc(s.Disks, another) {
		return fmt.Sprint(m.Slot)
	}
	return say.Argument(m.Disk)
}

// carried lists the arrays whose member records are on a physical disk or its partitions.
func (s *Snapshot) carried(spindle string) (ids []string) {
	for _, d := range s.Disks {
		if d.Spindle == spindle && d.Carries != "" {
			ids = append(ids, d.Carries)
		}
	}
	return ids
}

// inBay is the disk in the bay that a member was last seen in, or the member's own disk where there are no bays.
func (s *Snapshot) inBay(m Member) *Disk {
	for i, d := range s.Disks {
		if m.Disk.Bay != "" && d.Bay == m.Disk.Bay || m.Disk.Bay == "" && d.Path == m.Disk.Path {
			return &s.Disks[i]
		}
	}
	return nil
}

// Fit is the smallest blank disk of at least need bytes, the one in the given bay first; nil when there is none. onDevice: only devices
// of the system are taken; otherwise only files and disks of the lab. Disks that other hosts lend are taken in any case.
func Fit(disks []Disk, need int64, bay string, onDevice bool) *Disk {
	var best *Disk
	for i, d := range disks {
		if d.State != state.DiskBlank || d.Bad != "" || d.Size < need || d.OnDevice() != onDevice && d.Host == "" {
			continue
		}
		if bay != "" && d.Bay == bay {
			return &disks[i]
		}
		if best == nil || d.Size < best.Size {
			best = &disks[i]
		}
	}
	return best
}
