package attach

import (
	"errors"
	"log/slog"
	"path/filepath"
	"regexp"
	"sync"
	"time"

	"nidalo/internal/keeper"
	"nidalo/internal/passage"
)

// Door lets the connections of one session of the keeper at a time to an array. A session begins when all requests of the one before
// are done, so that nothing old is written after what came later. The zero Door is ready.
type Door struct {
	mu      sync.Mutex
	session *session
}

// session is the connections of one keeper for one device.
type session struct {
	name    string
	conns   int
	drained chan struct{} // closed when the last of them has left

	asked  bool
	memory *passage.Memory // that it shares; nil: none
}

// drainTime is how long a new session waits for the one before.
const drainTime = 5 * time.Second

// Why a connection is not let in.
var (
	errNotDrained = errors.New("what came over earlier connections is not finished yet")
	errOvertaken  = errors.New("another session was faster")
)

// Enter lets in a connection of a session. It waits for an earlier session for at most drainTime; leave is to be called once.
func (d *Door) Enter(name string) (leave func(), err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if before := d.session; before != nil && before.name != name {
		d.mu.Unlock()
		select {
		case <-before.drained:
		case <-time.After(drainTime):
		}
		d.mu.Lock()
		if d.session == before {
			return nil, errNotDrained
		}
	}
	switch {
	case d.session == nil:
		d.session = &session{name: name, drained: make(chan struct{})}
	case d.session.name != name:
		return nil, errOvertaken
	}
	mine := d.session
	mine.conns++
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if mine.conns--; mine.conns == 0 {
			if mine.memory != nil {
				mine.memory.Close()
			}
			close(mine.drained)
			d.session = nil
		}
	}, nil
}

// Memory is what the session of a connection that is inside shares with its keeper, for a device with that identity; nil: nothing.
func (d *Door) Memory(device, name string, log *slog.Logger) *passage.Memory {
	d.mu.Lock()
	defer d.mu.Unlock()
	s := d.session
	if s == nil || s.name != name {
		return nil
	}
	if !s.asked && sessionName.MatchString(name) {
		var err error
		run := keeper.RunFolder()
		if s.memory, err = passage.Open(filepath.Join(run, passage.Folder), device, name, keeper.CarryPath(run, device)); err != nil {
			log.Info("no memory is shared with the keeper", "device", device, "reason", err)
		}
	}
	s.asked = true
	return s.memory
}

// sessionName is what the name of a session that shares memory looks like: it is part of a path.
var sessionName = regexp.MustCompile("^[A-Z2-7]{12}$")
