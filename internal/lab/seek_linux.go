package lab

import "golang.org/x/sys/unix"

const (
	seekData = unix.SEEK_DATA
	seekHole = unix.SEEK_HOLE
)
