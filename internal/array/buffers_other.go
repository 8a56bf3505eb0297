//go:build !linux

package array

func singlePages([]byte) {}
