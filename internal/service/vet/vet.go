package vet

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"nidalo/core/health"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/service/queue"
)

// The passes of a vet: a pattern is written, it is read back, and zeros are written.
const (
	writePattern = iota
	readPattern
	writeZeros
	Passes
)

const (
	notes  = 500 // times that the place of a vet is noted at least
	sample = 64  // a quick vet looks at one piece of so many
	places = 20
	// mostErrors is after how many wrong pieces a vet has seen enough.
	mostErrors = 100
)

// Passed says that a vet came to its end and nothing was wrong.
func Passed(v control.Vetting) bool { return !v.Ended.IsZero() && v.Errors == 0 && len(v.Failing) == 0 }

// Bytes is what all passes of a vet move altogether.
func Bytes(v control.Vetting) int64 {
	n := v.Size * Passes
	if v.Quick {
		n /= sample
	}
	return n
}

// vetting is one vet under way.
type vetting struct {
	Host
	control.Vetting
	p         *disk.Patient
	buf, want []byte
	note      func(control.Vetting)
	times     times
	began     time.Time
	moved     int64
	saved     time.Time // when it was noted last, and how far it was
	noted     int64
}

// Vet vets a disk from where v is, and notes how far it is as it goes. It returns v as it is in the end, which is its Ended, or
// when it was stopped.
func (h Host) Vet(v control.Vetting, d disk.Disk, spindle string, stop <-chan struct{}, note func(control.Vetting)) control.Vetting {
	turn := &queue.Entry{Kind: state.TaskVet, Name: v.Name, Disks: []string{spindle}}
	if !h.Queue.Enter(turn, stop) {
		v.State = h.halted(v.State)
		return v
	}
	defer h.Queue.Leave(turn)
	w := &vetting{Host: h, Vetting: v, p: disk.NewPatient(d, disk.DefaultPatience, func() bool { return false }), note: note,
		buf: make([]byte, piece), want: make([]byte, piece), began: time.Now(), saved: time.Now()}
	w.State = state.TaskRunning
	if r, err := w.p.Health(); err == nil && w.Before == nil {
		w.Before = &r
	}
	for ; w.Pass < Passes; w.Pass, w.Cursor = w.Pass+1, 0 {
		if !w.pass(stop) {
			return w.Vetting
		}
	}
	w.end()
	return w.Vetting
}

// pass does one pass from the cursor on. It is false when the vet is over before its time.
func (w *vetting) pass(stop <-chan struct{}) bool {
	for at := w.next(w.Cursor); at < w.Size; at = w.next(at + piece) {
		if stopped(stop) {
			w.State = w.halted(w.State)
			return false
		}
		n := min(piece, w.Size-at)
		began := time.Now()
		if err := w.piece(at, n); err != nil {
			w.State, w.Ended, w.Result = state.TaskFailed, w.Now(), err.Error()
			return false
		}
		if w.times.slow(time.Since(began)) {
			w.Slow++
		}
		w.progress(at+n, n)
		if w.Errors >= mostErrors {
			w.end()
			w.Result = fmt.Sprintf("ended early, after %d pieces were wrong; it is not blank", w.Errors)
			return false
		}
	}
	if err := w.p.Sync(); err != nil {
		w.fault(w.Size, "could not be synced")
	}
	if w.Pass == writePattern {
		w.p.Refresh(0, w.Size) // so that the disk is read, not the system's memory
	}
	return true
}

// next is the first piece at or after a place that the vet looks at: all, or samples with both ends.
func (w *vetting) next(at int64) int64 {
	if !w.Quick || at == 0 || at >= w.Size-piece {
		return at
	}
	const step = piece * sample
	return min((at+step-1)/step*step, max(at, (w.Size-1)/piece*piece))
}

// piece does what the pass does with one piece. An error ends the vet: the disk is not there any more.
func (w *vetting) piece(at, n int64) error {
	var err error
	buf, want := w.buf[:n], w.want[:n]
	did := "written"
	switch w.Pass {
	case writePattern:
		pattern(buf, at, w.Started)
		err = w.p.WriteAt(buf, at)
	case readPattern:
		did = "read"
		pattern(want, at, w.Started)
		if err = w.p.ReadAt(buf, at); err == nil && !bytes.Equal(buf, want) {
			w.fault(at, "came back different")
		}
	case writeZeros:
		clear(buf)
		err = w.p.WriteAt(buf, at)
	}
	if err == nil {
		return nil
	}
	w.fault(at, "could not be "+did)
	if errors.Is(err, disk.ErrGone) || errors.Is(err, disk.ErrHung) {
		return err
	}
	return nil
}

func (w *vetting) fault(at int64, what string) {
	w.Errors++
	if len(w.Places) < places {
		w.Places = append(w.Places, fmt.Sprintf("%s at byte %d", what, at))
	}
}

// progress notes now and then how far the vet is. What is noted as written must be: a vet that goes on reads it back.
func (w *vetting) progress(to, n int64) {
	w.moved += n
	w.Cursor = to
	w.Rate = float64(w.moved) / time.Since(w.began).Seconds()
	w.Percent = 100 * (float64(w.Pass) + float64(w.Cursor)/float64(w.Size)) / Passes
	if time.Since(w.saved) > time.Second || w.moved-w.noted >= Bytes(w.Vetting)/notes {
		if err := w.p.Sync(); err != nil {
			w.fault(to, "could not be synced")
		}
		w.note(w.Vetting)
		w.saved, w.noted = time.Now(), w.moved
	}
}

// end says what the vet found.
func (w *vetting) end() {
	w.Pass, w.Percent, w.Ended, w.State = Passes-1, 100, w.Now(), state.TaskDone
	w.Rate = float64(w.moved) / time.Since(w.began).Seconds()
	what := "all of it"
	if w.Quick {
		what = fmt.Sprintf("samples, one part in %d,", sample)
	}
	w.Result = fmt.Sprintf("%s written and read back, %d pieces wrong, %d slow", what, w.Errors, w.Slow)
	r, err := w.p.Health()
	if err != nil {
		return
	}
	w.After = &r
	if w.Before != nil {
		w.Worse = health.Worse(*w.Before, r)
	}
	if len(w.Worse) > 0 {
		w.Result += "; " + strings.Join(w.Worse, ", ")
	}
	if verdict := health.Judge(r, *cmp.Or(w.Before, &r), health.DefaultRules); verdict.Grade != health.Fine {
		w.Failing = verdict.Reasons
		w.Result += "; it says of itself: " + strings.Join(verdict.Reasons, "; ")
	}
}

// pattern fills a piece so that every word tells where it belongs and which vet wrote it.
func pattern(p []byte, at int64, vet time.Time) {
	x := uint64(vet.UnixNano())
	for i := 0; i+8 <= len(p); i += 8 {
		v := (x ^ uint64(at+int64(i))) * 0x9e3779b97f4a7c15
		binary.LittleEndian.PutUint64(p[i:], v^v>>29|1)
	}
}
