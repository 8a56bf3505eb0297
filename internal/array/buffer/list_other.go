//go:build !linux

package buffer

func singlePages([]byte) {}
