// Package probe lets the crash machine (package crash, build tag machine) look into the engine at places that no call reaches:
// it counts that something rare happened, and has the engine make one of a list of mistakes, to see that the machine notices.
// In the ordinary build nothing happens here, and the compiler leaves nothing of it in the program.
package probe

// Event is something rare that a run of the machine must have met.
type Event int

// The events.
const (
	RingWraps           Event = iota // an entry of a journal did not fit before the end of the ring
	PageEvicted                      // a table page left memory to make room for another
	PageReadBack                     // a table page that was written in this start was read back
	GroupCommit                      // several changes went into one batch
	FlushJoined                      // a flush went with another
	WentThrough                      // a write was committed before it was answered
	NothingToFlush                   // a flush found nothing that was answered and not committed
	BatchesOverlap                   // a batch began before the one before it was committed
	EarlierCompleted                 // a start completed a batch that is not the last
	SeveralDropped                   // a start dropped two batches
	WalkedOn                         // a walk along a ring went on behind an entry that was cut short
	BatchLacksMember                 // a member left while a batch was being written
	LastBatchCompleted               // a start wrote the entries that the last batch lacked
	EntryRestored                    // a start did without an entry in the middle of the journals
	JournalFull                      // a change waited for a checkpoint to make room
	CheckpointInRebuild              // a checkpoint while a member was being rebuilt
	CheckpointInCopy                 // a checkpoint while a member was being copied
	CommitInCheckpoint               // a change was committed while a checkpoint wrote pages
	WriteInRebuild                   // a change below the cursor of a rebuild
	WriteMirrored                    // a change went onto a copy too
	ColumnsRecovered                 // contents followed from redundancy
	ColumnEmpty                      // a parity block that was never written showed that more unknown blocks than parity are zeros
	HeadRefuted                      // a head that claims too much was not believed
	WitnessAccused                   // a page was older than its witness
	StandInTookOver                  // a copy took the place of a member that failed meanwhile
	PartOfBlockMerged                // part of a block met newer contents in the cache
	DestagePutBack                   // a change failed before its commit and went back into the cache
	ChangeMarked                     // a change was marked for a member that is away
	ColumnEmptied                    // all of a column was zeroed, and is never-written again
	ReadAhead                        // what a change needs was read for many stripes at once
	GivenBack                        // blocks that became never-written were given back
	RebuildsTogether                 // a rebuild was carried by another
	WindowHeld                       // a change of layout began with a window
	WindowMoved                      // it is about to commit what it moves
	WindowCommitted                  // it has
	WindowDone                       // all of it is in place
	WindowInTheMiddle                // one that is neither the first nor the last
	WindowJumped                     // a change of layout passed over what was never written
	BatchAhead                       // a start found a batch that takes a change of layout further than the record
	BatchAheadDropped                // and dropped it
	TurnedBack                       // a change of layout turned and goes back
	ParityForsaken                   // parity was marked as lost, since what a member that left has of a batch is not known
	ParityDoubted                    // a start did so
	OwnKept                          // what a member that came back holds counts, since nothing else tells
	OwnJournalKept                   // and what it has in its journal
	OwnNotKept                       // it does not, since its data may have changed without it
	VolumeGivenUp                    // a blank disk took the place of one that nothing could restore
	MemberTakenOut                   // a member of a guarded set left it for good
	MemberSlept                      // a member was put to sleep
	RestTaken                        // a read got what was kept of a stripe that another had computed
	SurePageRead                     // a page was read while the disk of its witness slept, and believed, since it was compared before
	SleeperLags                      // a start found the head of a member that slept behind those of others
	PlaceGivenUp                     // what was lost of one volume was given up, so that parity protects the others there
	FillingWaits                     // a blank disk is not filled as long as more members are lost than there is parity
	ParityForsakenLate               // parity that was back was given up, since it may have nothing of what a data disk keeps from its journal
	VanishedJoining                  // a member that came back was lost before it had the record that says so
	Events                           // how many there are
)

