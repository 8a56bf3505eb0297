// Package event is what can happen to arrays, members and disks, and how grave each of it is.
package event

import (
	"slices"
	"strings"
	"time"

	"nidalo/core/state"
)

// Severity is how grave an event is.
type Severity string

// The severities.
const (
	Info     Severity = "info"
	Warning  Severity = "warning"
	Critical Severity = "critical"
)

// Severities lists them, the least grave first.
var Severities = []Severity{Info, Warning, Critical}

// Rank is the place of a severity among Severities; one that is not known ranks as info.
func (s Severity) Rank() int { return max(slices.Index(Severities, s), 0) }

// Kind is a kind of event.
type Kind string

// The kinds of event. Beside them are those of tasks, see OfTask.
const (
	Healthy             Kind = "healthy"      // an array has its full margin
	Degraded            Kind = "degraded"     // an array has less than its full margin
	Exposed             Kind = "exposed"      // an array serves, and survives no further loss
	Partial             Kind = "partial"      // more disks of a guarded set are lost than it has parity; the volumes on the others are served
	Failed              Kind = "failed"       // the data of an array is out of reach
	ArrayFailed         Kind = "array-failed" // an array stopped writing
	ArrayCreated        Kind = "array-created"
	ArrayStarted        Kind = "array-started"
	ArrayNotStarted     Kind = "array-not-started"
	ArrayWaits          Kind = "array-waits" // for disks that may still come
	ArrayStopped        Kind = "array-stopped"
	ArrayRenamed        Kind = "array-renamed"
	ArrayDissolved      Kind = "array-dissolved"
	ArrayGrown          Kind = "array-grown"        // it has taken up the room of larger disks
	ParityHandedOver    Kind = "parity-handed-over" // to a larger disk, and the disk that had it has a volume
	ParityAdded         Kind = "parity-added"       // a guarded set has a further parity disk, which is being filled
	ArrayShrunk         Kind = "array-shrunk"       // it has less capacity
	ArrayConverting     Kind = "array-converting"   // to another layout
	ArrayTakenOver      Kind = "array-taken-over"   // by this host
	ArrayHandedOver     Kind = "array-handed-over"
	ArrayOusted         Kind = "array-ousted" // another host has it, or may
	ArrayAttached       Kind = "array-attached"
	ArrayNotAttached    Kind = "array-not-attached" // it should be
	ArrayDetached       Kind = "array-detached"
	VolumeLost          Kind = "volume-lost"     // nothing is left to read it from
	VolumeGivenUp       Kind = "volume-given-up" // a blank disk is in the place of one that nothing could restore
	MemberFailing       Kind = "member-failing"
	MemberFailed        Kind = "member-failed"
	MemberMissing       Kind = "member-missing"
	MemberReturned      Kind = "member-returned"    // it was away, and catches up
	MemberRetired       Kind = "member-retired"     // a copy took its place
	MemberFreed         Kind = "member-freed"       // the array does without it
	MemberNotFreed      Kind = "member-not-freed"   // it was to be copied onto a disk that was freed
	ChangeNotBegun      Kind = "change-not-begun"   // it waited for the change before, and cannot be made any more
	MemberStale         Kind = "member-stale"       // it cannot come back
	MemberSetBack       Kind = "member-set-back"    // it holds less than it had confirmed
	MemberStranger      Kind = "member-stranger"    // it claims to be a member and is none
	MemberTwice         Kind = "member-twice"       // two disks claim to be it
	MemberChosen        Kind = "member-chosen"      // the administrator said which one it is
	MembersReadmitted   Kind = "members-readmitted" // members that had left count again, by a rescue
	CopyFailed          Kind = "copy-failed"        // the disk that a member was being copied onto
	WriteLost           Kind = "write-lost"         // blocks that were acknowledged and not flushed
	BatchDropped        Kind = "batch-dropped"      // a start found a batch that cannot be completed
	CheckpointFailed    Kind = "checkpoint-failed"
	CheckpointRecovered Kind = "checkpoint-recovered"
	JournalReplayed     Kind = "journal-replayed"
	JournalDamaged      Kind = "journal-damaged"
	TableDamaged        Kind = "table-damaged"
	Healed              Kind = "healed"     // blocks were wrong, and are right again
	Mismatches          Kind = "mismatches" // a check found some
	TaskStuck           Kind = "task-stuck" // a task does not move
	DiskAppeared        Kind = "disk-appeared"
	DiskGone            Kind = "disk-gone"
	DiskTooSmall        Kind = "disk-too-small"   // for the place of the member in its bay
	DiskAdopted         Kind = "disk-adopted"     // a blank disk took the place of the member in its bay
	DiskNotAdopted      Kind = "disk-not-adopted" // it is in the bay of a lost member, and does not take its place by itself
	DiskReplaced        Kind = "disk-replaced"    // with everything that arrays have on it
	DiskHot             Kind = "disk-hot"
	DiskCool            Kind = "disk-cool"
	DiskLink            Kind = "disk-link"       // its link has errors
	DiskLent            Kind = "disk-lent"       // to other hosts
	DiskTakenBack       Kind = "disk-taken-back" // it is lent no more
	HostAway            Kind = "host-away"       // that lends disks to this one: it does not answer
	HostBack            Kind = "host-back"
	DisksListed         Kind = "disks-listed" // they can be listed again
	DisksNotListed      Kind = "disks-not-listed"
	DescriptorsShort    Kind = "descriptors-short" // this process may not open more files
	DescriptorsFree     Kind = "descriptors-free"
	HomeNotWritten      Kind = "home-not-written"  // the history and notes of the service
	HistorySetAside     Kind = "history-set-aside" // it was damaged, and a new one has begun
	HomeWritten         Kind = "home-written"
	SpareAssigned       Kind = "spare-assigned"
	SpareUsed           Kind = "spare-used"     // it took the place of a member
	SpareMissing        Kind = "spare-missing"  // a member failed, and no spare can take its place
	SpareUnsuited       Kind = "spare-unsuited" // it cannot take the place of a whole disk
	SpareBad            Kind = "spare-bad"      // it cannot be relied on any more
	SpareFree           Kind = "spare-free"     // it is a spare again
	RoundLate           Kind = "round-late"     // a check of an array, or the reading of a spare, is overdue
	ExchangeStarted     Kind = "exchange-started"
	ExchangeDone        Kind = "exchange-done"
	ExchangeLeft        Kind = "exchange-left" // it came to another end
	KeeperAway          Kind = "keeper-away"
	KeeperBack          Kind = "keeper-back"
	RescueStarted       Kind = "rescue-started"
	RescueServed        Kind = "rescue-served"
	RescueStopped       Kind = "rescue-stopped"
	Test                Kind = "test" // a test of the alerts
)

