package lab

// From sys/unistd.h.
const (
	seekHole = 3
	seekData = 4
)
