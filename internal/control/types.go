package control

import (
	"errors"
	"time"

	"nidalo/core/advice"
	"nidalo/core/event"
	"nidalo/core/health"
	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/history"
)

// DiskInfo is one disk, or an empty bay.
type DiskInfo struct {
	state.Identity
	Size    int64           `json:"size_bytes"`
	State   state.DiskState `json:"state"`
	Holds   []string        `json:"holds,omitempty"`            // what was found on it, in words
	Carries string          `json:"carries_array_id,omitempty"` // identity of the array whose member record is on it, in service or not
	Array   string          `json:"array,omitempty"`
	Slot    *int            `json:"slot,omitempty"`
	Member  string          `json:"member,omitempty"`  // condition, when it is a member of an array in service
	Held    []string        `json:"held,omitempty"`    // its users, in words: mounted, swap, a device on top of it
	Bad     string          `json:"bad,omitempty"`     // why it is not to be trusted again; empty when nothing is known against it
	Vetting string          `json:"vetting,omitempty"` // in words; empty: it was never vetted
	Vetted  bool            `json:"vetted"`            // to the end, with nothing wrong
	// Hardware is what the system knows of a device of this host; nil for files and the lab.
	Hardware *Hardware `json:"hardware,omitempty"`
	Lab      bool      `json:"lab,omitempty"`    // it is simulated
	Health   string    `json:"health,omitempty"` // what it says of itself, in a word; empty when it was not asked or says nothing
}

// Hardware is what the system knows of a block device without asking it.
type Hardware struct {
	Name     string   `json:"name"` // the kernel's at this moment
	Bus      string   `json:"bus,omitempty"`
	Address  string   `json:"address,omitempty"` // on its bus
	WWN      string   `json:"wwn,omitempty"`
	Rotating *bool    `json:"rotating,omitempty"` // null where that means nothing
	Sector   int      `json:"sector_bytes"`
	ReadOnly bool     `json:"read_only"`
	Zones    string   `json:"zones,omitempty"`
	Disk     string   `json:"disk,omitempty"`        // of a partition: the name of its disk
	Part     int      `json:"part,omitempty"`        // of a partition: its number
	Parts    []string `json:"parts,omitempty"`       // paths of its partitions
	Paths    []string `json:"other_paths,omitempty"` // further devices that lead to the same disk
	File     string   `json:"file,omitempty"`        // of a loop device
}

// Status is all arrays, or one.
type Status struct {
	Time    time.Time     `json:"time"`
	Host    string        `json:"host"`           // what other hosts know it by
	Serving bool          `json:"serving"`        // by a service that stays
	Held    string        `json:"held,omitempty"` // the process that has this home, and does not answer
	Socket  string        `json:"socket,omitempty"`
	Arrays  []ArrayStatus `json:"arrays"`
	Disks   []DiskTask    `json:"disk_replacements,omitempty"`
	AllEnd  *float64      `json:"all_tasks_end_seconds,omitempty"` // until all tasks have ended, a guess; missing with one or none
	Next    []string      `json:"next"`
}

