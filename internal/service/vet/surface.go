package vet

import (
	"errors"
	"fmt"
	"time"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/service/queue"
)

// A surface test reads every sector of a disk, whatever it holds and whatever uses it, and writes nothing. It has a handle of its own, so
// it sees the medium even where the array never reads.

const (
	surfacePlaces = 200
	surfaceNotes  = 5 * time.Second // between two notes of how far it is
	block         = 4 << 10         // the unit in which bad places are told
)

// Member is what is known of a disk that an array in service uses; a nil one is of no array.
type Member struct {
	Uses func(off, n int64) []state.Use                     // what a stretch of the disk is for
	Heal func(off, n int64) (healed, lost int64, err error) // restores a stretch from redundancy; nil: the member cannot be healed
}

// Surface is a surface test to do.
type Surface struct {
	Host
	control.Surface
	Disk    disk.Disk
	Spindle string
	Pacer   *task.Pacer
	Member  func() *Member                // of the disk, as it is at this moment
	Reopen  func() (disk.Disk, error)     // another handle of the disk, which remembers nothing
	Note    func(control.Surface)         // how far it is
	Warn    func(off int64, reason error) // a place could not be healed

	p     *disk.Patient
	buf   []byte
	times times
	began time.Time // when it began to run this time, and from where
	from  int64
	saved time.Time
}

// Run reads from where the test is to the end, or until it is stopped.
func (w *Surface) Run(stop <-chan struct{}) {
	turn := &queue.Entry{Kind: state.TaskSurface, Name: w.Name, Disks: []string{w.Spindle}}
	if !w.enter(turn, stop) {
		return
	}
	defer w.Queue.Leave(turn)
	w.p, w.buf, w.saved = disk.NewPatient(w.Disk, disk.DefaultPatience, func() bool { return false }), make([]byte, piece), time.Now()
	for w.Cursor < w.Size {
		n := min(piece, w.Size-w.Cursor)
		if !w.wait(turn, n, stop) {
			return
		}
		if err := w.piece(n); err != nil {
			w.State, w.Ended, w.ETA, w.Result = state.TaskFailed, w.Now(), nil, err.Error()
			return
		}
		w.progress(n)
	}
	w.Percent, w.ETA = 100, nil
	if w.Surface.Heal {
		w.heal()
		w.readAgain()
	}
	w.Ended, w.State, w.Result = w.Now(), state.TaskDone, w.summary()
}

// enter waits for the turn of the test. It is false when it is stopped.
func (w *Surface) enter(turn *queue.Entry, stop <-chan struct{}) bool {
	if !w.Queue.Enter(turn, stop) {
		return w.halt()
	}
	w.State, w.began, w.from = state.TaskRunning, time.Now(), w.Cursor
	return true
}

func (w *Surface) halt() bool {
	w.State, w.ETA = w.halted(w.State), nil
	return false
}

// wait keeps the test to its pace, and gives way to what is more urgent. It is false when it is stopped.
func (w *Surface) wait(turn *queue.Entry, n int64, stop <-chan struct{}) bool {
	for wait := w.Pacer.Wait(n); wait > 0; wait = w.Pacer.Wait(n) {
		select {
		case <-stop:
			return w.halt()
		case <-time.After(min(wait, 100*time.Millisecond)):
		}
	}
	if w.Queue.Yields(turn) {
		w.Queue.Leave(turn)
		w.State, w.ETA = state.TaskWaiting, nil
		w.Note(w.Surface)
		if !w.enter(turn, stop) {
			return false
		}
	}
	if stopped(stop) {
		return w.halt()
	}
	return true
}

// piece reads the piece at the cursor. An error ends the test: the disk is not there any more.
func (w *Surface) piece(n int64) error {
	w.p.Refresh(w.Cursor, n)
	at := time.Now()
	err := w.p.ReadAt(w.buf[:n], w.Cursor)
	took := time.Since(at)
	switch {
	case errors.Is(err, disk.ErrGone), errors.Is(err, disk.ErrHung):
		return err
	case err != nil:
		w.narrow(w.Cursor, n)
	}
	if w.times.slow(took) {
		if w.Slow++; len(w.SlowAt) < surfacePlaces {
			w.SlowAt = append(w.SlowAt, w.Cursor)
		}
	}
	return nil
}

