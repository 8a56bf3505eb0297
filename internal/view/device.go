package view

import (
	"fmt"
	"strings"

	"nidalo/internal/control"
)

// DeviceLines says of an attached array what its device is, in a few lines.
func DeviceLines(name string, d *control.DeviceStatus) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s is a block device of this host: %s.\n", Served(name), DeviceLine(d))
	if d.Kind == "fuse" {
		b.WriteString("It is made in user space, since the kernel has no client of the block protocol. It survives a restart of the service,\nbut not the end of the keeper. Where the module nbd can be loaded (modprobe nbd), attach it anew.\n")
	}
	return b.String()
}

// Served is a name that clients use, in words: that of an array, or of a volume of a guarded set.
func Served(name string) string {
	if strings.Contains(name, "/") {
		return "Volume " + name
	}
	return "Array " + name
}

// DeviceLine is the same in a clause.
func DeviceLine(d *control.DeviceStatus) string {
	if d.Device == "" {
		return "not there: " + d.Reason
	}
	out := d.Path
	if d.Path != d.Device {
		out += " (" + d.Device + ")"
	}
	switch {
	case len(d.UsedBy) > 0:
		out += ", " + strings.Join(d.UsedBy, ", ")
	default:
		out += ", not in use"
	}
	if d.Boot {
		out += ", again after a reboot"
	}
	if !d.Connected {
		out += "; its requests wait for the service"
	}
	if d.Lost {
		out += "; acknowledged writes were lost, and the next flush fails"
	}
	return out
}
