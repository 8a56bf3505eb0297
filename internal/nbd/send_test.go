package nbd

import (
	"bufio"
	"bytes"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// inFile is an export that has its data in a file as well.
type inFile struct {
	*memory
	file   *os.File
	sent   atomic.Int64
	failed atomic.Pointer[error]
}

func (x *inFile) Write(p []byte, off int64) error {
	if _, err := x.file.WriteAt(p, off); err != nil {
		return err
	}
	return x.memory.Write(p, off)
}

func (x *inFile) Send(off, length int64, send func(uintptr, int64) error) error {
	if x.failed.Load() != nil {
		return ErrNotTaken
	}
	x.sent.Add(length)
	err := send(x.file.Fd(), off)
	if err != nil {
		x.failed.Store(&err)
	}
	return err
}

func (x *inFile) Names() []string                             { return []string{"tides"} }
func (x *inFile) Open(string, string) (Export, func(), error) { return x, func() {}, nil }
func (x *inFile) dial(t *testing.T, l net.Listener) *Client {
	c, err := Dial("tcp", l.Addr().String(), "tides")
	require.NoError(t, err)
	t.Cleanup(c.Abandon)
	return c
}

func serveFile(t *testing.T) (*inFile, net.Listener) {
	f, err := os.Create(filepath.Join(t.TempDir(), "disk"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	x := &inFile{memory: newMemory(1024), file: f}
	require.NoError(t, f.Truncate(x.Size()))
	s := NewServer(x, slog.New(slog.DiscardHandler))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = s.Serve(l, Budget{}) }()
	t.Cleanup(s.Close)
	return x, l
}

// Long reads that are sent from a file, and short ones and writes on the same connection meanwhile, all get what was written last.
func TestDataGoesFromAFileToTheConnection(t *testing.T) {
	if !canSend {
		t.Skip("not on this system")
	}
	x, l := serveFile(t)
	c := x.dial(t, l)
	var wg sync.WaitGroup
	const share = 1 << 20
	for i := range 4 {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 3))
			base, want := int64(i)*share, make([]byte, share)
			for range 100 {
				off := r.IntN(share)
				n := 1 + r.IntN(share-off)
				if r.IntN(3) == 0 {
					for j := range want[off : off+n] {
						want[off+j] = byte(r.Uint32())
					}
					if err := c.WriteAt(want[off:off+n], base+int64(off)); err != nil {
						t.Error(err)
						return
					}
					continue
				}
				half := n / 2
				got := [][]byte{make([]byte, half), make([]byte, n-half)}
				if err := c.ReadVec(got, base+int64(off)); err != nil {
					t.Error(err)
					return
				}
				if !bytes.Equal(bytes.Join(got, nil), want[off:off+n]) {
					t.Errorf("reader %d gets something else at %d", i, off)
					return
				}
			}
		})
	}
	wg.Wait()
	require.Greater(t, x.sent.Load(), int64(share), "that was sent from the file")
	require.Nil(t, x.failed.Load())
}

// When the file cannot be read, after the reply has begun, the connection ends and the export knows why.
func TestAFileThatEndsEarlyEndsTheConnection(t *testing.T) {
	if !canSend {
		t.Skip("not on this system")
	}
	x, l := serveFile(t)
	c := x.dial(t, l)
	require.NoError(t, x.file.Truncate(300<<10))

	got := make([]byte, 256<<10)
	require.NoError(t, c.ReadAt(got, 0), "where the file is")
	require.ErrorIs(t, c.ReadAt(got, 200<<10), ErrBroken)
	why := x.failed.Load()
	require.NotNil(t, why)
	require.ErrorIs(t, *why, ErrSource)

	require.NoError(t, x.dial(t, l).ReadAt(got, 200<<10), "the next one is read")
}

// A client that leaves while it is sent to is none of the file's fault.
func TestAClientThatLeavesSaysNothingOfTheFile(t *testing.T) {
	if !canSend {
		t.Skip("not on this system")
	}
	x, l := serveFile(t)
	nc, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	_ = nc.(*net.TCPConn).SetReadBuffer(4096)
	c := &Client{nc: nc, in: bufio.NewReader(nc), waiting: map[uint64]*call{}, down: make(chan struct{})}
	require.NoError(t, c.greet("tides", nil, false))
	for i := range 8 {
		_, err := nc.Write(head(cmdRead, 0, uint64(i), 0, 4<<20))
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return x.sent.Load() > 0 }, 10*time.Second, time.Millisecond)
	require.NoError(t, nc.Close())
	require.Eventually(t, func() bool { return x.failed.Load() != nil }, 10*time.Second, time.Millisecond)
	require.NotErrorIs(t, *x.failed.Load(), ErrSource)
}
