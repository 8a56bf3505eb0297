package nbd

import (
	"bytes"
	"io"
	"net"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// halting is a way to a server that lets so many bytes of what it says through once it was told to halt, and no more until it goes on.
func halting(t *testing.T, server string, lets int64) (path string, halt, goOn chan struct{}) {
	halt, goOn = make(chan struct{}), make(chan struct{})
	path = filepath.Join(t.TempDir(), "way")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		near, err := l.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial("unix", server)
		if err != nil {
			return
		}
		go func() { _, _ = io.Copy(far, near) }()
		buf := make([]byte, 64<<10)
		for {
			n, err := far.Read(buf)
			if err != nil {
				_ = near.Close()
				return
			}
			told := buf[:n]
			select {
			case <-halt:
				k := min(lets, int64(n))
				_, _ = near.Write(told[:k])
				if lets -= k; lets == 0 {
					<-goOn
					halt = nil
				}
				told = told[k:]
			default:
			}
			_, _ = near.Write(told)
		}
	}()
	return path, halt, goOn
}

// A read that was revoked before its reply comes, or in the middle of it, leaves its buffers alone from then on. Only a reply that has stopped costs the
// connection. So it is with many that were asked for together.
func TestNothingLandsAfterAReadWasRevoked(t *testing.T) {
	for what, c := range map[string]struct {
		lets int64 // bytes of the reply that come
		goes bool  // the rest comes at once, when it is revoked
		many int   // reads that are asked for together
	}{
		"before the reply": {8, false, 1}, "in the middle of it": {100 << 10, false, 1}, "in the middle, over a slow link": {100 << 10, true, 1},
		"before the reply to the first of many": {8, false, 8}, "in the middle of the second of many": {100 << 10, false, 8}, "in the middle of many, over a slow link": {100 << 10, true, 8},
	} {
		t.Run(what, func(t *testing.T) {
			lets, goes := c.lets, c.goes
			many, left := c.many, max(0, c.many-2)
			m, server, _ := serve(t)
			require.NoError(t, m.Write(bytes.Repeat([]byte{7}, 256*4096), 0))
			way, halt, goOn := halting(t, server, lets)
			c, err := Dial("unix", way, "tides")
			require.NoError(t, err)
			defer c.Abandon()
			close(halt)

			buf := make([]byte, 512<<10)
			revoke, done := make(chan func(), 1), make(chan error, 1)
			go func() {
				arm := func(f func()) bool { revoke <- f; return true }
				if each := len(buf) / many; many > 1 {
					done <- c.ReadMany(many, func(i int) ([][]byte, int64) { return [][]byte{buf[i*each:][:each]}, int64(i * each) }, arm)
				} else {
					done <- c.ReadRevocable([][]byte{buf}, 0, arm)
				}
			}()
			f := <-revoke
			if lets > 16 {
				require.Eventually(t, func() bool { c.mu.Lock(); defer c.mu.Unlock(); return len(c.waiting) == left }, 10*time.Second, time.Millisecond, "the reply has begun")
			}
			if goes {
				close(goOn)
			}
			f()
			was := bytes.Clone(buf)
			if !goes {
				close(goOn)
			}
			if err := <-done; lets > 16 && !goes {
				require.ErrorIs(t, err, ErrBroken, "what came of it says nothing")
			} else {
				require.NoError(t, err)
				require.NoError(t, c.ReadAt(make([]byte, 4096), 0), "the connection still works after a reply that was thrown away")
			}
			require.Equal(t, was, buf)
		})
	}
}

// What goes out together all arrives, also beside others; when the connection breaks all of it comes back.
func TestManyGoOutTogether(t *testing.T) {
	_, server, _ := serve(t)
	c, err := Dial("unix", server, "tides")
	require.NoError(t, err)
	defer c.Abandon()
	block := func(i int) []byte { return bytes.Repeat([]byte{byte(i + 1)}, 4096) }
	other := make(chan error, 1)
	go func() { other <- c.WriteAt(block(200), 255*4096) }()
	require.NoError(t, c.WriteMany(100, func(i int) ([][]byte, int64) {
		b := block(i)
		return [][]byte{b[:512], b[512:]}, int64(2*i) * 4096
	}))
	require.NoError(t, <-other)
	got := make([]byte, 256*4096)
	read := func(n int) error {
		return c.ReadMany(n, func(i int) ([][]byte, int64) {
			b := got[i*4096:][:4096]
			return [][]byte{b[:1000], b[1000:]}, int64(i) * 4096
		}, func(func()) bool { return true })
	}
	require.NoError(t, read(256))
	for i := range 100 {
		require.Equal(t, block(i), got[2*i*4096:][:4096])
		require.Equal(t, make([]byte, 4096), got[(2*i+1)*4096:][:4096])
	}
	require.Equal(t, block(200), got[255*4096:])
	got = append(got, make([]byte, 4096)...)
	require.ErrorContains(t, read(257), "answered with error", "what is beyond the end")
	require.NoError(t, c.ReadMany(2, func(i int) ([][]byte, int64) { return [][]byte{got[i*4096:][:4096]}, 0 }, func(revoke func()) bool { return false }))
	require.Equal(t, block(0), got[:4096], "nothing lands where it is not wanted any more")
	require.Equal(t, make([]byte, 4096), got[4096:][:4096])

	require.ErrorIs(t, c.WriteMany(3, func(i int) ([][]byte, int64) { return [][]byte{block(i)}, int64(255+i) * 4096 }), ErrNoSpace, "those beyond the end")
	c.Abandon()
	require.ErrorIs(t, c.WriteMany(3, func(i int) ([][]byte, int64) { return [][]byte{block(i)}, 0 }), ErrBroken)
	require.ErrorIs(t, read(3), ErrBroken)
}

// On an encrypted connection small buffers share records, and what is sent stays the same.
func TestSmallBuffersShareRecords(t *testing.T) {
	var v net.Buffers
	for i, n := range []int{28, 4096, 28, 4096, 28, 4096, 28, 4096, 28, 40 << 10, 28, tlsRecord - 28, 28} {
		v = append(v, bytes.Repeat([]byte{byte(i)}, n))
	}
	var lengths []int
	for _, b := range joined(v) {
		lengths = append(lengths, len(b))
	}
	require.Equal(t, []int{3*(28+4096) + 28, 4096 + 28, 40 << 10, tlsRecord, 28}, lengths)
	require.Equal(t, bytes.Join(v, nil), bytes.Join(joined(v), nil))
}
