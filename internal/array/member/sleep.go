package member

import (
	"errors"
	"fmt"
)

// Use notes that something is asked of the member for the sake of its data, and not only to keep the array in order.
func (m *Member) Use() {
	if !m.used.Load() {
		m.used.Store(true)
	}
}

// Used says whether something was asked of it since this was called last.
func (m *Member) Used() bool { return m.used.Swap(false) }

// Asleep says whether its disk was put to sleep, and nothing was asked of it since. All that was written to it is durable then.
func (m *Member) Asleep() bool { return m.Patient != nil && m.Patient.Asleep() }

// Wake has a member that sleeps take part in the next checkpoint.
func (m *Member) Wake() {
	if m.Patient != nil {
		m.Patient.Wake()
	}
}

// ErrNoSleep is wrapped when a disk cannot be put to sleep.
var ErrNoSleep = errors.New("it cannot be put to sleep")

// Sleep makes what was written to the member durable and puts its disk to sleep. It says whether it sleeps: it does not when something was
// asked of it meanwhile.
func (m *Member) Sleep() (bool, error) {
	if m.Patient == nil {
		return false, ErrNoSleep
	}
	m.syncs.mu.Lock()
	asleep, unsynced, err := m.Patient.Sleep()
	if unsynced != nil && m.syncs.err == nil {
		m.syncs.err = fmt.Errorf("%w: %w", unsynced, errUnsynced)
	}
	failed := m.syncs.err
	m.syncs.mu.Unlock()
	switch {
	case failed != nil:
		return false, m.WriteProblem(failed)
	case err != nil:
		return false, fmt.Errorf("%w: %w", ErrNoSleep, err)
	}
	return asleep, nil
}
