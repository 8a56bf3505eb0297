package cli

import (
	"flag"
	"fmt"
	"slices"
	"time"

	"nidalo/core/exchange"
	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/view"
)

var exchangeCommand = command{name: "exchange", usage: "[-yes] [-check-first] [-vet] [-no-check] [-although-bad] [-leave] [-stop] [-json] [NAME DISK]", short: "be led through the exchange of a disk, step by step", most: 2,
	help: `
Leads through the whole exchange of the disk DISK of the array NAME: says what it costs, declares a member that still works failed, lights
its bay, waits until the disk is taken out and a new one is put in, takes that if it fits and says why when it does not, rebuilds,
checks the whole array, darkens the bay, and writes down what was done: which disk went and which came, how long it took, and how long
the array was without it.

Each step can be left (Ctrl-C, or -leave from the beginning) and is taken up by the same command; the service goes on by
itself, also after a restart, and when the disk was changed while the power was off. -stop ends it; the array stays as it is then.
With -check-first the array is checked before redundancy is given up; with -vet samples of the new disk are tested. Spares wait for
an hour, as long as the array has a margin. Without arguments all exchanges are listed.

To let a disk that works go without losing margin, copy it onto another one with nidalo retire.

  nidalo exchange tides A3
  nidalo exchange -vet -check-first tides TMK-0193
  nidalo exchange`,
	with: func(e *env, f *flag.FlagSet) action {
		var o exchangeOptions
		yesFlag(e, f)
		f.BoolVar(&o.req.First, "check-first", false, "check the array before the member leaves")
		f.BoolVar(&o.req.Vet, "vet", false, "test samples of the new disk before it is trusted")
		f.BoolVar(&o.req.NoCheck, "no-check", false, "do not check the array at the end")
		f.BoolVar(&o.leave, "leave", false, "begin it, and leave it to the service")
		f.BoolVar(&o.req.Stop, "stop", false, "end it early; the array stays as it is")
		althoughBadFlag(f, &o.req.AlthoughBad)
		jsonFlag(e, f)
		return func(args []string) error {
			switch {
			case len(args) == 1:
				return usageError{"which disk of " + args[0] + "?"}
			case len(args) == 0:
				return e.listExchanges()
			}
			o.req.Array, o.req.Disk = args[0], args[1]
			return e.withControl(func(c *control.Control) error { return o.run(e, c) })
		}
	},
}

type exchangeOptions struct {
	req   control.ExchangeRequest
	leave bool
}

func (e *env) listExchanges() error {
	e.looks = true
	return e.withControl(func(c *control.Control) error {
		all, err := c.Exchanges()
		if err != nil {
			return err
		}
		if e.json {
			return e.printJSON(map[string]any{"exchanges": all})
		}
		e.out.Exchanges(all)
		return nil
	})
}

func (o *exchangeOptions) run(e *env, c *control.Control) error {
	var x *exchange.Exchange
	err := e.insist("begin the exchange?", func(force bool) (err error) {
		o.req.Sure = force
		x, err = c.Exchange(o.req)
		return err
	})
	if err != nil {
		return err
	}
	told, p := "", e.err.NewProgress()
	for !x.Step.Over() {
		if line := e.out.ExchangeLine(*x); line != told && !e.json {
			p.End()
			p = e.err.NewProgress()
			e.out.Printf("%s\n", line)
			told = line
		}
		if o.leave {
			break
		}
		o.progress(e, c, *x, p)
		time.Sleep(300 * time.Millisecond)
		if x, err = latest(c, x); err != nil {
			return err
		}
	}
	p.End()
	switch {
	case e.json:
		return e.printJSON(x)
	case x.Step == exchange.Done:
		e.out.Printf("The exchange is done: %s.\n", x.Result)
		if x.Wrong > 0 {
			e.status = Could
		}
	case x.Step == exchange.Left:
		e.out.Printf("The exchange has ended: %s.\n", x.Result)
		e.out.Next([]string{"nidalo status " + x.Name + "   shows how the array is"})
	default:
		e.out.Next([]string{fmt.Sprintf("nidalo exchange %s %s   goes on with it", x.Name, say.Argument(x.Old))})
	}
	return nil
}

// progress shows how far the rebuild or check of the present step is.
func (o *exchangeOptions) progress(e *env, c *control.Control, x exchange.Exchange, p *view.Progress) {
	if e.json || !slices.Contains([]exchange.Step{exchange.CheckFirst, exchange.Rebuild, exchange.Check}, x.Step) {
		return
	}
	st, err := c.Status(x.Name)
	if err != nil || len(st.Arrays) == 0 {
		return
	}
	for _, t := range st.Arrays[0].Tasks {
		if t.Ended == nil && (t.Slot == nil || *t.Slot == x.Slot) {
			p.Show(t)
		}
	}
}

// latest is an exchange as it is now.
func latest(c *control.Control, x *exchange.Exchange) (*exchange.Exchange, error) {
	all, err := c.Exchanges()
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Array == x.Array && all[i].Slot == x.Slot && all[i].Started.Equal(x.Started) {
			return &all[i], nil
		}
	}
	return nil, &control.Error{What: "the exchange is not known any more"}
}
