package cli

import (
	"flag"

	"nidalo/core/say"
	"nidalo/internal/control"
)

var shrinkCommand = command{name: "shrink", usage: "-to SIZE | -free MEMBER,… [-discard] [-spares] [-wait] [-yes] NAME", short: "give an array less capacity, or take disks out of it for good", least: 1, most: 1,
	help: `
With -to: the array has that capacity, rounded up to whole rows. No data moves, and it takes seconds. The disks stay its members;
nidalo grow takes the room up again.

With -free: the array does without those members, which are blank at the end, or hot spares with -spares. What it holds is laid
out anew on the others by a conversion, while clients read and write (nidalo help convert); its capacity and margin are shown
before.

A guarded set lets one member go at a time, in seconds, and its slot stays empty: a parity disk, the one that came last first; or a data
disk on which nothing is written. With -discard its volume is given up: a task empties it first.

Nothing may be written where the array will end: make the file system smaller first, and trim the rest. An end in the middle of an
ext4 or XFS file system, or of a partition, is refused. What else lies there is lost only with -discard, and after a question.

  nidalo shrink tides -to 4TB
  nidalo shrink tides -free A6
  nidalo shrink -wait -spares tides -free A5,A6
  nidalo shrink archive -free B6`,
	with: func(e *env, f *flag.FlagSet) action {
		o := changeOptions(e, f)
		o.freeFlags(f)
		var to string
		f.StringVar(&to, "to", "", "the `SIZE` that it is to have at least")
		return func(args []string) error {
			req := control.ChangeRequest{Array: args[0], Free: o.freed(), Discard: o.discard, Spares: o.spares}
			if (to == "") == (len(req.Free) == 0) {
				return usageError{"say how much is to stay with -to, or which members are to be freed with -free"}
			}
			if to != "" {
				n, err := say.ParseSize(to)
				if err != nil || n <= 0 {
					return usageError{"-to: write a size such as 4TB"}
				}
				req.Shrink = n
			}
			return o.run(e, req, nil)
		}
	},
}