func (w *Surface) progress(n int64) {
	w.Cursor += n
	w.Rate = float64(w.Cursor-w.from) / max(time.Since(w.began).Seconds(), 1e-3)
	left := float64(w.Size-w.Cursor) / w.Rate
	w.Percent, w.ETA = 100*float64(w.Cursor)/float64(w.Size), &left
	if time.Since(w.saved) > surfaceNotes || w.Size < 1<<30 {
		w.Note(w.Surface)
		w.saved = time.Now()
	}
}

// narrow finds the places of a piece that cannot be read, in steps of one block.
func (w *Surface) narrow(off, n int64) {
	const step = 64 << 10
	for at := off; at < off+n; at += step {
		m := min(step, off+n-at)
		if w.p.ReadAt(w.buf[:m], at) == nil {
			continue
		}
		for b := at; b < at+m; b += block {
			if k := min(block, off+n-b); w.p.ReadAt(w.buf[:k], b) != nil {
				w.bad(b, k)
			}
		}
	}
	if m := w.Member(); m != nil {
		for i := range w.Places {
			if b := &w.Places[i]; b.Offset+b.Length > off {
				b.Uses = m.Uses(b.Offset, b.Length)
			}
		}
	}
}

// bad notes an unreadable stretch, together with the one before it where they touch.
func (w *Surface) bad(off, n int64) {
	w.Bad += n
	if l := len(w.Places) - 1; l >= 0 && w.Places[l].Offset+w.Places[l].Length == off {
		w.Places[l].Length += n
	} else if len(w.Places) < surfacePlaces {
		w.Places = append(w.Places, control.BadPlace{Offset: off, Length: n})
	}
}

// heal restores the unreadable places of a member from redundancy.
func (w *Surface) heal() {
	m := w.Member()
	if m == nil || m.Heal == nil {
		return
	}
	w.Healed, w.Lost = 0, 0
	for _, b := range w.Places {
		if b.Mended {
			continue
		}
		healed, lost, err := m.Heal(b.Offset, b.Length)
		w.Healed, w.Lost = w.Healed+healed, w.Lost+lost
		if err != nil {
			w.Warn(b.Offset, err)
			return
		}
	}
}

// readAgain looks which of the places can be read by now.
func (w *Surface) readAgain() {
	d, err := w.Reopen()
	if err != nil {
		return
	}
	defer d.Close()
	p := disk.NewPatient(d, disk.DefaultPatience, func() bool { return false })
	for i := range w.Places {
		b := &w.Places[i]
		if !b.Mended && p.ReadAt(make([]byte, b.Length), b.Offset) == nil {
			b.Mended = true
			w.Bad -= b.Length
		}
	}
}

// summary is the result in words.
func (w *Surface) summary() string {
	mended := 0
	for _, b := range w.Places {
		if b.Mended {
			mended++
		}
	}
	out := "every sector was read, none is bad"
	switch {
	case w.Bad > 0:
		out = fmt.Sprintf("%s in %s cannot be read", say.Size(w.Bad), say.Count(len(w.Places)-mended, "place", "places"))
	case mended > 0:
		out = "every sector can be read now"
	}
	if mended > 0 {
		out += fmt.Sprintf("; %s mended, %s rewritten", say.Count(mended, "place", "places"), say.Count(w.Healed, "block", "blocks"))
	}
	if w.Lost > 0 {
		out += fmt.Sprintf(", %s could not be restored", say.Count(w.Lost, "block", "blocks"))
	}
	if w.Slow > 0 {
		out += ", " + say.Count(w.Slow, "slow piece", "slow pieces")
	}
	return out
}
