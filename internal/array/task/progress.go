package task

import (
	"math"
	"slices"
	"time"

	"nidalo/core/state"
	"nidalo/internal/env"
)

// State is what can be told of a task.
type State struct {
	Kind    state.TaskKind
	Slot    int // the member it is about, or -1
	State   state.TaskState
	Done    int64 // bytes
	Earlier int64 // of them, done before Started
	Total   int64 // bytes; grows when more is written meanwhile
	Moved   int64 // bytes written to the member; less than Done when it had the rest
	Percent float64
	Rate    float64       // bytes per second over the last minute
	Left    time.Duration // negative when not known
	Started time.Time
	Ended   time.Time
	Err     error
	Check   *CheckResult
	Waits   string        // for what, when waiting
	Spread  float64       // of the rate over the last minute, as a share of it: how unsure Left is
	Idle    time.Duration // spent waiting or paused
}

// CheckResult is what a consistency check found. Counts are blocks of 4 KiB on one member.
type CheckResult struct {
	Mismatches   int64
	Repaired     int64
	Unrepairable int64
	Repair       bool
	Places       []Mismatch // the first ones
	Of           []int64    // mismatches by slot, as far as slots have any
}

// Count counts a mismatch of a slot.
func (c *CheckResult) Count(slot int, n int64) {
	for len(c.Of) <= slot {
		c.Of = append(c.Of, 0)
	}
	c.Of[slot] += n
}

// Mismatch is one block that does not agree with the rest of its stripe.
type Mismatch struct {
	Stripe int64
	Slot   int    // the member at fault, or of the parity that does not match
	Block  int64  // of the member's data
	What   string // in words
}

type sample struct {
	at   time.Time
	done int64
}

// Kind is what kind of work it is.
func (t *Task) Kind() state.TaskKind { return t.kind }

// Slot is the member it is about, or -1.
func (t *Task) Slot() int { return t.slot }

// Done is how many bytes are done with.
func (t *Task) Done() int64 { return t.done.Load() }

// Count sets the counters: what the whole task is, and what earlier runs of it did, in bytes.
func (t *Task) Count(done, total int64) {
	t.done.Store(done)
	t.earlier.Store(done)
	t.total.Store(total)
}

// Grow raises the total, if it is less than all.
func (t *Task) Grow(all int64) { t.total.Store(max(t.total.Load(), all, t.done.Load())) }

// Moves counts bytes that were written to the member it is about.
func (t *Task) Moves(bytes int64) { t.moved.Add(bytes) }

// Advance notes progress, at a time of env.
func (t *Task) Advance(now time.Time, bytes int64) {
	done := t.done.Add(bytes)
	if t.total.Load() < done {
		t.total.Store(done)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if n := len(t.samples); n == 0 || now.Sub(t.samples[n-1].at) >= 200*time.Millisecond {
		t.samples = append(t.samples, sample{now, done})
		for len(t.samples) > 2 && now.Sub(t.samples[0].at) > time.Minute {
			t.samples = t.samples[1:]
		}
	}
}

// Resumed notes when it began, perhaps before this run of it, and what it has found so far. A zero time leaves what is known.
func (t *Task) Resumed(started time.Time, saw CheckResult) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.check = saw
	if !started.IsZero() {
		t.started = started
		t.earlier.Store(0)
	}
}

// beganAt notes when it began if that was before this run of it, so that its figures are of all of its life.
func (t *Task) beganAt(at time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !at.IsZero() && at.Before(t.started) {
		t.started = at
		t.earlier.Store(0)
	}
}

// Found is what a check has found so far, and when it began.
func (t *Task) Found() (CheckResult, time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.check, t.started
}

// placesKept bounds the list of mismatches in a result.
const placesKept = 100

// Finds adds to what a check has found.
func (t *Task) Finds(more CheckResult) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.check.Mismatches += more.Mismatches
	t.check.Repaired += more.Repaired
	t.check.Unrepairable += more.Unrepairable
	for slot, n := range more.Of {
		t.check.Count(slot, n)
	}
	if room := placesKept - len(t.check.Places); room > 0 {
		t.check.Places = append(t.check.Places, more.Places[:min(room, len(more.Places))]...)
	}
}

const (
	persistEvery = time.Second // progress is saved at least this often
	pieces       = 256         // and at least this many times in a task
	leastGrain   = 2 << 20
	persistRest  = 50 * time.Millisecond // but not sooner again than this: with small tasks saving would be most of the work
)

// Grain is how finely the progress of a task is kept: a two hundred and fiftieth of it, but not less than 2 MiB.
func (t *Task) Grain() int64 { return max(t.total.Load()/pieces, leastGrain) }

// Saves knows when the progress of a task is made durable: once a second, and sooner when a grain of it was done since. A
// crash repeats two grains at most, or of a task that takes less than half a minute what is done in a second.
type Saves struct {
	t     *Task
	mu    env.Mutex
	begun time.Time
	first int64 // done then
	busy  bool
	at    time.Time
	done  int64 // when saving began last
	kept  int64 // what a crash would not repeat
}

// Saves begins to keep the progress of a task.
func (t *Task) Saves() *Saves {
	now, done := env.Now(), t.done.Load()
	return &Saves{t: t, begun: now, first: done, at: now, done: done, kept: done}
}

