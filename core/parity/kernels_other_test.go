//go:build !amd64

package parity

import "testing"

func forKernels(*testing.T, func(*testing.T)) {}