// grave is the kinds that are more than information.
var grave = map[Kind]Severity{
	Degraded: Warning, MemberFailing: Warning, MemberFailed: Warning, MemberMissing: Warning, MemberStale: Warning, MemberSetBack: Warning, MemberStranger: Warning, MembersReadmitted: Warning, CopyFailed: Warning, VolumeGivenUp: Warning, MemberNotFreed: Warning, ChangeNotBegun: Warning, BatchDropped: Warning, CheckpointFailed: Warning, JournalDamaged: Warning, TableDamaged: Warning, Healed: Warning, Mismatches: Warning, TaskStuck: Warning, DiskTooSmall: Warning, DiskNotAdopted: Warning, DiskHot: Warning, DiskLink: Warning, DisksNotListed: Warning, DescriptorsShort: Warning, HomeNotWritten: Warning, HistorySetAside: Warning, SpareUsed: Warning, SpareMissing: Warning, SpareUnsuited: Warning, SpareBad: Warning, RoundLate: Warning, KeeperAway: Warning, HostAway: Warning,
	Exposed: Critical, Partial: Critical, VolumeLost: Critical, Failed: Critical, ArrayFailed: Critical, ArrayOusted: Critical, ArrayNotStarted: Critical, ArrayNotAttached: Critical, MemberTwice: Critical, WriteLost: Critical,
}

// Severity is the severity of an event of this kind that names no other.
func (k Kind) Severity() Severity {
	if s, ok := grave[k]; ok {
		return s
	}
	if strings.HasSuffix(string(k), "-"+string(state.TaskFailed)) {
		return Warning
	}
	return Info
}

// What happens to tasks beside their ends.
const (
	Started   state.TaskState = "started"
	Continued state.TaskState = "continued"
)

// OfTask is the kind of event that something happens to a task, such as "rebuild-done".
func OfTask(kind state.TaskKind, what state.TaskState) Kind {
	return Kind(strings.ReplaceAll(string(kind), " ", "-") + "-" + string(what))
}

// Event is something that happened.
type Event struct {
	ID       int64     `json:"id"`
	Time     time.Time `json:"time"`
	Severity Severity  `json:"severity"`
	Kind     Kind      `json:"kind"`
	Array    string    `json:"array,omitempty"`
	Disk     string    `json:"disk,omitempty"`
	Detail   string    `json:"detail,omitempty"`
}
