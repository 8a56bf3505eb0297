package disk

import (
	"errors"
	"sync"
)

// Revocable is implemented by disks whose reads can be kept from their buffers while they are under way.
type Revocable interface {
	// ReadInto reads into what it asks the landing for.
	ReadInto(l *Landing, off int64) error
}

// Landing is where the data of a read goes, until it is revoked.
type Landing struct {
	bufs [][]byte

	mu      sync.Mutex
	revoked bool
	stop    func()
}

// ErrRevoked is returned by a read that was given up.
var ErrRevoked = errors.New("the read was given up")

// Buffers are where the data goes. Nothing may be put there before Arm said yes.
func (l *Landing) Buffers() [][]byte { return l.bufs }

// Arm says whether data may be put into the buffers, until stop was called, which is not to return before that is over. Each further attempt arms anew.
func (l *Landing) Arm(stop func()) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.stop = stop
	return !l.revoked
}

// Revoked says whether the read was given up.
func (l *Landing) Revoked() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.revoked
}

// revoke returns when nothing is put into the buffers any more.
func (l *Landing) revoke() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.revoked = true; l.stop != nil {
		l.stop()
	}
}
