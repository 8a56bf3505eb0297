//go:build !linux

package cli

import (
	"flag"

	"nidalo/internal/control"
)

var keeperCommand = command{name: "keeper", usage: "", short: "hold the devices of attached arrays (on Linux only)",
	help: `
Devices are made on Linux only.`,
	with: func(*env, *flag.FlagSet) action {
		return func([]string) error { return &control.Error{What: "arrays can be attached on Linux only"} }
	},
}
