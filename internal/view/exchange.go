package view

import (
	"fmt"
	"slices"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/exchange"
)

// ExchangeLine is where an exchange stands, in one line.
func (s *Screen) ExchangeLine(x exchange.Exchange) string {
	path := x.Path()
	return fmt.Sprintf("step %d of %d  %s", slices.Index(path, x.Step)+1, len(path), capital(or(x.Says, string(x.Step))))
}

// Exchanges lists exchanges of disks.
func (s *Screen) Exchanges(all []exchange.Exchange) {
	if len(all) == 0 {
		s.Printf("No disk was ever exchanged here.\n")
		s.Next([]string{"nidalo exchange NAME DISK   leads through it"})
		return
	}
	t := s.table(table.Row{"begun", "array", "slot", "old disk", "new disk", "step"}, 3)
	for _, x := range all {
		old, now := x.Old.Name(), or(x.New.Name(), "-")
		t.AppendRow(table.Row{x.Started.Local().Format("Jan 2 15:04"), x.Name, x.Slot, old, now, string(x.Step)})
	}
	t.Render()
	for _, x := range all {
		if x.Step.Over() {
			s.Printf("%s\n", wrap(x.Name+", slot "+fmt.Sprint(x.Slot)+": "+x.Result, s.Width, "   "))
		} else {
			s.Printf("%s\n", wrap(x.Name+", slot "+fmt.Sprint(x.Slot)+": "+s.ExchangeLine(x), s.Width, "   "))
		}
	}
}
