package cli

import (
	"flag"
	"strings"

	"nidalo/internal/control"
)

var lendCommand = command{name: "lend", usage: "[-to HOST,…] [-end] [-yes] [-json] [DISK…]", short: "let another host use disks of this one in its arrays; list the disks that are lent", most: -1,
	help: `
A disk that is lent is used by another host as if it were its own: as a member of its arrays, or a spare. It must be blank, or carry a member
that is not in service here, and as long as it is lent nobody on this host uses it. Without disks those that are lent are listed,
with who uses them and how much was read and written since that began.

They are lent where lend.address in nidalo.toml says, and a service must run. Connections are encrypted, and -to names hosts by what is in their
certificates; only on loopback addresses neither is needed. The other host names this one under remote.hosts in its nidalo.toml, and
finds the disks by their serials then, or uses the address of a disk: nbds://HOST/SERIAL.

A disk that another host uses at the moment is taken back (-end) only after a question: its arrays there have less margin
without it.

  nidalo lend
  nidalo lend -to gull A3 A4
  nidalo lend -to gull,plover A5
  nidalo lend -end A5`,
	with: func(e *env, f *flag.FlagSet) action {
		var to string
		req := control.LendRequest{}
		f.StringVar(&to, "to", "", "the `HOSTS` that may use them, with commas between them")
		f.BoolVar(&req.End, "end", false, "take them back")
		yesFlag(e, f)
		jsonFlag(e, f)
		return func(args []string) error {
			e.looks = len(args) == 0
			for _, host := range strings.Split(to, ",") {
				if host != "" {
					req.To = append(req.To, host)
				}
			}
			switch {
			case len(args) == 0 && (req.End || to != ""):
				return usageError{"which disks?"}
			case len(args) > 0 && req.End == (len(req.To) > 0):
				return usageError{"either -to HOST lends disks, or -end takes them back"}
			}
			req.Disks = args
			return e.withControl(func(c *control.Control) (err error) {
				if len(args) > 0 && !req.End {
					if req.Disks, err = e.many(c, args...); err != nil {
						return err
					}
				}
				var r *control.LendReply
				if err = e.insist("Take it back all the same?", func(force bool) (err error) {
					req.Force = force
					r, err = c.Lend(req)
					return err
				}); err != nil {
					return err
				}
				if e.json {
					return e.printJSON(r)
				}
				e.out.Lent(r, args, req.End)
				return nil
			})
		}
	},
}
