package cli

import (
	"regexp"
	"strings"
	"time"
)

const demoScans = 24 << 20 // bytes of each volume

// archive keeps scans on disks of several sizes, each a volume of its own. One is lost, and the new disk is larger than the parity disk; then two are lost at once.
func (d *demo) archive() error {
	d.say("The scanned log books go onto disks of all sizes that stay separate, under common parity: a guarded set.")
	d.run("lab", "pull", "B4")
	d.run("lab", "insert", "B4", "-size", "128MiB")
	d.run("create", "-name", "archive", "-level", "guarded", "-parity", "B6", "-spin-down", "20m", "logbooks=B3", "maps=B4", "scans=B5")
	volumes := []string{"logbooks", "maps", "scans"}
	sums := map[string][32]byte{}
	for i, v := range volumes {
		sums[v] = d.writeTo("archive/"+v, 0, demoScans, int64(10+i), nil)
	}
	all := func(volumes ...string) {
		for _, v := range volumes {
			d.verifyIn("archive/"+v, "the volume "+v, 0, demoScans, sums[v])
		}
	}

	d.say("A disk is lost. The only new one is larger than the parity disk: it takes the parity over, and the old parity disk the lost one's place.")
	d.run("lab", "pull", "B4")
	all("maps")
	d.run("lab", "pull", "B7")
	d.run("lab", "insert", "B7", "-size", "384MiB")
	d.run("replace", "-parity", "archive", "B4", "B7")
	d.until("the set is healthy again, with the parity on the larger disk", "healthy", "status", "archive")
	all(volumes...)

	d.say("Two disks are lost at once, with parity for one. Only what is on them is out of reach; the other volume is used as before.")
	lost := map[string]string{}
	for _, bay := range []string{"B3", "B5"} {
		lost[bay] = regexp.MustCompile(`[A-Z]{3}-\d+`).FindString(d.run("lab", "pull", bay))
	}
	d.until("the set is in service in part", "partial", "status", "archive")
	all("maps")
	sums["maps"] = d.writeTo("archive/maps", 0, demoScans, 20, nil)
	for bay, serial := range lost {
		d.run("lab", "insert", bay, "-disk", serial)
	}
	d.until("they are back, and the set is healthy", "healthy", "status", "archive")
	all(volumes...)
	return nil
}

// until waits until a command says something, and shows what it says then.
func (d *demo) until(what, says string, args ...string) {
	for range 120 {
		if out, _ := d.typed(args...); strings.Contains(out, says) {
			break
		}
		time.Sleep(250 * time.Millisecond)
	}
	d.hold(what, strings.Contains(d.run(args...), says))
}