var events = [Events]string{
	RingWraps: "a journal ring wrapped", PageEvicted: "a table page was evicted", PageReadBack: "a table page written in this start was read back",
	GroupCommit: "several changes in one batch", ReadAhead: "many stripes were read ahead", FlushJoined: "a flush went with another", BatchesOverlap: "two batches in flight",
	WentThrough: "a write went through", NothingToFlush: "a flush found nothing to do", EarlierCompleted: "a start completed a batch that is not the last",
	SeveralDropped: "a start dropped two batches", WalkedOn: "a walk went on behind an entry that was cut short", BatchLacksMember: "a member left while a batch was written",
	LastBatchCompleted: "a start completed the last batch", EntryRestored: "a start restored an entry from the others",
	JournalFull: "a change waited for room in the journals", CheckpointInRebuild: "checkpoint during a rebuild", CheckpointInCopy: "checkpoint during a copy",
	CommitInCheckpoint: "commit during a checkpoint", WriteInRebuild: "write below the cursor of a rebuild", WriteMirrored: "write mirrored onto a copy",
	ColumnsRecovered: "blocks restored from redundancy", ColumnEmpty: "a parity block never written showed that a column is zeros",
	HeadRefuted: "a journal head was refuted", WitnessAccused: "a page was older than its witness", StandInTookOver: "a copy took the place of a member that failed",
	PartOfBlockMerged: "part of a block merged with newer contents", DestagePutBack: "a change went back into the cache",
	ChangeMarked: "a change was marked for a member that is away", ColumnEmptied: "a column became never-written again",
	GivenBack: "blocks were given back", RebuildsTogether: "a rebuild was carried by another",
	WindowHeld: "a window was begun", WindowMoved: "a window was moved", WindowCommitted: "a window was committed", WindowDone: "a window was in place", WindowInTheMiddle: "a window in the middle was moved", WindowJumped: "a change of layout passed over what was never written", TurnedBack: "a change of layout turned back",
	ParityForsaken: "parity was given up beyond the margin", ParityDoubted: "parity was given up at a start beyond the margin", OwnKept: "what a member that came back holds was all that tells",
	OwnJournalKept: "so was its journal", MemberTakenOut: "a member was taken out of a guarded set", VolumeGivenUp: "a volume was given up", PlaceGivenUp: "a place was given up", OwnNotKept: "what a member that came back holds may be old, and nothing tells", FillingWaits: "a blank disk waited beyond the margin", VanishedJoining: "a member was lost while it came back", ParityForsakenLate: "parity that was back was given up",
	MemberSlept: "a member was put to sleep", SurePageRead: "a page was believed while its witness slept", RestTaken: "a read got the rest of what another had computed",
	SleeperLags: "a member had slept through checkpoints before a start",
	BatchAhead:  "a batch took a change of layout further than the record", BatchAheadDropped: "a batch that was to take a change of layout further was dropped",
}

func (e Event) String() string { return events[e] }

// Mistake is one that the engine can be told to make.
type Mistake int

