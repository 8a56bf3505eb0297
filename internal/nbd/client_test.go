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
// connection.
func TestNothingLandsAfterAReadWasRevoked(t *testing.T) {
	for what, c := range map[string]struct {
		lets int64 // bytes of the reply that come
		goes bool  // the rest comes at once, when it is revoked
	}{"before the reply": {8, false}, "in the middle of it": {100 << 10, false}, "in the middle, over a slow link": {100 << 10, true}} {
		t.Run(what, func(t *testing.T) {
			lets, goes := c.lets, c.goes
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
				done <- c.ReadRevocable([][]byte{buf}, 0, func(f func()) bool { revoke <- f; return true })
			}()
			f := <-revoke
			if lets > 16 {
				require.Eventually(t, func() bool { c.mu.Lock(); defer c.mu.Unlock(); return len(c.waiting) == 0 }, 10*time.Second, time.Millisecond, "the reply has begun")
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
