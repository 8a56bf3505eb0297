package test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/record"
	"nidalo/internal/disk"
	"nidalo/internal/nbd"
)

// A member that is set back to an earlier state, whole or in part, contradicts no checksum of its own. What it holds must not
// be served, it must be named, and a repair must keep what is newer.
func TestAMemberThatIsSetBackIsNoticed(t *testing.T) {
	parts := map[string]func(p record.Place, block int64, r *rand.Rand) bool{
		"as a whole":         func(record.Place, int64, *rand.Rand) bool { return true },
		"its checksum pages": func(p record.Place, b int64, _ *rand.Rand) bool { return b >= p.SumStart/4096 && b < p.DataStart/4096 },
		"its map pages": func(p record.Place, b int64, _ *rand.Rand) bool {
			return b >= p.MapStart/4096 && b < p.WitnessStart/4096
		},
		"half of all blocks": func(p record.Place, b int64, r *rand.Rand) bool {
			return b >= p.SumStart/4096 && b < p.DataStart/4096 || b >= p.DataStart/4096 && r.IntN(2) == 0
		},
	}
	for _, l := range []struct {
		level   string
		members int
	}{{"5", 4}, {"6", 5}, {"1", 2}, {"1", 3}, {"0", 3}} {
		for how, pick := range parts {
			t.Run(fmt.Sprintf("level %s of %d, %s", l.level, l.members, how), func(t *testing.T) {
				b := newBench(t)
				b.nidalo("lab", "new", "-bays", fmt.Sprint(l.members), "-size", "48MiB")
				args := []string{"create", "-name", "tides", "-level", l.level, "-strip", "16KiB"}
				for i := range l.members {
					args = append(args, fmt.Sprintf("A%d", i+1))
				}
				b.nidalo(args...)
				image := filepath.Join(b.home, "lab", "A2", "disk.img")
				want := make([]byte, 12*mib)
				fill := func(from, to int, seed uint64) {
					r := rand.New(rand.NewPCG(seed, 5))
					for i := from; i < to; i++ {
						want[i] = byte(r.Uint32())
					}
					b.start()
					c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
					require.NoError(t, err)
					for at := from; at < to; at += 64 << 10 {
						require.NoError(t, c.WriteAt(want[at:min(to, at+64<<10)], int64(at)))
					}
					require.NoError(t, c.Flush())
					require.NoError(t, c.Close())
					b.stop(syscall.SIGTERM)
				}
				fill(0, 6*mib, 1)
				before, err := os.ReadFile(image)
				require.NoError(t, err)
				fill(3*mib, 12*mib, 2)

				d, err := disk.Open(image)
				require.NoError(t, err)
				own, err := disk.ReadRecord(d)
				require.NoError(t, err)
				require.NoError(t, d.Close())
				f, err := os.OpenFile(image, os.O_RDWR, 0)
				require.NoError(t, err)
				r := rand.New(rand.NewPCG(7, 7))
				for at := 0; at < len(before); at += 4096 {
					if pick(own.Place, int64(at/4096), r) {
						_, err := f.WriteAt(before[at:at+4096], int64(at))
						require.NoError(t, err)
					}
				}
				require.NoError(t, f.Close())

				b.start()
				read := func() (lost int) {
					c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
					require.NoError(t, err)
					defer c.Close()
					p := make([]byte, 4096)
					for at := 0; at < len(want); at += len(p) {
						if err := c.ReadAt(p, int64(at)); err != nil {
							require.Equal(t, "0", l.level, "block %d: %v", at/4096, err)
							lost++
							continue
						}
						require.True(t, bytes.Equal(want[at:at+4096], p), "block %d is not what was written last", at/4096)
					}
					return lost
				}
				lost := read()
				said := func() int { return strings.Count(b.nidalo("history", "-kind", "member-set-back", "-json"), "A2 (") }
				require.Equal(t, 1, said(), "it is named, once")
				if l.level == "0" {
					require.Equal(t, how != "its map pages", lost > 0, "an error where nothing can tell what is right")
					return
				}
				b.nidalo("check", "-repair", "-wait", "tides")
				require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
				read()
				b.stop(syscall.SIGTERM)
				b.start()
				read()
				require.Equal(t, 1, said(), "it was put right")
				if l.level != "1" || l.members > 2 {
					b.nidalo("fail", "-yes", "tides", "A1") // now what was repaired is needed
				}
				read()
			})
		}
	}
}
