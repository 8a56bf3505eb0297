package queue_test

import (
	"sync"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/require"

	"nidalo/core/state"
	"nidalo/internal/service/queue"
)

// line is a queue with goroutines that enter it. What they did is looked at when all of them wait.
type line struct {
	t     *testing.T
	q     *queue.Queue
	over  chan struct{}
	mu    sync.Mutex
	began []string
	said  []string
}

func (l *line) note(list *[]string, text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	*list = append(*list, text)
}

func (l *line) enter(name string, kind state.TaskKind, array string, margin int, stop chan struct{}, disks ...string) *queue.Entry {
	e := &queue.Entry{Kind: kind, Array: array, Name: name, Disks: disks, Margin: margin, Why: func(why string) { l.note(&l.said, name+" "+why) }}
	if stop == nil {
		stop = l.over
	}
	go func() {
		if l.q.Enter(e, stop) {
			l.note(&l.began, name)
		} else {
			l.note(&l.began, name+" gave up")
		}
	}()
	synctest.Wait()
	return e
}

// now is what began, or was said, since the last time.
func (l *line) now(began []string, said ...string) {
	l.t.Helper()
	synctest.Wait()
	l.mu.Lock()
	defer l.mu.Unlock()
	require.ElementsMatch(l.t, began, l.began)
	require.ElementsMatch(l.t, said, l.said)
	l.began, l.said = nil, nil
}

func play(t *testing.T, story func(l *line)) {
	synctest.Test(t, func(t *testing.T) {
		l := &line{t: t, q: queue.New(), over: make(chan struct{})}
		defer close(l.over)
		story(l)
	})
}

func TestRebuildsGoBeforeChecksAndTogether(t *testing.T) {
	play(t, func(l *line) {
		check := l.enter("tides", state.TaskCheck, "id-tides", 2, nil, "A1", "A2", "A3")
		l.now([]string{"tides"})
		other := l.enter("sonar", state.TaskCheck, "id-sonar", 1, nil, "A5", "A6")
		l.now([]string{"sonar"}) // other disks

		first := l.enter("first", state.TaskRebuild, "id-tides", 1, nil, "A1", "A2", "A3")
		l.now(nil, "first waits for the check of array tides, which uses the same disks")
		require.True(t, l.q.Yields(check))
		require.False(t, l.q.Yields(other))
		l.q.Leave(check)
		l.now([]string{"first"})
		second := l.enter("second", state.TaskRebuild, "id-tides", 1, nil, "A1", "A2", "A3")
		l.now([]string{"second"})

		go func() {
			l.q.Enter(check, nil)
			l.note(&l.began, "tides again")
		}()
		l.now(nil, "tides waits for the rebuild of array first, which uses the same disks")
		l.q.Leave(first)
		l.now(nil, "tides waits for the rebuild of array second, which uses the same disks")
		l.q.Leave(second)
		l.now([]string{"tides again"})
		l.q.Leave(check)
		l.q.Leave(check)
	})
}

func TestTheMostEndangeredArrayGoesFirst(t *testing.T) {
	play(t, func(l *line) {
		vet := l.enter("A1", state.TaskVet, "", 0, nil, "A1")
		l.now([]string{"A1"})
		l.enter("sonar", state.TaskRebuild, "id-sonar", 1, nil, "A1", "A2")
		l.now(nil, "sonar waits for the vet of A1, which shares a disk")
		l.enter("charts", state.TaskCheck, "id-charts", 0, nil, "A1")
		l.enter("tides", state.TaskRebuild, "id-tides", 0, nil, "A1", "A3")
		l.mu.Lock()
		l.said = nil
		l.mu.Unlock()
		l.q.Leave(vet)
		l.now([]string{"tides"}, "sonar waits for the rebuild of array tides, which uses the same disks", "charts waits for the rebuild of array sonar, which uses the same disks")
	})
}

func TestOneThatIsStoppedWhileItWaitsLeaves(t *testing.T) {
	play(t, func(l *line) {
		check := l.enter("tides", state.TaskCheck, "id-tides", 2, nil, "A1")
		stop := make(chan struct{})
		l.enter("rebuild", state.TaskRebuild, "id-tides", 1, stop, "A1")
		l.now([]string{"tides"}, "rebuild waits for the check of array tides, which uses the same disks")
		close(stop)
		l.now([]string{"rebuild gave up"})
		require.False(t, l.q.Yields(check), "nothing waits any more")
	})
}