// ArrayStatus is one array.
type ArrayStatus struct {
	Name       string            `json:"name"`
	ID         string            `json:"id"`
	Level      string            `json:"level"`
	Condition  state.Condition   `json:"condition"`
	Out        bool              `json:"out_of_service"`
	Reason     string            `json:"reason,omitempty"`      // why it is failed or not started
	Trouble    string            `json:"trouble,omitempty"`     // what is wrong although it serves, in words
	Says       []string          `json:"members_say,omitempty"` // what each disk found carries, when it is out of service
	Margin     int               `json:"margin"`
	MarginBest int               `json:"margin_best"`
	Capacity   int64             `json:"capacity_bytes"`
	Used       int64             `json:"used_bytes"`
	Strip      int64             `json:"strip_bytes"`
	Groups     int               `json:"groups"`
	Epoch      uint64            `json:"epoch"`
	Created    time.Time         `json:"created"`
	Export     string            `json:"export,omitempty"`
	Device     *DeviceStatus     `json:"device,omitempty"`            // that it is attached as
	SpinDown   int64             `json:"spin_down_seconds,omitempty"` // after which a disk without work is put to sleep; 0: never
	Members    []MemberStatus    `json:"members"`
	Shared     []string          `json:"shared_disks,omitempty"`   // of an array that could be created: members on one disk, in words
	Together   string            `json:"files_together,omitempty"` // members that are files of one file system, in words
	Hosts      []layout.HostLoss `json:"hosts,omitempty"`          // of members on several hosts: what the loss of each would mean
	Owned      *Owned            `json:"owned,omitempty"`          // where several hosts could have it
	Spread     []string          `json:"spread,omitempty"`         // of an array that could be created: levels at which the loss of any host is survived, in words
	NotVetted  []string          `json:"not_vetted,omitempty"`     // of an array that could be created: disks never vetted
	Tasks      []TaskStatus      `json:"tasks"`
	LastCheck  *CheckStatus      `json:"last_check,omitempty"`
	Spares     []string          `json:"spares,omitempty"`       // that stand ready for it
	NextCheck  *time.Time        `json:"next_check,omitempty"`   // when one begins by itself
	Growth     *GrowthStatus     `json:"growth,omitempty"`       // room on its disks that it does not use
	Change     *TurnStatus       `json:"conversion,omitempty"`   // to another layout, under way
	Waiting    *WaitingChange    `json:"waiting,omitempty"`      // another conversion, after that
	Volumes    []VolumeStatus    `json:"volumes,omitempty"`      // of a guarded set
	Handing    *Handing          `json:"handing,omitempty"`      // of its parity
	Layers     []plan.Layer      `json:"layers,omitempty"`       // of disks of different sizes
	Unused     []int64           `json:"unused_bytes,omitempty"` // of an array that could be created: of each disk
	// Counters since the array was started: bytes unless the name says otherwise.
	Counters map[string]int64 `json:"counters,omitempty"`
	Next     []string         `json:"next"`
}

// GrowthStatus is the room that members have beyond what the array uses.
type GrowthStatus struct {
	Gain   int64    `json:"gain_bytes"`   // of capacity, if the array grows now
	Moves  bool     `json:"moves"`        // data is laid out anew for that
	Cut    bool     `json:"given_up"`     // some of it was given up when the array was made smaller
	Unused int64    `json:"unused_bytes"` // on all disks
	Larger int      `json:"larger"`       // members whose disks have room
	Short  []string `json:"short"`        // disks without, of members; the array grows when these are larger ones too
	Then   int64    `json:"then_bytes"`   // of capacity, gained then
}

// VolumeStatus is a volume of a guarded set.
type VolumeStatus struct {
	Name   string `json:"name"` // without that of the set
	Slot   int    `json:"slot"`
	Size   int64  `json:"size_bytes"`
	Used   int64  `json:"used_bytes"`
	AtMost bool   `json:"used_at_most"` // its disk is away, and the others do not tell volumes apart
	From   string `json:"comes_from"`   // what its contents are read from, in words
	// Unreadable is how much of it cannot be read, written or not, since too many disks are lost, in bytes.
	Unreadable int64         `json:"unreadable_bytes"`
	Export     string        `json:"export,omitempty"`
	Device     *DeviceStatus `json:"device,omitempty"` // that it is attached as
}

// TurnStatus is a change of layout under way.
type TurnStatus struct {
	Level    string    `json:"level"`
	Groups   int       `json:"groups"`
	Strip    int64     `json:"strip_bytes"`
	Members  int       `json:"members"`
	Capacity int64     `json:"capacity_bytes"` // when it is done
	Moved    int64     `json:"moved_bytes"`    // what is laid out anew already: the first bytes of the array, or the last
	Down     bool      `json:"downwards"`      // the last
	Back     bool      `json:"back"`           // to the layout before
	Turns    bool      `json:"turns"`          // it was cancelled, and goes back from the next boundary at which it can
	Started  time.Time `json:"started"`
}

