package view

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/say"
	"nidalo/internal/control"
)

// Lent prints the disks that are lent, or what was done about some.
func (s *Screen) Lent(r *control.LendReply, asked []string, ended bool) {
	switch {
	case ended:
		s.Printf("%s lent no more.\n", say.Count(len(asked), "disk is", "disks are"))
		return
	case len(r.Disks) == 0:
		s.Printf("No disk of this host (%s) is lent.\n", r.Host)
		s.Next([]string{"nidalo lend -to HOST DISK   lets another host use one"})
		return
	}
	t := s.table(table.Row{"disk", "model", "serial", "size", "lent to", "used by", "since", "read", "written", "flushes"}, 4, 8, 9, 10)
	for _, d := range r.Disks {
		used, since, counts := "nobody", "-", []string{"-", "-", "-"}
		switch {
		case d.User != "":
			used, since = d.User, say.Moment(time.Now(), *d.Since)
			counts = []string{say.Size(d.Read), say.Size(d.Written), fmt.Sprint(d.Flushes)}
		case !d.There:
			used = "not there"
		case !r.Runs:
			used = "no service"
		}
		size := "-"
		if d.Size > 0 {
			size = say.Size(d.Size)
		}
		t.AppendRow(table.Row{cmp.Or(d.Bay, d.Path), or(d.Model, "-"), or(d.Serial, "-"), size, strings.Join(d.To, ", "), used, since, counts[0], counts[1], counts[2]})
	}
	t.Render()
	for _, d := range r.Disks {
		if d.Why != "" {
			s.Printf("%s cannot be lent at the moment: %s\n", d.Name, d.Why)
		}
	}
	switch {
	case r.Address == "":
		s.Printf("\nNobody can reach them yet.\n")
		s.Next([]string{"lend.address in nidalo.toml says where they are lent, such as \"0.0.0.0:10811\"; then restart the service"})
	case !r.Runs:
		s.Printf("\nNobody can reach them: no service runs.\n")
		s.Next([]string{"nidalo serve   lends them at " + r.Address})
	default:
		s.Printf("\nThis host is %s, and lends at %s%s.\n", r.Host, r.Address, map[bool]string{true: ", encrypted", false: ", not encrypted"}[r.Encrypted])
	}
}
