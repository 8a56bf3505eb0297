package test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// owner is the host that has the array in service, when one does.
func (f *fleet) owner() (name string) {
	f.t.Helper()
	f.hosts["gull"].eventually("in service", func() bool {
		for n := range f.hosts {
			if f.has(n) {
				name = n
			}
		}
		return name != ""
	})
	return name
}

// Every two of those who take part are parted under load, for longer than lease and patience: each host from etcd and from each lender, with connections that
// are refused and with those that stand and carry nothing. Everything flushed is there afterwards, and there never were two writers.
func TestEveryPairIsParted(t *testing.T) {
	if os.Getenv("NIDALO_CYCLES") == "" {
		t.Skip("make soak does it: NIDALO_CYCLES is not set")
	}
	f := newFleet(t, "gull", "heron")
	f.made("gull", "5", "dunlin:A1", "knot:A1", "ruff:A1")
	var l *load
	seed := uint64(100)
	for _, way := range []int32{refusing, holding} {
		for _, host := range []string{"gull", "heron"} {
			links := append([]*relay{f.etcd[host].relay}, f.ways[host]...)
			for i, link := range links {
				what := fmt.Sprintf("%s from %s, %s", host, []string{"etcd", "dunlin", "knot", "ruff"}[i], map[int32]string{refusing: "refused", holding: "held"}[way])
				before := f.owner()
				seed++
				l = f.hosts[before].load(seed, l)
				time.Sleep(500 * time.Millisecond)
				link.set(way)
				time.Sleep(leaseTime + 3*time.Second)
				after := f.owner()
				t.Logf("%s: %s had it, %s has it", what, before, after)
				if i == 0 && host == before {
					require.NotEqual(t, before, after, "%s", what)
				} else {
					require.Equal(t, before, after, "%s", what)
				}
				link.set(passing)
				l.stop.Store(true)
				<-l.done
				l = f.reads(after, l)
				for other, b := range f.hosts {
					if other != after {
						b.eventually("standing by", func() bool { return strings.Contains(b.nidalo("status"), after+" has it") })
					}
				}
				f.hosts[after].healthy()
			}
		}
	}
	require.Contains(t, f.hosts[f.owner()].nidalo("check", "-wait", "tides"), "no mismatches")
	f.oneWriter()
}
