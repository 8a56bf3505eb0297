//go:build !linux

package cli

import "nidalo/internal/service"

var keeperCommand = command{name: "keeper", usage: "", short: "hold the devices of attached arrays (on Linux only)",
	help: `
Devices are made on Linux only.`,
	run: func(*env, []string) error { return &service.Error{What: "arrays can be attached on Linux only"} },
}
