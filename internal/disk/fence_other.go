//go:build !linux

package disk

import (
	"errors"

	"nidalo/core/fence"
)

// ErrNoFence is wrapped when a disk has no persistent reservations.
var ErrNoFence = errors.New("it has no persistent reservations")

// Fence can do nothing here.
func Fence(string, uint64, bool) error { return ErrNoFence }

// Unfence can do nothing here.
func Unfence(string, uint64) error { return ErrNoFence }

// FencedBy knows nothing here.
func FencedBy(string) (fence.Held, error) { return fence.Held{}, ErrNoFence }

func refusedByFence(error) bool { return false }