// ChangeRequest changes the layout of an array, or says what that would mean.
type ChangeRequest struct {
	Array       string   `json:"array"`
	Grow        bool     `json:"grow"` // with the disks the level there is, wider; without disks the room of larger ones is taken up
	Level       string   `json:"level"`
	Strip       int64    `json:"strip_bytes"`               // 0: as it is
	Groups      int      `json:"groups"`                    // 0: chosen
	Disks       []string `json:"disks"`                     // blank, to be added
	Volumes     []string `json:"volumes,omitempty"`         // what those are to be called in a guarded set
	Parity      bool     `json:"parity,omitempty"`          // it is to have the parity of a guarded set
	Shrink      int64    `json:"shrink_to_bytes,omitempty"` // only less capacity
	Free        []string `json:"free,omitempty"`            // members that the array is to do without
	Spares      bool     `json:"freed_to_spares"`           // disks that are freed are kept as hot spares
	Discard     bool     `json:"discard,omitempty"`         // what is written beyond the new end may be lost
	AlthoughBad bool     `json:"although_bad,omitempty"`
	DryRun      bool     `json:"dry_run"`
}

// Moving is a member that is copied onto another disk.
type Moving struct {
	From state.Identity `json:"from"`
	Onto state.Identity `json:"onto"`
}

// ChangeReply says what a change of layout means.
type ChangeReply struct {
	Array   string           `json:"array"`
	Before  LayoutStatus     `json:"before"`
	Then    LayoutStatus     `json:"then"`
	Moves   int64            `json:"moves_bytes"` // of the array that have to be laid out anew, at most
	Seconds float64          `json:"about_seconds"`
	Rate    float64          `json:"disk_bytes_per_second"` // that this goes by
	Disks   []state.Identity `json:"disks"`                 // to be added
	Layers  []plan.Layer     `json:"layers,omitempty"`      // then, of disks of different sizes
	Beyond  int64            `json:"beyond_bytes"`          // that are written beyond the new end
	More    bool             `json:"beyond_and_more"`       // these were not all that were looked at
	Free    []state.Identity `json:"free,omitempty"`        // disks that are blank then
	Spares  bool             `json:"freed_to_spares"`       // they are hot spares then
	Copies  []Moving         `json:"copies,omitempty"`      // of these, those that are copied onto a disk which is let go first
	Back    bool             `json:"can_go_back"`           // as long as it is under way
	Waits   string           `json:"waits,omitempty"`       // what it begins after, by itself, in words
	Written *WrittenEach     `json:"written_each,omitempty"`
	Volumes []VolumeStatus   `json:"volumes,omitempty"` // that come to a guarded set
	Parity  bool             `json:"parity,omitempty"`  // a parity disk comes to it, and is filled
	Gone    string           `json:"gone,omitempty"`    // the volume that a guarded set loses
	Empties bool             `json:"empties,omitempty"` // a task empties it first
	// FileSystem is the one on an array that grows.
	FileSystem *FileSystemStatus `json:"file_system,omitempty"`
	Stays      bool              `json:"stays"`            // the service goes on by itself
	Device     string            `json:"device,omitempty"` // that the array is attached as
}

// FileSystemStatus is a file system that ends before the array that it is on.
type FileSystemStatus struct {
	Kind    string `json:"kind"`
	End     int64  `json:"end_bytes"`
	Command string `json:"command"` // that makes it as large as the array
}

// WrittenEach is how much of what is written lies on one member, from the one that has least to the one that has most: now, and about so much then.
type WrittenEach struct {
	Now  [2]int64 `json:"now_bytes"`
	Then [2]int64 `json:"then_bytes"`
}

// WaitingChange is a change of layout that begins by itself when the one before is done.
type WaitingChange struct {
	To    LayoutStatus `json:"to"`
	Disks []string     `json:"disks,omitempty"` // that come with it
	Free  []string     `json:"free,omitempty"`  // members that go with it
	Noted time.Time    `json:"noted"`
}

// BeyondWords says how much is written beyond the new end.
func (c *ChangeReply) BeyondWords() string {
	if c.More {
		return say.Size(c.Beyond) + " or more"
	}
	return say.Size(c.Beyond)
}

// BeyondHints say what to do about that.
var BeyondHints = []string{"make the file system smaller, and trim the rest (fstrim, blkdiscard)", "-discard   loses what lies there"}

