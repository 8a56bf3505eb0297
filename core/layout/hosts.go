package layout

import "slices"

// HostLoss is what becomes of an array when a host is lost with all of its members that are there.
type HostLoss struct {
	Host     string `json:"host"`
	Slots    []int  `json:"slots"`
	Survived bool   `json:"survived"`
}

// WithoutHosts says for each host what its loss would mean, by name. hosts is where the members are, by slot; gone are those that are lost
// already. It is empty where all members are on one host.
func WithoutHosts(m *Map, hosts []string, gone func(slot int) bool) (out []HostLoss) {
	names := slices.Sorted(slices.Values(hosts))
	names = slices.Compact(names)
	if len(names) < 2 {
		return nil
	}
	for _, name := range names {
		loss := HostLoss{Host: name}
		for slot, host := range hosts {
			if host == name && slot < m.Members {
				loss.Slots = append(loss.Slots, slot)
			}
		}
		loss.Survived = m.Survives(func(slot int) bool { return gone(slot) || slot < len(hosts) && hosts[slot] == name })
		out = append(out, loss)
	}
	return out
}
