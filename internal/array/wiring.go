package array

import (
	"fmt"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/dirty"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/replay"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/stripe"
	"nidalo/internal/array/table"
	"nidalo/internal/array/task"
	"nidalo/internal/env"
)

// newArray makes the rooms of an array, and lets each know of the others what it needs.
func newArray(cfg Config, use roster.Use, lay *layout.Map, rec *record.Record) *Array {
	if cfg.Cache == 0 {
		cfg.Cache = DefaultCache
	}
	if cfg.Tables == 0 {
		cfg.Tables = DefaultTables
	}
	a := &Array{cfg: cfg, stop: make(chan struct{}), emptied: emptied{some: make(chan struct{}, 1)}}
	a.layout.Store(lay)
	a.ranges.init()
	a.anybody.a = a
	a.name.Store(&rec.Name)
	a.slots = member.NewSlots(lay.Members)
	a.roster = roster.New(roster.Host{Slots: a.slots, Layout: a.Layout, Now: a.now, Alive: a.alive, Freeze: a.fail, Say: a.say,
		Forget: func(m *member.Member) { a.tables.Forget(m) }, Agree: cfg.Agree, Use: use, Writer: cfg.Writer}, rec)
	a.judge = member.NewJudge(cfg.Limits, a.roster, &a.stats.InPlace)
	a.tasks = a.newTasks()
	a.cache = dirty.New(cfg.Cache, lay, a.alive)
	a.tables = table.New(table.Host{Slots: a.slots, Roster: a.roster, Missed: a.missed, Wrote: &a.stats.TableBytes, Say: a.say}, cfg.Tables)
	a.stripes = stripe.New(stripe.Host{Slots: a.slots, Tables: a.tables, Scratch: &a.scratch, Layout: a.Layout, Epoch: a.roster.Epoch, Alive: a.alive,
		Changes: func() record.Changes { return a.roster.Now().Changes }, Owed: a.roster.Owed, Counts: &a.stats.Stripes})
	a.journal = journal.New(journal.Host{Slots: a.slots, Tables: a.tables, Fan: &a.fan, Roster: a.roster, Layout: a.Layout, Alive: a.alive,
		Freeze: a.fail, Say: a.say, Covers: a.covers, Emptied: a.noteEmptied, Idle: a.idle, Counts: &a.stats.Journal})
	a.works = task.NewWorks(task.Site{Slots: a.slots, Tables: a.tables, Journal: a.journal, Roster: a.roster, Stripes: a.stripes, Judge: a.judge,
		Scratch: &a.scratch, Layout: a.Layout, Now: a.now, Alive: a.alive, Say: a.say, Healed: a.healed, Zero: a.Zero, Flush: a.Flush, Go: a.workers.Go,
		Unreadable: &a.stats.Stripes.Unreadable, Hold: a.ranges.hold, Settle: a.settleRange, Remap: a.layout.Store, Piece: cfg.MovePiece}, a.tasks)
	return a
}

// covers is called when a checkpoint begins, with the barrier held.
func (a *Array) covers() func(durable bool) {
	a.probeTasks()
	emptied := a.emptied.take()
	return func(durable bool) { a.emptied.settled(emptied, durable) }
}

// noteEmptied is called when blocks became never-written.
func (a *Array) noteEmptied(m *member.Member, block, n int64) {
	if !a.cfg.KeepEmptied {
		a.emptied.note(m, block, n)
	}
}

// idle is called every few seconds.
func (a *Array) idle() {
	a.mending.mu.Lock()
	defer a.mending.mu.Unlock()
	a.sayHealed(env.Now())
}

// missed is called when a change could not be entered because a table of a member cannot be read. A member that the array cannot do
// without, because its disk only hangs, would count with its old contents once the journals are emptied. So nothing more is written, and the
// next start enters the change from the journals.
func (a *Array) missed(m *member.Member, err error) {
	if a.slots.IsCopy(m) {
		a.roster.Fail(m, record.Failed, err)
		return
	}
	a.fail(fmt.Errorf("the checksum table of %w; start the array again when the disk answers", err))
}

// replay finishes what a crash cut short, from the journals.
func (a *Array) replay() error {
	host := replay.Host{Slots: a.slots, Roster: a.roster, Journal: a.journal, Tables: a.tables, Stripes: a.stripes, CopyAgain: a.works.CopyAgain,
		Lacks: a.lacksBatch, Say: a.say, Turn: turning{a}, Alive: a.alive, Failed: ErrFailed, Replayed: &a.stats.Replayed}
	if a.rescue != nil {
		host.Note = func(text string) { a.note("%s", text) }
	}
	return replay.Run(host)
}
