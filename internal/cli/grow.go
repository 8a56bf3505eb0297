package cli

import (
	"flag"

	"nidalo/internal/control"
)

var growCommand = command{name: "grow", usage: "[-parity] [-wait] [-although-bad] [-yes] NAME [DISK…]", short: "give an array more room, from larger disks or with more of them", least: 1, most: -1,
	help: `
Without disks: takes up the room that all members have since they are on larger disks, or on partitions or files that were made
larger. No data moves, and it takes seconds. As long as some disks are too small, nidalo status says how far it is. Where disks
are of different sizes, the layers that become wider are laid out anew.

With disks: adds them. To a guarded set they come as VOLUME=DISK, each a volume more, in seconds, or with -parity to have
the parity besides those that do. Levels 0, 5, 6 and triple become wider; 10, 50 and 60 get more groups of the size they have; concat goes on
behind its end. The data is spread over all members by a conversion, while the array is used (nidalo help convert).

Clients see the new size when they connect anew, an attached device at once. A conversion can go back
as long as it is under way (nidalo cancel); the rest cannot be taken back.

  nidalo grow tides
  nidalo grow tides B1 B2
  nidalo grow -wait tides B1-B4
  nidalo grow archive charts=B5
  nidalo grow -parity archive B6`,
	with: func(e *env, f *flag.FlagSet) action {
		o := changeOptions(e, f)
		parity := false
		f.BoolVar(&parity, "parity", false, "the disk that is named is to have the parity of a guarded set, besides those that do")
		return func(args []string) error {
			if parity && len(args) != 2 {
				return usageError{"-parity takes a guarded set and one disk"}
			}
			return o.run(e, control.ChangeRequest{Array: args[0], Grow: true, Parity: parity}, args[1:])
		}
	},
}
