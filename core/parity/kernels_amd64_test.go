package parity

import "testing"

// forKernels runs f with each kernel below the best one, by switching the better ones off.
func forKernels(t *testing.T, f func(t *testing.T)) {
	had2, had512 := useAVX2, useAVX512
	defer func() { useAVX2, useAVX512 = had2, had512 }()
	if had512 {
		useAVX512 = false
		t.Run(Kernel(), f)
	}
	if had2 {
		useAVX2, useAVX512 = false, false
		t.Run(Kernel(), f)
	}
}
