//go:build !machine

package probe

// Seen counts an event.
func (e Event) Seen() {}

// On says whether the engine is to make the mistake.
func (m Mistake) On() bool { return false }

// Soil fills memory that its new user is to overwrite.
func Soil([]byte) {}