// The mistakes, each named after what it leaves out or does too early.
const (
	None Mistake = iota
	EntryNotSynced
	PlacedBeforeCommit
	FreshNotSynced
	SingleSumNotEntered
	HeadBeforeData
	SumPagesNotWritten
	MapsBeforeSums
	IncompleteBatchReplayed
	CompletedNotSynced
	LackingTrusted
	OlderOverNewer
	FreshOnTooLittle
	OwnJournalForgotten
	ChangeUnstamped
	SameSumUnstamped
	CopyNotMirrored
	CopyNotMended
	CopyNotSynced
	RestOutlivesChange
	PassesBeforeItsTurn
	NumbersBeginAgain
	ParityNotJournalled
	LeaverNotWrittenDown
	AwayNotMarked
	LateLeaverNotMarked
	ReplayNotMarked
	NothingGivenUp
	BroughtBackWithJournal
	BroughtBackUnsettled
	JoiningHeadClaims
	CleanBeforeWritten
	CleanAfterError
	ChangeInWriteForgotten
	TablesBeforeCache
	WitnessNotCompared
	TornCountsAsNew
	WitnessedTooEarly
	ReturnLosesBase
	ReturnLosesState
	LeftInRosterEpoch
	PartForgetsCache
	LateIsLost
	NotGivenUp
	RebuiltNotSynced
	CursorBeforeData
	FlushForgetsOut
	BegunFlushJoined
	LateAnswerForgotten
	PutBackUncounted
	AheadUnjudged
	ReadsOutFirst
	CopyNotTold
	TaskNotSuperseded
	GivenBackThoughWritten
	GivenBackWhenStopped
	MissedIsReached
	EmptyBatchReached
	NamesItselfCommitted
	CommittedOutOfOrder
	OnlyLastUnsure
	MovedUnderClients
	MovedInPlace
	BoundaryNotInBatch
	BoundaryBeforeCommit
	BoundaryTooLate
	BoundaryOfBatchForgotten
	CellsNotGivenUp
	MarginOfOneMap
	TwoWitnessedByOne
	WindowTakenForMoved
	ColumnOfOneMember
	DoubtedStaysBlank
	TurnedWithEntries
	OwedNotMarked
	ParityKeptBeyond
	ParityTrustedAtStart
	DroppedThoughKept
	OwnAlwaysKept
	UnsureRowsSkipped
	FilledBeyond
	GivenUpParityKept
	NewsForParityKept
	KnownParityStays
	GapTakenForNone
	SyncSkippedTooEarly
	SleepsWithJournal
	UnsureBelieved
	Mistakes // how many there are
)

