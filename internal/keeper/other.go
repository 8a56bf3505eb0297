//go:build !linux

package keeper

import "log/slog"

// Steady has nothing to do here.
func Steady() []string { return nil }

// Bury has nothing to do here.
func Bury(string, string, *slog.Logger) {}

// RunFolder is not used here.
func RunFolder() string { return "" }

// CarryPath is not used here.
func CarryPath(run, id string) string { return "" }

// Mounts and Holders know nothing here.
func Mounts(string) []string  { return nil }
func Holders(string) []string { return nil }

// Own and OwnName know nothing here.
func Own(string) string     { return "" }
func OwnName(string) string { return "" }

// HostStops knows nothing here.
func HostStops() bool { return false }
