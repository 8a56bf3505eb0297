package remote

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAddressesOfDisks(t *testing.T) {
	for word, want := range map[string]string{
		"nbds://heron/TMK-0193":             "nbds://heron/TMK-0193",
		"nbds://heron:10811/TMK-0193":       "nbds://heron/TMK-0193",
		"nbds://heron:9/TMK-0193":           "nbds://heron:9/TMK-0193",
		"nbds://10.0.0.7//srv/disk one.img": "nbds://10.0.0.7//srv/disk%20one.img",
		"nbd://127.0.0.1/TMK-0193":          "nbd://127.0.0.1/TMK-0193",
		"nbd://[::1]:7/TMK-0193":            "nbd://[::1]:7/TMK-0193",
		"nbds://heron":                      "nbds://heron",
	} {
		a, err := ParseAddress(word)
		require.NoError(t, err, word)
		require.Equal(t, want, a.String())
		again, err := ParseAddress(a.String())
		require.NoError(t, err)
		require.Equal(t, a, again, word)
	}
	for _, word := range []string{"", "heron/TMK-0193", "nbd://heron/TMK-0193", "nbds:///TMK-0193", "nbds://me@heron/x", "nbds://heron/x?y", "nbds://heron:99999/x", "nbds://heron:x/y", "nbds://%zz/x"} {
		_, err := ParseAddress(word)
		require.Error(t, err, word)
	}
}

func TestWishesReadBack(t *testing.T) {
	for _, w := range []Wish{{What: Everything, Owner: "gull"}, {What: "/srv/a@b.img", Owner: "gull"}, {What: "TMK-0193", Owner: "gull", Instance: "ab12", Token: 7, Incarnation: "cd34"}} {
		got, err := ParseWish(w.String())
		require.NoError(t, err)
		require.Equal(t, w, got)
	}
	for _, name := range []string{"", "@", "@gull", "TMK-0193", "TMK-0193@", "x@gull/a", "x@gull/a/b/c", "x@gull/a/1/", "x@gull/a/1/c/d", "x@gull//1/c", "x@\x1b[2J", "x@" + strings.Repeat("g", 100), strings.Repeat("x", 5000) + "@gull"} {
		_, err := ParseWish(name)
		require.Error(t, err, "%.80q", name)
	}
}

func FuzzWish(f *testing.F) {
	f.Add("TMK-0193@gull/ab12/7/cd34")
	f.Add("disks@gull")
	f.Fuzz(func(t *testing.T, name string) {
		if w, err := ParseWish(name); err == nil {
			again, err := ParseWish(w.String())
			require.NoError(t, err)
			require.Equal(t, w, again)
		}
	})
}

func FuzzAbout(f *testing.F) {
	a := About{Host: "heron", Disks: []Lent{{Name: "TMK-0193", Size: 1 << 30, Incarnation: "cd34"}}}
	buf, err := a.Encode()
	require.NoError(f, err)
	require.Len(f, buf, AboutSize)
	f.Add(buf[:300])
	f.Fuzz(func(t *testing.T, buf []byte) {
		a, err := DecodeAbout(buf)
		if err != nil {
			return
		}
		require.NotEmpty(t, a.Host)
		for _, d := range a.Disks {
			require.NotContains(t, d.Incarnation, "/")
			require.NotContains(t, d.Serial+d.Bay+d.Name, "\x1b", "nothing that a terminal obeys")
			require.GreaterOrEqual(t, d.Size, int64(0))
		}
	})
}
