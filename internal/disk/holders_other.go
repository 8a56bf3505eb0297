//go:build !linux

package disk

// Holders names the users of a disk besides this program; nothing is known of them here.
func Holders(string) []string { return nil }

func programs(string) []string { return nil }

// WritersOf names the possible writers of a device; nothing is known of them here.
func WritersOf(string) []string { return nil }
