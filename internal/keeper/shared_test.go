//go:build linux

package keeper

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"
	"nidalo/internal/passage"
)

// breakLink ends a connection, and with it the session, as a dying service would, while the other end goes on with what it has.
func breakLink(p port) {
	p.r.mu.Lock()
	c := p.r.links[0]
	p.r.mu.Unlock()
	c.Abandon()
}

func TestDataPassesThroughSharedMemory(t *testing.T) {
	s := newStore(t, 8<<20)
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	for _, n := range []int{1, 4096, 32 << 10, 32<<10 + 1, 1 << 20, 1<<20 + 1} { // the last goes through the socket
		want := bytes.Repeat([]byte{byte(n), 5, 7}, n)[:n]
		require.NoError(t, p.Write(want, 4711))
		got := make([]byte, n)
		data, place, err := p.look(got, 4711)
		require.NoError(t, err)
		require.Equal(t, n <= 1<<20, place != nil, "%d bytes", n)
		require.True(t, bytes.Equal(want, data))
		if place != nil {
			place.GiveBack()
		}
		_, err = p.Read(got, 4711)
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got))
	}
	left, err := os.ReadDir(filepath.Join(s.run, passage.Folder))
	require.NoError(t, err)
	require.Empty(t, left, "a tray has no name while it is used")
}

// A read goes on in the service although its connection broke. What it reads late must be seen by no other read, of the same session or a later one.
func TestWhatIsReadLateIsSeenByNoOtherRead(t *testing.T) {
	s := newStore(t, 8<<20)
	held, goOn, done := make(chan struct{}), make(chan struct{}), make(chan struct{})
	first := true
	s.reading = func(p []byte, off int64) {
		if off != 1<<20 || !first {
			return
		}
		first = false
		close(held)
		<-goOn
		for i := range p {
			p[i] = 0xee
		}
		close(done)
	}
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	want := bytes.Repeat([]byte{3}, 4096)
	require.NoError(t, p.Write(want, 0))
	got := make(chan error, 1)
	go func() {
		_, err := p.Read(make([]byte, 4096), 1<<20)
		got <- err
	}()
	<-held
	p.r.mu.Lock()
	session := p.r.session
	p.r.mu.Unlock()
	breakLink(p)
	require.NoError(t, <-got, "it is read again in another session")
	p.r.mu.Lock()
	require.NotEqual(t, session, p.r.session)
	p.r.mu.Unlock()
	var places []*passage.Place
	for range 20 {
		data, place, err := p.look(make([]byte, 4096), 0)
		require.NoError(t, err)
		require.NotNil(t, place)
		require.True(t, bytes.Equal(want, data))
		places = append(places, place)
	}
	close(goOn)
	<-done
	for _, place := range places {
		require.True(t, bytes.Equal(want, place.Data))
		place.GiveBack()
	}
}

// A write that was given up when its connection broke may still be taken from the ring by the service. What it finds there must be its own data, however
// much is written meanwhile.
func TestAWriteThatWasGivenUpFindsItsOwnData(t *testing.T) {
	const mine, other, others = 1<<20 - 100, 256 << 10, 40 // more than the ring holds
	s := newStore(t, 32<<20)
	held, goOn, taken := make(chan struct{}), make(chan struct{}), make(chan struct{})
	s.taking = func(n int) {
		if n == mine {
			close(held)
			<-goOn
			time.AfterFunc(100*time.Millisecond, func() { close(taken) })
		}
	}
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	ctx, cancel := context.WithCancel(context.Background())
	given := make(chan error, 1)
	go func() { given <- port{r: p.r, ctx: ctx}.Write(bytes.Repeat([]byte{0xaa}, mine), 0) }()
	<-held
	s.refuses.Store(true)
	breakLink(p)
	time.Sleep(50 * time.Millisecond)
	cancel()
	require.ErrorIs(t, <-given, context.Canceled)
	later := make(chan error, others)
	for i := range int64(others) {
		go func() { later <- p.Write(bytes.Repeat([]byte{0x55}, other), 8<<20+i*other) }()
	}
	time.Sleep(300 * time.Millisecond)
	close(goOn)
	<-taken
	s.mu.Lock()
	require.NotContains(t, s.now[:mine], byte(0x55))
	s.mu.Unlock()
	s.refuses.Store(false)
	for range others {
		require.NoError(t, <-later)
	}
	used, _ := p.r.ring.Used()
	require.NoError(t, p.Flush())
	after, _ := p.r.ring.Used()
	require.Less(t, after, used)
	require.Zero(t, after, "what was in doubt is gone, too")
}

// A write whose connection broke and that the next session answers with an error is of no use any more: the ring can be used on.
func TestAWriteThatTheNextSessionRefusesHoldsNothing(t *testing.T) {
	const mine, other, others = 5000, 256 << 10, 80 // more than twice what the ring holds
	s := newStore(t, 32<<20)
	held, goOn := make(chan struct{}), make(chan struct{})
	first := true // the second is in a later session
	s.taking = func(n int) {
		if n == mine && first {
			first = false
			close(held)
			<-goOn
		}
	}
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	refused := make(chan error, 1)
	go func() { refused <- p.Write(make([]byte, mine), 0) }()
	<-held
	s.full.Store(true)
	breakLink(p)
	require.ErrorIs(t, <-refused, nbd.ErrNoSpace)
	s.full.Store(false)
	close(goOn)
	for i := range int64(others) {
		require.NoError(t, p.Write(make([]byte, other), 8<<20+i%64*other))
	}
	require.NoError(t, p.Flush())
	used, _ := p.r.ring.Used()
	require.Zero(t, used)
}

// While the service is away one tray waits for it, under the name of the session that is tried.
func TestOneTrayWaitsForTheService(t *testing.T) {
	s := newStore(t, 1<<20)
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	trays := func() []os.DirEntry {
		found, err := os.ReadDir(filepath.Join(s.run, passage.Folder))
		require.NoError(t, err)
		return found
	}
	s.kill()
	require.Eventually(t, func() bool { return len(trays()) == 1 }, 5*time.Second, time.Millisecond)
	first := trays()[0]
	at, err := first.Info()
	require.NoError(t, err)
	require.Eventually(t, func() bool { found := trays(); return len(found) == 1 && found[0].Name() != first.Name() }, 5*time.Second, time.Millisecond)
	now, err := trays()[0].Info()
	require.NoError(t, err)
	require.True(t, os.SameFile(at, now))
	s.serve()
	require.NoError(t, p.Write([]byte("data"), 0))
	_, place, err := p.look(make([]byte, 4), 0)
	require.NoError(t, err)
	require.NotNil(t, place)
	place.GiveBack()
	require.Empty(t, trays())
	s.kill()
	require.Eventually(t, func() bool { return len(trays()) == 1 }, 5*time.Second, time.Millisecond)
	p.r.close()
	require.Empty(t, trays(), "a device that ends leaves nothing")
}

// A service that shares nothing is served over the socket alone.
func TestAServiceThatSharesNothingIsUsedAllTheSame(t *testing.T) {
	s := newStore(t, 1<<20)
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	p.r.mu.Lock()
	p.r.run = filepath.Join(s.carry, "no folder")
	p.r.mu.Unlock()
	s.kill()
	s.serve()
	require.NoError(t, p.Write([]byte("data"), 0))
	data, place, err := p.look(make([]byte, 4), 0)
	require.NoError(t, err)
	require.Nil(t, place)
	require.Equal(t, "data", string(data))
}