// LayoutStatus is how an array is laid out.
type LayoutStatus struct {
	Level    string `json:"level"`
	Members  int    `json:"members"`
	Groups   int    `json:"groups"`
	Strip    int64  `json:"strip_bytes"`
	Capacity int64  `json:"capacity_bytes"`
	Margin   int    `json:"margin"`
}

// MemberStatus is one slot of an array.
type MemberStatus struct {
	Slot           int        `json:"slot"`
	Group          int        `json:"group"` // of members that protect each other, from 1 on
	Bay            string     `json:"bay"`
	Model          string     `json:"model"`
	Serial         string     `json:"serial"`
	Path           string     `json:"path"`
	Condition      string     `json:"condition"`
	Reason         string     `json:"reason,omitempty"` // why it is failing, failed or missing, when this service saw it
	Size           int64      `json:"size_bytes"`
	Health         string     `json:"health,omitempty"`  // what its disk says of itself, in a word
	Celsius        *float64   `json:"celsius,omitempty"` // its temperature when the disk was asked last
	Errors         uint64     `json:"errors"`
	ReadErrors     uint64     `json:"read_errors"`
	WriteErrors    uint64     `json:"write_errors"`
	ChecksumErrors uint64     `json:"checksum_errors"`
	Since          *time.Time `json:"since,omitempty"`
	NeedSize       int64      `json:"need_bytes,omitempty"`         // of a replacement, when one is wanted
	Sleeps         bool       `json:"sleeps,omitempty"`             // it was put to sleep, and nothing was asked of it since
	NoSleep        string     `json:"no_sleep,omitempty"`           // why it cannot be, although it should
	Away           *time.Time `json:"out_of_touch_since,omitempty"` // its host does not answer since then, and it still counts
	Moved          int64      `json:"moved_bytes"`                  // read and written since its disk was opened, as the next two
	Operations     int64      `json:"operations"`                   // that the disk was waited for
	Busy           float64    `json:"busy_seconds"`                 // all those operations together
}

// TaskStatus is one task of an array.
type TaskStatus struct {
	Disk    string          `json:"disk,omitempty"` // of the member it is about
	Kind    state.TaskKind  `json:"kind"`
	Slot    *int            `json:"slot,omitempty"`
	State   state.TaskState `json:"state"`
	Percent float64         `json:"percent"`
	Done    int64           `json:"done_bytes"`
	Total   int64           `json:"total_bytes"`
	Rate    float64         `json:"bytes_per_second"`
	ETA     *float64        `json:"eta_seconds"` // null when not known
	Started time.Time       `json:"started"`
	Ended   *time.Time      `json:"ended,omitempty"`
	Error   string          `json:"error,omitempty"`
	Moved   int64           `json:"moved_bytes,omitempty"` // written to the member it is about
	Onto    string          `json:"onto,omitempty"`
	Waits   string          `json:"waits,omitempty"` // for what, in words
	Pace    string          `json:"pace,omitempty"`
	Unsure  float64         `json:"eta_spread"` // how far off the estimate may be, as a share of it; 1: not known
	Check   *CheckStatus    `json:"check,omitempty"`
}

// CheckStatus is what a consistency check found, or has found so far.
type CheckStatus struct {
	Mismatches   int64      `json:"mismatches"`
	Repaired     int64      `json:"repaired"`
	Unrepairable int64      `json:"unrepairable"`
	Repair       bool       `json:"repair"`
	Started      time.Time  `json:"started"`
	Ended        *time.Time `json:"ended,omitempty"`
	Partial      bool       `json:"partial,omitempty"` // it was ended early
	Places       []Place    `json:"places,omitempty"`
	// Disks are those that mismatches were found on, of a check that was followed to its end.
	Disks []DiskMismatches `json:"disks,omitempty"`
}

// DiskMismatches is how many mismatches a check found on a disk.
type DiskMismatches struct {
	Slot       int    `json:"slot"`
	Disk       string `json:"disk"`
	Mismatches int64  `json:"mismatches"`
}

// Place is one mismatch.
type Place struct {
	Slot   int    `json:"slot"`
	Disk   string `json:"disk"`
	Stripe int64  `json:"stripe"`
	Offset int64  `json:"offset_bytes"` // within the member's data
	What   string `json:"what"`
}