// Due says whether it is time to save.
func (s *Saves) Due() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	since := env.Since(s.at)
	return !s.busy && (since > persistEvery || since >= persistRest && s.t.done.Load()-s.done >= s.most()/2)
}

// brief is how long a task may take for a second of it to be no matter.
const brief = 30 * time.Second

// Ahead says whether a task that has begun all of its work up to begun must wait for what is being saved.
func (s *Saves) Ahead(begun int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.busy && begun-s.kept > s.most()
}

// most is how much a crash may repeat, bytes. The lock is held.
func (s *Saves) most() int64 {
	most, second := 2*s.t.Grain(), int64(float64(s.t.done.Load()-s.first)/max(env.Since(s.begun), soonKnown).Seconds())
	if s.t.total.Load() < second*int64(brief/time.Second) {
		most = max(most, second)
	}
	return most
}

// heldMost is how long a task should hold a stripe at most, since clients wait for it. That follows from its speed, which is known after soonKnown.
const heldMost, soonKnown = 80 * time.Millisecond, 10 * time.Millisecond

// Part is how much may be under way at most, bytes: half of what a crash may repeat, or what is done in heldMost if that is less.
func (s *Saves) Part() int64 {
	s.mu.Lock()
	part, took := s.most()/2, env.Since(s.begun)
	s.mu.Unlock()
	rate := s.t.lately()
	if done := s.t.done.Load() - s.first; rate == 0 && done > 0 && took >= soonKnown {
		rate = float64(done) / took.Seconds()
	}
	if rate == 0 {
		return min(part, leastGrain/2)
	}
	return min(part, int64(rate*heldMost.Seconds()))
}

// lately is how much was done in a second between the last two samples, bytes; 0: not known.
func (t *Task) lately() float64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := len(t.samples)
	if n < 2 {
		return 0
	}
	from, to := t.samples[n-2], t.samples[n-1]
	return float64(to.done-from.done) / to.at.Sub(from.at).Seconds()
}

// Keep calls save, and notes when it was and what it made durable.
func (s *Saves) Keep(save func() error) error {
	s.mu.Lock()
	s.busy, s.at, s.done = true, env.Now(), s.t.done.Load()
	s.mu.Unlock()
	err := save()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.busy = false; err == nil {
		s.kept = s.done
	}
	return err
}

// measureAnew forgets the rate so far: it says nothing of what comes.
func (t *Task) measureAnew(now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.base, t.samples = sample{now, t.done.Load()}, nil
}

func (t *Task) view(now time.Time) State {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := State{Kind: t.kind, Slot: t.slot, State: t.state, Done: t.done.Load(), Earlier: t.earlier.Load(), Total: t.total.Load(), Moved: t.moved.Load(), Left: -1,
		Started: t.started, Ended: t.endTime, Err: t.err, Waits: t.waits, Idle: t.idle}
	if s.Total > 0 {
		// What is written meanwhile adds to the total, but what was shown is never taken back.
		t.percent = max(t.percent, min(100*float64(s.Done)/float64(s.Total), 99.9))
	}
	if t.state == state.TaskDone {
		t.percent = 100
	}
	s.Percent, s.Rate, s.Spread = t.percent, t.rate(now), spread(t.samples)
	if s.Rate > 0 && t.state == state.TaskRunning {
		s.Left = time.Duration(float64(s.Total-s.Done) / s.Rate * float64(time.Second))
	}
	if t.kind == state.TaskCheck {
		c := t.check
		c.Places = slices.Clone(c.Places)
		s.Check = &c
	}
	return s
}

// rate is what it did in the last minute, or since measuring began, in bytes per second; t.mu is held.
func (t *Task) rate(now time.Time) float64 {
	if len(t.samples) == 0 {
		return 0
	}
	end := now
	if !t.over.IsZero() {
		end = t.over
	}
	first, base := t.samples[0], t.base
	if base.at.IsZero() {
		base.at = t.began
	}
	if len(t.samples) == 1 || end.Sub(base.at) <= time.Minute {
		first = base
	}
	if d := end.Sub(first.at).Seconds(); d > 0 {
		return float64(t.done.Load()-first.done) / d
	}
	return 0
}

// spread is how unsure the mean rate is: twice its standard error as a share of it, over stretches of a tenth of the time
// each; 1 when there is too little to tell.
func spread(samples []sample) float64 {
	var rates []float64
	if len(samples) < 2 {
		return 1
	}
	stretch := max(time.Second/2, samples[len(samples)-1].at.Sub(samples[0].at)/10)
	last := samples[0]
	for _, s := range samples {
		if d := s.at.Sub(last.at); d >= stretch {
			rates = append(rates, float64(s.done-last.done)/d.Seconds())
			last = s
		}
	}
	if len(rates) < 4 {
		return 1
	}
	mean, sq := 0.0, 0.0
	for _, r := range rates {
		mean += r / float64(len(rates))
	}
	for _, r := range rates {
		sq += (r - mean) * (r - mean) / float64(len(rates))
	}
	if mean == 0 {
		return 1
	}
	return min(1, math.Sqrt(sq)/mean/math.Sqrt(float64(len(rates)))*2)
}
