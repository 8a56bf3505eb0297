package service

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"time"

	"nidalo/core/state"
	"nidalo/internal/control"
)

// newFile makes a file that must not be there yet.
func newFile(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	switch {
	case errors.Is(err, os.ErrExist):
		return nil, &control.Error{What: path + " is there already, and is not overwritten", Hints: []string{"name a file that is not there, on a file system with room for what was written"}}
	case err != nil:
		return nil, &control.Error{What: err.Error()}
	}
	return f, nil
}

// copyOut writes all that is known to be written, leaves holes elsewhere, and lists what could not be read beside it.
func (s *Service) copyOut(run *salvage) (err error) {
	a, out, lost := run.array, run.out, run.lost
	list := bufio.NewWriter(lost)
	defer func() {
		err = errors.Join(err, list.Flush(), lost.Sync(), lost.Close(), out.Sync(), out.Close())
	}()
	fmt.Fprintf(list, "# What of %s could not be read and is zeros in %s: where it begins and how long it is, in bytes.\n", a.Name(), out.Name())
	if err := out.Truncate(a.Capacity()); err != nil {
		return err
	}
	var open state.Span
	put := func() {
		if open.Length > 0 {
			fmt.Fprintf(list, "%d %d\n", open.Offset, open.Length)
		}
	}
	buf := make([]byte, rescuePiece)
	began := time.Now()
	for at, end := a.NextWritten(0); at < a.Capacity(); at, end = a.NextWritten(end) {
		for end-at < rescuePiece {
			from, to := a.NextWritten(end)
			if from != end || to-at > rescuePiece || from >= a.Capacity() {
				break
			}
			end = to
		}
		for ; at < end; at += int64(len(buf)) {
			if err := run.stopped(s); err != nil {
				put()
				return err
			}
			buf = buf[:min(rescuePiece, end-at)]
			gaps, err := a.ReadKnown(buf, at)
			if err != nil {
				return err
			}
			if err := writeSparse(out, buf, at); err != nil {
				return err
			}
			var bytes int64
			for _, l := range gaps {
				bytes += l.Length
				if open.Offset+open.Length == l.Offset {
					open.Length += l.Length
					continue
				}
				put()
				open = l
			}
			s.mu.Lock()
			c := run.reply.Copy
			c.Done += int64(len(buf))
			c.Lost += bytes
			for _, l := range gaps {
				if len(c.Places) < rescuePlaces {
					c.Places = append(c.Places, l)
				}
			}
			c.Total = max(c.Total, c.Done)
			c.Rate = float64(c.Done) / max(time.Since(began).Seconds(), 1e-3)
			s.mu.Unlock()
		}
	}
	put()
	return nil
}

var zeros [64 << 10]byte

// writeSparse leaves holes where there are only zeros.
func writeSparse(f *os.File, p []byte, off int64) error {
	for i := 0; i < len(p); i += len(zeros) {
		part := p[i:min(len(p), i+len(zeros))]
		if bytes.Equal(part, zeros[:len(part)]) {
			continue
		}
		if _, err := f.WriteAt(part, off+int64(i)); err != nil {
			return err
		}
	}
	return nil
}