// CreateRequest asks for a new array.
type CreateRequest struct {
	Name   string   `json:"name"`
	Level  string   `json:"level"`
	Strip  int64    `json:"strip_bytes"`
	Groups int      `json:"groups"`
	Disks  []string `json:"disks"`
	// Volumes are the names of those of a guarded set, one for each of the first disks; the others have the parity.
	Volumes []string `json:"volumes,omitempty"`
	Use     int64    `json:"use_bytes,omitempty"` // of each disk only so much, in a partition that is made for it; 0: whole disks
	// AlthoughBad takes disks that failed before, or were found bad.
	AlthoughBad bool `json:"although_bad,omitempty"`
	// SpinDown is after which time without work a disk of a guarded set is put to sleep; 0: never.
	SpinDown time.Duration `json:"spin_down_nanoseconds,omitempty"`
	DryRun   bool          `json:"dry_run"` // check everything and say what it would be
}

// FailRequest declares a member failed, or takes that back.
type FailRequest struct {
	Array, Disk string
	Sure        bool // although it works
	Force       bool // although the array fails with it
	Undo        bool // the member that was declared failed comes back; with Sure also one that failed by itself
}

// ReplaceRequest puts a new disk in the place of a member.
type ReplaceRequest struct {
	Array, Old, New string
	Force           bool // although the member still works
	AlthoughBad     bool // take New although it failed before, or was found bad
	Parity          bool // in a guarded set: New takes over parity, and the disk that had it takes the place of Old
	Empty           bool // in a guarded set: what was on Old is given up, since nothing can restore it, and its volume begins empty
	DryRun          bool // with Parity: say what that would be
}

// RoleMove is what becomes of a disk.
type RoleMove struct {
	Disk   state.Identity `json:"disk"`
	Size   int64          `json:"size_bytes"`
	Before string         `json:"before"`
	After  string         `json:"after"`
}

// Handing is a disk that takes over parity, whose disk takes the place of a data disk then.
type Handing struct {
	New         string   `json:"new"`
	Old         string   `json:"old"`
	Member      string   `json:"member"` // the data disk
	Volume      string   `json:"volume"`
	Step        int      `json:"step"`    // 1 or 2
	Percent     float64  `json:"percent"` // of both
	StepPercent float64  `json:"step_percent"`
	Rate        float64  `json:"bytes_per_second"` // of the step
	ETA         *float64 `json:"eta_seconds"`      // of both; null when not known
	Unsure      float64  `json:"eta_spread"`
	Waits       string   `json:"waits,omitempty"` // for what the step waits, in words
}

// ReplaceReply says what is going on now.
type ReplaceReply struct {
	Slot   int      `json:"slot"`
	Disk   DiskInfo `json:"disk"`
	Stays  bool     `json:"stays"` // the service goes on by itself
	Member string   `json:"member"`
	// Moves is what becomes of the disks, where one takes over parity.
	Moves []RoleMove `json:"moves,omitempty"`
}

// CheckRequest starts a consistency check.
type CheckRequest struct {
	Array  string
	Repair bool
	Blame  string // with Repair: the member to compute from the others where nothing shows which one is wrong; none: leave it
}

// EraseRequest makes a disk blank.
type EraseRequest struct {
	Disk   string
	DryRun bool
}

// StopRequest takes an array out of service.
type StopRequest struct {
	Array string
	Force bool // also when that loses what a member holds
}

// DissolveRequest ends an array.
type DissolveRequest struct {
	Array  string
	DryRun bool
}

// Error is an error for people: one line, and hints what to do.
type Error struct {
	What  string   `json:"error"`
	Hints []string `json:"hints,omitempty"`
	Fatal bool     `json:"fatal,omitempty"` // would put data out of reach; Force does it all the same
}

func (e *Error) Error() string { return e.What }

// ErrHomeBusy says that another process serves this home and does not answer.
var ErrHomeBusy = errors.New("another process is using this home")

// StartRequest puts an array into service.
type StartRequest struct {
	StandBy   bool `json:"stand_by,omitempty"` // when another host has it, take it over when that is lost
	Attach    bool `json:"attach,omitempty"`   // with StandBy: make it a device whenever this host has it
	Array     string
	Force     bool // with the set that serves most, although there are doubts
	Surviving bool // a guarded set without disks that are not there, although they are more than it has parity
}

