//go:build !linux

package disk

// Holders says in words who uses a disk besides this program; nothing is known of that here.
func Holders(string) []string { return nil }

func programs(string) []string { return nil }

// WritersOf says in words who may be writing to a device; nothing is known of that here.
func WritersOf(string) []string { return nil }
