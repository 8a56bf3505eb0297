package buffer

// Zeroed is a slice of n zero values, in the room of another one if that is large enough.
func Zeroed[T any](was []T, n int) []T {
	if cap(was) < n {
		return make([]T, n)
	}
	was = was[:n]
	clear(was)
	return was
}