// RenameRequest gives an array another name.
type RenameRequest struct{ Array, To string }

// RetireRequest copies a member onto another disk and lets it go. Onto may be empty: a disk that fits is chosen.
type RetireRequest struct {
	Array, Disk, Onto string
	AlthoughBad       bool // take Onto although it failed before, or was found bad
}

// SpareRequest assigns a hot spare, or releases it.
type SpareRequest struct {
	Disk    string
	Arrays  []string // none: all
	Release bool
	// AlthoughBad takes it although it failed before, or was found bad.
	AlthoughBad bool
}

// SpareReply says for which arrays a spare is large enough.
type SpareReply struct {
	Disk     DiskInfo `json:"disk"`
	Fits     []string `json:"fits"`
	TooSmall []string `json:"too_small"` // in words
	Taken    []string `json:"taken"`     // the arrays for which it stood ready before, and does not now
}

// SpareStatus is a hot spare.
type SpareStatus struct {
	Name   string    `json:"name"`           // its serial, or path
	Disk   *DiskInfo `json:"disk,omitempty"` // missing when it is not here
	Arrays []string  `json:"arrays"`         // that it is for; none: all
	Ready  []string  `json:"ready"`          // the arrays in service for which it would step in
	Reason string    `json:"reason,omitempty"`
}

// SpinDownRequest says after which time without work a disk of a guarded set is put to sleep; without After it only asks.
type SpinDownRequest struct {
	Array string
	After *time.Duration // 0: never
}

// PaceRequest sets the pace of an array's tasks, or of all; an empty pace only asks.
type PaceRequest struct{ Array, Pace string }

// PaceReply is the pace of an array and what it means.
type PaceReply struct {
	Array     string       `json:"array"`
	Schedule  string       `json:"schedule"`
	Pace      string       `json:"pace"` // in force now
	Condition string       `json:"condition"`
	Margin    int          `json:"margin"`
	Tasks     []TaskStatus `json:"tasks"`
}

// ExchangeRequest begins the exchange of a member's disk, or ends it early; without an array it only asks.
type ExchangeRequest struct {
	Array, Disk string
	Sure        bool // although the member works
	First       bool // the array is checked before the member leaves
	Vet         bool // the new disk is tested before it is trusted
	NoCheck     bool // the array is not checked at the end
	AlthoughBad bool // take a new disk although it failed before, or was found bad
	Stop        bool
}

// Round is something that is done regularly.
type Round struct {
	What     string          `json:"what"`       // check or read
	Of       string          `json:"of"`         // the array, or the disk
	Every    int             `json:"every_days"` // 0: never
	Hours    string          `json:"hours"`
	Weekdays []string        `json:"weekdays,omitempty"`
	Last     *time.Time      `json:"last,omitempty"`  // when it was last done to its end
	Check    *CheckStatus    `json:"check,omitempty"` // what the last check found
	Found    string          `json:"found,omitempty"`
	Bad      bool            `json:"bad"`             // of what was found, something is not repaired
	State    state.TaskState `json:"state,omitempty"` // of the work that is under way
	Next     *time.Time      `json:"next,omitempty"`  // when it begins, or goes on
	Waits    string          `json:"waits,omitempty"` // why it would not begin now, in words
	Late     bool            `json:"late"`
}

// SteerRequest pauses, continues or cancels a task.
type SteerRequest struct {
	Array string
	Kind  state.TaskKind
	Slot  *int
	State state.TaskState // paused, running, cancelled
}

// PullRequest asks whether some disks may leave their bays together.
type PullRequest struct {
	Disks []string `json:"disks"`
}

// PullReply is the answer.
type PullReply struct {
	Disks   []DiskInfo `json:"disks"`
	Yes     bool       `json:"yes"`
	Reasons []string   `json:"reasons"`
	When    *time.Time `json:"when,omitempty"` // it will be yes, as far as can be told
	Next    []string   `json:"next"`
}

// NextReply is what to do now, in order.
type NextReply struct {
	Time  time.Time     `json:"time"`
	Steps []advice.Step `json:"steps"`
	Again time.Time     `json:"look_again"` // when there is nothing to do
	// Regular: checks begin by themselves, the next one at look_again.
	Regular bool `json:"checks_begin_by_themselves,omitempty"`
}

