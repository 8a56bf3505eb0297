package advice

import (
	"fmt"
	"slices"
	"time"

	"nidalo/core/layout"
	"nidalo/core/say"
	"nidalo/core/state"
)

// hosts is the host that each member is on, by slot.
func (a *Array) hosts(own string) []string {
	out := make([]string, len(a.Members))
	for i, m := range a.Members {
		if out[i] = m.Disk.Host; out[i] == "" {
			out[i] = own
		}
	}
	return out
}

// Hosts says what the loss of each host would mean now. own is the name of this one.
func (a *Array) Hosts(own string) []layout.HostLoss {
	return layout.WithoutHosts(a.Map, a.hosts(own), func(slot int) bool { return !a.Members[slot].Condition.Counts() })
}

// HostLine is what the loss of hosts would mean, in a sentence; empty when all members are on one host.
func HostLine(losses []layout.HostLoss) string {
	var fine, stops []string
	for _, l := range losses {
		name := fmt.Sprintf("%s (%s)", l.Host, say.Count(len(l.Slots), "member", "members"))
		if l.Survived {
			fine = append(fine, name)
		} else {
			stops = append(stops, name)
		}
	}
	switch {
	case len(losses) == 0:
		return ""
	case len(stops) == 0:
		return "Any one of its hosts can be lost: " + say.List(fine) + "."
	case len(fine) == 0:
		return "None of its hosts can be lost: " + say.List(stops) + "."
	}
	return "Of its hosts " + say.List(fine) + " can be lost, and " + say.List(stops) + " cannot."
}

// survived counts the hosts whose loss is survived.
func survived(losses []layout.HostLoss) (n int) {
	for _, l := range losses {
		if l.Survived {
			n++
		}
	}
	return n
}

// SurvivedWith is how many losses of a host an array would survive with a disk of some host in a slot. It serves to choose a spare.
func SurvivedWith(lay *layout.Map, hosts []string, slot int, host string) int {
	hosts = slices.Clone(hosts)
	hosts[slot] = host
	return survived(layout.WithoutHosts(lay, hosts, func(int) bool { return false }))
}

// spread says how a member can move so that the loss of one more host is survived.
func (p *planner) spread() {
	a := p.array
	losses := a.Hosts(p.Host)
	away := slices.ContainsFunc(a.Members, func(m Member) bool { return !m.Away.IsZero() })
	if away || a.Condition != state.Healthy || !a.Map.Redundant() || survived(losses) == len(losses) {
		return
	}
	var move *Member
	var onto *Disk
	best, hosts := survived(losses), a.hosts(p.Host)
	for i, m := range a.Members {
		for j, d := range p.Disks {
			host := d.Host
			if host == "" {
				host = p.Host
			}
			if d.State != state.DiskBlank || d.Bad != "" || d.Size < m.Need || p.claimed[d.Path] || host == hosts[m.Slot] || d.Lab != (m.Disk.Bay != "" && !m.Disk.OnDevice()) && d.Host == "" && m.Disk.Host == "" {
				continue
			}
			if n := SurvivedWith(a.Map, hosts, m.Slot, host); n > best {
				best, move, onto = n, &a.Members[i], &p.Disks[j]
			}
		}
	}
	if move == nil {
		return
	}
	p.claimed[onto.Path] = true
	at := slices.IndexFunc(losses, func(l layout.HostLoss) bool { return l.Host == hosts[move.Slot] })
	p.add(Convenient, fmt.Sprintf("%s of its %d members are on %s, and it does not survive the loss of that host", fmt.Sprint(len(losses[at].Slots)), len(a.Members), hosts[move.Slot]),
		"move one onto "+onto.Identity.String()+"; the array stays as it is until the copy is complete", "nidalo retire "+a.Name+" "+p.argument(*move)+" "+say.Argument(onto.Identity), move.Disk)
}

// away says what to do about members whose host does not answer.
func (p *planner) away() {
	a := p.array
	for _, l := range a.Hosts(p.Host) {
		var waits []string
		since := time.Time{}
		var about state.Identity
		for _, slot := range l.Slots {
			m := a.Members[slot]
			if !m.Away.IsZero() {
				waits, since, about = append(waits, say.Short(m.Disk)), m.Away, m.Disk
			}
		}
		if len(waits) > 0 {
			p.add(Now, fmt.Sprintf("host %s is out of touch since %s; %s as missing before long", l.Host, since.Local().Format("15:04:05"), say.Count(len(waits), "member there counts", "members there count")),
				"see whether the host runs and can be reached", "", about)
		}
	}
}
