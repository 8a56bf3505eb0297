package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"
)

func noise(n int) []byte {
	out := make([]byte, n)
	r := rand.NewChaCha8([32]byte{1})
	_, _ = r.Read(out)
	return out
}

type surfaceTest struct {
	State  string
	Bad    int64 `json:"unreadable_bytes"`
	Healed int64 `json:"healed_blocks"`
	Result string
	Places []struct {
		Offset int64 `json:"offset_bytes"`
		Length int64 `json:"length_bytes"`
		Uses   []struct {
			What  string
			Array int64
		}
	} `json:"unreadable"`
}

func (b *bench) surface(code int, args ...string) surfaceTest {
	b.t.Helper()
	got, out, errs := b.try(append([]string{"surface", "-wait", "-json"}, args...)...)
	require.Equal(b.t, code, got, "%s%s", out, errs)
	var reply struct {
		Tests []surfaceTest `json:"surface_tests"`
	}
	require.NoError(b.t, json.Unmarshal([]byte(out), &reply))
	require.Len(b.t, reply.Tests, 1)
	return reply.Tests[0]
}

// Every bad place of a disk in use is found, wherever it lies, and is restored from the others when asked. Clients never notice.
func TestASurfaceTestFindsAndHealsWhatTheArrayNeverReads(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "5", "-size", "64MiB")
	b.nidalo("create", "-yes", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	b.start()
	image := b.home + "/image"
	raw := noise(20 << 20)
	require.NoError(t, os.WriteFile(image, raw, 0o600))
	b.tool("nbdcopy", image, b.uri("tides"))

	require.Zero(t, b.surface(0, "A2").Bad)
	// In data, and where nothing was ever written.
	b.nidalo("lab", "damage", "A2", "-unreadable", "8388608:8192,45000000:12288")
	found := b.surface(1, "-again", "A2")
	require.Equal(t, int64(24<<10), found.Bad)
	require.Len(t, found.Places, 2)
	require.Equal(t, int64(8388608), found.Places[0].Offset)
	require.Equal(t, "data", found.Places[0].Uses[0].What)
	at := found.Places[0].Uses[0].Array
	require.Equal(t, "blocks that were never written", found.Places[1].Uses[0].What)

	// A check that does not repair charges them to the member all the same.
	_, _, _ = b.try("check", "-wait", "tides")
	require.Equal(t, 2, b.status().Arrays[0].Members[1].Errors)

	healed := b.surface(0, "-heal", "A2")
	require.Zero(t, healed.Bad, healed.Result)
	require.Equal(t, int64(6), healed.Healed)
	require.Zero(t, b.surface(0, "-again", "A2").Bad)
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")

	// The bytes of the array that were named are the ones that lie there.
	on, err := os.ReadFile(b.home + "/lab/A2/disk.img")
	require.NoError(t, err)
	require.Equal(t, raw[at:at+8192], on[8388608:8388608+8192])
	b.tool("nbdcopy", b.uri("tides"), image+".back")
	back, err := os.ReadFile(image + ".back")
	require.NoError(t, err)
	require.Equal(t, raw, back[:len(raw)])

	// A disk that no array has is only read.
	b.nidalo("lab", "damage", "A5", "-unreadable", "4096:4096")
	require.Equal(t, int64(4096), b.surface(1, "A5").Bad)
	b.refused(1, []string{"no member"}, "surface", "-heal", "A5")
}

// What a write finds wrong while it computes parity is restored and told, like what a read finds.
func TestWhatAWriteHealsIsTold(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB")
	b.nidalo("create", "-yes", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	b.start()
	c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
	require.NoError(t, err)
	defer c.Close()
	raw := noise(16 << 20)
	require.NoError(t, c.WriteAt(raw, 0))
	require.NoError(t, c.Flush())
	// Three strips of A2 follow each other: one is the first data of its stripe, one the second, one parity.
	const strip = 64 << 10
	b.nidalo("lab", "damage", "A2", "-unreadable", fmt.Sprintf("%d:%d", 8<<20, 3*strip))
	for at := 0; at < len(raw); at += 2 * strip {
		copy(raw[at:], noise(strip))
		require.NoError(t, c.WriteAt(raw[at:at+strip], int64(at)))
	}
	require.NoError(t, c.Flush())
	b.eventually("the history tells of it", func() bool {
		return strings.Contains(b.nidalo("history", "-kind", "healed"), "16 wrong or unreadable blocks at stripe")
	})
	got := make([]byte, len(raw))
	require.NoError(t, c.ReadAt(got, 0))
	require.True(t, bytes.Equal(raw, got))
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
}