// LocateRequest lights a disk's bay, all members' of an array that are seen, or none.
type LocateRequest struct {
	Disk   string
	Others string // an array
	Off    bool
}

// LocateReply says what is lit now.
type LocateReply struct {
	Lit  []string `json:"lit"`  // disks
	Dark []string `json:"dark"` // that should be lit and have no light that can be reached
	Out  int      `json:"out"`  // members, of those whose bays are lit, that are not there
}

// HistoryRequest filters the history; zero fields choose all.
type HistoryRequest struct {
	Array, Disk, Kind string
	Since, Until      time.Time
	Limit             int
}

// ReadingsRequest asks for one kind of reading of a disk (by serial or path) or an array.
type ReadingsRequest struct {
	Of, Name string
	Since    time.Time
	Most     int // about so many, the highest of stretches of time; 0: all
}

// DiskHealth is what the disk of a member says of itself, and how that is judged.
type DiskHealth struct {
	state.Identity
	Array    string          `json:"array"`
	Slot     int             `json:"slot"`
	Time     time.Time       `json:"time"` // when it was asked
	Verdict  health.Verdict  `json:"verdict"`
	Readings health.Readings `json:"readings"`
}

// HistoryReply is part of the history, oldest first.
type HistoryReply struct {
	Events []event.Event  `json:"events"`
	Tasks  []history.Task `json:"tasks"`
	// Unwritten is why the newest are in the memory of the service only; empty: all are written.
	Unwritten string `json:"unwritten,omitempty"`
}

// AlertResult is how one channel took a test message.
type AlertResult struct {
	Channel string         `json:"channel"`
	Least   event.Severity `json:"least,omitempty"`
	Error   string         `json:"error,omitempty"`
}

// WhatIfRequest asks what the loss of some disks would mean.
type WhatIfRequest struct {
	Array string // none: all that have any of the disks
	Lose  []string
}

// InspectReply is what some disks carry.
type InspectReply struct {
	Disks    []Inspected `json:"disks"`
	Compared []string    `json:"compared"` // which is the newest, and which disagree
}

// Inspected is what one disk carries.
type Inspected struct {
	Disk       state.Identity `json:"disk"`
	Size       int64          `json:"size_bytes"`
	InService  bool           `json:"in_service"` // by an array, at this moment: it may change while it is read
	Blank      bool           `json:"blank"`
	Holds      []string       `json:"holds,omitempty"` // when it is no member
	Unreadable string         `json:"unreadable,omitempty"`
	Copies     []string       `json:"record_copies"`
	Array      string         `json:"array,omitempty"`
	ArrayID    string         `json:"array_id,omitempty"`
	Level      string         `json:"level,omitempty"`
	Strip      int64          `json:"strip_bytes,omitempty"`
	Created    time.Time      `json:"created"`
	Member     string         `json:"member_id,omitempty"`
	Slot       int            `json:"slot"`
	Epoch      uint64         `json:"epoch"`
	Generation uint64         `json:"generation"`
	Clean      bool           `json:"clean"`
	Written    int64          `json:"written_bytes_at_most"`
	Roster     []string       `json:"roster,omitempty"`
	Changed    string         `json:"changed,omitempty"` // what its change map tells, in words; empty when no member is away
	Journal    string         `json:"journal,omitempty"`
	Damaged    []string       `json:"damaged,omitempty"`
	Health     *DiskSays      `json:"health,omitempty"` // missing when the disk says nothing of itself
	Note       string         `json:"note,omitempty"`   // of the configuration
}

// DiskSays is what a disk said of itself at this moment, and what grew since it was first asked.
type DiskSays struct {
	Verdict  health.Verdict  `json:"verdict"`
	Readings health.Readings `json:"readings"`
	Grew     []string        `json:"grew,omitempty"` // in words
	Since    time.Time       `json:"since"`
}

// VetRequest starts or continues the vet of a disk; without a disk it only asks for all.
type VetRequest struct {
	Disk  string
	Quick bool
	Again bool // begin anew although one was cut short
	Stop  bool // hold it
}

