//go:build !linux

package keeper

// Steady has nothing to do here.
func Steady() []string { return nil }

// RunFolder is not used here.
func RunFolder() string { return "" }

// Mounts and Holders know nothing here.
func Mounts(string) []string  { return nil }
func Holders(string) []string { return nil }

// Own and OwnName know nothing here.
func Own(string) string     { return "" }
func OwnName(string) string { return "" }

// HostStops knows nothing here.
func HostStops() bool { return false }