var mistakes = [Mistakes]string{
	None: "none", EntryNotSynced: "journal entries are not synced", PlacedBeforeCommit: "in place before the commit",
	FreshNotSynced: "fresh blocks are committed before they are synced", SingleSumNotEntered: "checksums of single blocks are not entered",
	HeadBeforeData: "a checkpoint does not sync the data", SumPagesNotWritten: "a checkpoint forgets the checksum pages",
	MapsBeforeSums: "map pages are written before checksum pages", IncompleteBatchReplayed: "the last batch is replayed although it is incomplete",
	CompletedNotSynced: "a completed batch is not synced", LackingTrusted: "members that lack an entry are trusted",
	OlderOverNewer: "older payload over newer contents", FreshOnTooLittle: "a column counts as fresh on too little evidence",
	OwnJournalForgotten: "a returned member's own journal is forgotten", ChangeUnstamped: "changes are not stamped with their epoch",
	SameSumUnstamped: "only new sums are stamped with their epoch", CopyNotMirrored: "writes are not mirrored onto a copy",
	CopyNotMended: "copies are not mended after a crash", CopyNotSynced: "a copy's cursor is saved before the copy is durable",
	RestOutlivesChange:  "what was kept of a stripe outlives a change of it",
	PassesBeforeItsTurn: "a cursor passes a piece that is still being worked on",
	NumbersBeginAgain:   "batch numbers begin again", ParityNotJournalled: "parity of overwrites is not journalled",
	LeaverNotWrittenDown: "a member that left is not written down", AwayNotMarked: "changes while a member is away are not marked",
	LateLeaverNotMarked: "batches that lose a member are not marked", ReplayNotMarked: "replayed batches are not marked",
	NothingGivenUp: "brought back without giving anything up", BroughtBackWithJournal: "brought back with its journal",
	BroughtBackUnsettled: "brought back before the others have settled", JoiningHeadClaims: "a joining head claims too much",
	CleanBeforeWritten: "dirty is cleared before the page is written", CleanAfterError: "a page counts as clean although its sync failed",
	TablesBeforeCache: "tables are looked at before the cache", WitnessNotCompared: "witnesses are not compared",
	TornCountsAsNew:        "a torn page counts as its newest sector alone",
	ChangeInWriteForgotten: "a change of a page while it is written is forgotten",
	WitnessedTooEarly:      "pages are witnessed before they are written", ReturnLosesBase: "vanishing during a return loses the base", ReturnLosesState: "vanishing during a return loses the state it had", LeftInRosterEpoch: "a member leaves in the roster's epoch, not its own",
	PartForgetsCache: "a part-block write forgets the cache", LateIsLost: "a disk that is late counts as lost", NotGivenUp: "what is lost of one volume leaves the others without parity", RebuiltNotSynced: "a rebuilt member is active before its tables are durable",
	CopyNotTold:            "a copy is not told what its original bears witness of meanwhile",
	GivenBackThoughWritten: "blocks are given back although they were written again",
	GivenBackWhenStopped:   "blocks are given back although a failed commit may have written them",
	MissedIsReached:        "a missed commit counts as reached",
	BegunFlushJoined:       "a flush goes with one that has begun",
	LateAnswerForgotten:    "what is answered after a write that goes through, in the same stripe, does not count",
	PutBackUncounted:       "what a write that goes through could not commit does not count as answered",
	AheadUnjudged:          "what was read ahead is taken without a look at its checksums",
	EmptyBatchReached:      "a batch that all have left counts as committed",
	NamesItselfCommitted:   "a batch names the one in flight as committed",
	CommittedOutOfOrder:    "a batch is committed before the one before it",
	OnlyLastUnsure:         "only the last batch may be incomplete",
	MovedUnderClients:      "a window is moved under clients", MovedInPlace: "a window is moved in place, without the journals",
	BoundaryNotInBatch: "a batch that moves a window does not say so", BoundaryBeforeCommit: "the boundary is written down before the commit",
	BoundaryTooLate: "a checkpoint comes before the boundary is written down", BoundaryOfBatchForgotten: "a start does not go by the boundary of a batch",
	CellsNotGivenUp: "cells that are given up keep their sums", MarginOfOneMap: "a loss while a window moves is judged by one map",
	TwoWitnessedByOne: "one member is to keep the witnesses of two", WindowTakenForMoved: "a rescue takes a window for moved that may not be",
	ColumnOfOneMember: "a window that empties a block of one member is not told to others of its column", DoubtedStaysBlank: "a map page that rotted still counts as blank",
	OwedNotMarked: "own data that changes without its disk is not marked", ParityKeptBeyond: "parity of what a lost member may have counts", ParityTrustedAtStart: "a start trusts parity of what a lost member may have",
	DroppedThoughKept: "a member that comes back keeps batches that were dropped", OwnAlwaysKept: "all that a member that comes back holds counts",
	GivenUpParityKept: "the parity of a volume that was given up counts", NewsForParityKept: "parity counts that has nothing of what a disk keeps from its journal", KnownParityStays: "parity of what was there before a place was given up counts", UnsureRowsSkipped: "a catch-up skips what nobody has marked", FilledBeyond: "a blank disk is filled although nothing tells what it should hold",
	GapTakenForNone:     "a batch of which nobody has anything counts, since a later one is there",
	SyncSkippedTooEarly: "a disk that falls asleep counts as synced", SleepsWithJournal: "a member sleeps with a batch in its journal",
	UnsureBelieved:    "a page that was not compared is believed while its witness sleeps",
	TurnedWithEntries: "a change of layout turns with boundaries of the other way in the journals",
	TaskNotSuperseded: "a replacement leaves the task for its slot running", CursorBeforeData: "a rebuild's cursor is saved before its data", FlushForgetsOut: "a flush does not wait for what is being destaged", ReadsOutFirst: "reads prefer what is being destaged to what came after",
}

func (m Mistake) String() string { return mistakes[m] }
