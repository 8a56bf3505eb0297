package parity

import "testing"

// forKernels runs f with each kernel below the best one, by switching the better ones off.
func forKernels(t *testing.T, f func(t *testing.T)) {
	had2, had512, hadGFNI := useAVX2, useAVX512, useGFNI
	defer func() { useAVX2, useAVX512, useGFNI = had2, had512, hadGFNI }()
	if hadGFNI {
		useGFNI = false
		t.Run(Kernel(), f)
	}
	if had512 {
		useAVX512 = false
		t.Run(Kernel(), f)
	}
	if had2 {
		useAVX2, useAVX512 = false, false
		t.Run(Kernel(), f)
	}
}