// RescueRequest judges what can be read of an array that is not in service, and then copies it out, serves it, or brings
// it back in place.
type RescueRequest struct {
	Array   string  `json:"array"` // its name or identity
	Images  []Image `json:"images,omitempty"`
	State   int     `json:"state,omitempty"`             // which of several states, from 1 on; 0 when there is only one
	Old     bool    `json:"old,omitempty"`               // take what a member that left earlier holds, unless it is proven to have changed
	Copy    string  `json:"copy,omitempty"`              // a file that is not there yet, by its absolute path
	List    string  `json:"list,omitempty"`              // a file that is not there yet, for all places that are lost
	Serve   bool    `json:"serve,omitempty"`             // read-only, until it is stopped
	InPlace bool    `json:"in_place,omitempty"`          // make members that had left count again, and start it
	Accept  int64   `json:"accept_lost_bytes,omitempty"` // with InPlace: what may be given up for that
	Watch   bool    `json:"watch,omitempty"`             // only ask how far it is
	Stop    bool    `json:"stop,omitempty"`              // end it
}

// Image is a copy of a member, and a list of what is bad in it.
type Image struct {
	Path string `json:"path"`
	Bad  string `json:"bad,omitempty"` // a file with a range a line, first byte and length
}

// RescueReply is what can be read of an array, as far as its members know, and how far the rescue is.
type RescueReply struct {
	Array    string           `json:"array"`
	Level    string           `json:"level,omitempty"`
	Stage    string           `json:"stage"`
	Percent  float64          `json:"percent"`          // of judging and of bringing back
	States   []RescueState    `json:"states,omitempty"` // newest first
	State    int              `json:"state"`            // the one judged; 0 when one has to be chosen
	Doubt    string           `json:"doubt,omitempty"`
	Old      bool             `json:"old"`
	Capacity int64            `json:"capacity_bytes"`
	Written  int64            `json:"written_bytes"` // at most
	Lost     int64            `json:"lost_bytes"`    // of what was written
	Unsure   int64            `json:"unsure_bytes"`  // of these: no remaining member records whether they were ever written
	Spans    int              `json:"lost_spans"`
	Volumes  []RescueVolume   `json:"volumes,omitempty"` // of a guarded set
	Places   []state.Span     `json:"lost,omitempty"`    // the first of them
	Notes    []string         `json:"notes,omitempty"`
	Back     []state.Identity `json:"can_be_brought_back,omitempty"` // members that would count again in place
	Copy     *RescueCopy      `json:"copy,omitempty"`
	Export   string           `json:"export,omitempty"` // while it is served
	Clients  int              `json:"clients"`
	Error    string           `json:"error,omitempty"`
}

// RescueVolume is what can be read of a volume of a guarded set.
type RescueVolume struct {
	Name   string `json:"name"`
	Start  int64  `json:"start_bytes"` // in what is copied out
	Size   int64  `json:"size_bytes"`
	Lost   int64  `json:"lost_bytes"`
	Export string `json:"export,omitempty"` // while it is served
}

// RescueState is a state that some members agree about.
type RescueState struct {
	Number  int            `json:"state"`
	Epoch   uint64         `json:"epoch"`
	Members []RescueMember `json:"members"`
	Unused  []string       `json:"unused,omitempty"`
}

// RescueMember is what there is of one slot.
type RescueMember struct {
	Slot  int            `json:"slot"`
	Disk  state.Identity `json:"disk"`
	There bool           `json:"there"`
	Use   string         `json:"use"` // in words
}

// RescueCopy is how far the copying out is. Lost is what turned out to be unreadable.
type RescueCopy struct {
	State   state.TaskState `json:"state"` // as of tasks
	Path    string          `json:"path"`
	Done    int64           `json:"done_bytes"`
	Total   int64           `json:"total_bytes"`
	Lost    int64           `json:"lost_bytes"`
	Places  []state.Span    `json:"lost,omitempty"` // the first of them; all are in the file beside, PATH.lost
	Rate    float64         `json:"bytes_per_second"`
	Started time.Time       `json:"started"`
	Ended   time.Time       `json:"ended"`
	Error   string          `json:"error,omitempty"`
}
