package rescue

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

const (
	piece   = 4 << 20  // of the array, read at once
	sparse  = 64 << 10 // so many zeros in a row are left out of the file
	mostBad = 64 << 20 // bytes of a list of ranges
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

// makeFiles makes the files that a rescue writes to.
func (run *Run) makeFiles() (err error) {
	if path := run.Request.Copy; path != "" {
		if run.out, err = newFile(path); err != nil {
			return err
		}
		if run.lost, err = newFile(path + ".lost"); err != nil {
			return err
		}
	}
	if run.Request.List != "" {
		run.list, err = newFile(run.Request.List)
	}
	return err
}

// discard takes back the files that were made for it.
func (run *Run) discard() (err error) {
	for _, f := range []*os.File{run.out, run.lost, run.list} {
		if f != nil {
			err = errors.Join(err, f.Close(), os.Remove(f.Name()))
		}
	}
	return err
}

// gaps writes down what could not be read, in as few lines as possible.
type gaps struct {
	to   *bufio.Writer
	open state.Span
}

func (g *gaps) add(l state.Span) {
	if g.open.Length > 0 && g.open.Offset+g.open.Length == l.Offset {
		g.open.Length += l.Length
		return
	}
	g.put()
	g.open = l
}

func (g *gaps) put() {
	if g.open.Length > 0 {
		fmt.Fprintf(g.to, "%d %d\n", g.open.Offset, g.open.Length)
	}
	g.open = state.Span{}
}

// copyOut writes all that is known to be written, leaves holes elsewhere, and lists what could not be read beside it.
func (run *Run) copyOut() (err error) {
	a, out, lost := run.array, run.out, run.lost
	list := &gaps{to: bufio.NewWriter(lost)}
	defer func() {
		list.put()
		err = errors.Join(err, list.to.Flush(), lost.Sync(), lost.Close(), out.Sync(), out.Close())
	}()
	fmt.Fprintf(list.to, "# What of %s could not be read and is zeros in %s: where it begins and how long it is, in bytes.\n", a.Name(), out.Name())
	if err := out.Truncate(a.Capacity()); err != nil {
		return err
	}
	buf := make([]byte, piece)
	began := time.Now()
	for at, end := run.stretch(0); at < a.Capacity(); at, end = run.stretch(end) {
		for ; at < end; at += int64(len(buf)) {
			buf = buf[:min(piece, end-at)]
			if err := run.copyPiece(buf, at, list, began); err != nil {
				return err
			}
		}
	}
	return nil
}

// stretch is the next stretch of the array that was written, with neighbours up to a whole piece.
func (run *Run) stretch(from int64) (at, end int64) {
	a := run.array
	at, end = a.NextWritten(from)
	for end-at < piece {
		more, to := a.NextWritten(end)
		if more != end || to-at > piece || more >= a.Capacity() {
			break
		}
		end = to
	}
	return at, end
}

func (run *Run) copyPiece(buf []byte, at int64, list *gaps, began time.Time) error {
	if err := run.stopped(); err != nil {
		return err
	}
	missing, err := run.array.ReadKnown(buf, at)
	if err != nil {
		return err
	}
	if err := writeSparse(run.out, buf, at); err != nil {
		return err
	}
	run.set(func(r *control.RescueReply) {
		c := r.Copy
		c.Done += int64(len(buf))
		for _, l := range missing {
			list.add(l)
			c.Lost += l.Length
			if len(c.Places) < places {
				c.Places = append(c.Places, l)
			}
		}
		c.Total = max(c.Total, c.Done)
		c.Rate = float64(c.Done) / max(time.Since(began).Seconds(), 1e-3)
	})
	return nil
}

var zeros [sparse]byte

// writeSparse leaves holes where there are only zeros.
func writeSparse(f *os.File, p []byte, off int64) error {
	for i := 0; i < len(p); i += sparse {
		part := p[i:min(len(p), i+sparse)]
		if bytes.Equal(part, zeros[:len(part)]) {
			continue
		}
		if _, err := f.WriteAt(part, off+int64(i)); err != nil {
			return err
		}
	}
	return nil
}

// ReadRanges reads a list of what could not be read of a disk.
func ReadRanges(path string) (out []disk.Range, err error) {
	unfit := errors.New(path + " cannot be read as a list of ranges")
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, unfit
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, unfit
	}
	lines := bufio.NewScanner(io.LimitReader(f, mostBad))
	for n := 1; lines.Scan(); n++ {
		text, _, _ := strings.Cut(lines.Text(), "#")
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		var r disk.Range
		if _, err := fmt.Sscanf(text, "%d %d", &r.Offset, &r.Length); err != nil || r.Offset < 0 || r.Length <= 0 || r.Offset+r.Length < 0 || len(strings.Fields(text)) != 2 {
			// Nothing of the line is shown, and nothing of the file but this: it may be one that the user cannot read.
			return nil, fmt.Errorf("%s is not a list of ranges (line %d)", path, n)
		}
		out = append(out, r)
	}
	if lines.Err() != nil {
		return nil, unfit
	}
	return out, nil
}
