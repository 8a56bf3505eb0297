package test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	spans "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"nidalo/internal/nbd"
	"nidalo/internal/traces"
)

// collected is what a collector was told.
type collected struct {
	*httptest.Server
	mu  sync.Mutex
	all []*spans.Span
}

// newCollector listens as a collector of OpenTelemetry does, encrypted or not.
func newCollector(t *testing.T, encrypted bool) *collected {
	c := &collected{}
	c.Server = httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body := io.Reader(r.Body)
		if r.Header.Get("Content-Encoding") == "gzip" {
			body, _ = gzip.NewReader(r.Body)
		}
		raw, _ := io.ReadAll(body)
		var told collector.ExportTraceServiceRequest
		if r.URL.Path != "/v1/traces" || proto.Unmarshal(raw, &told) != nil {
			http.Error(w, "no", http.StatusBadRequest)
			return
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		for _, from := range told.ResourceSpans {
			for _, scope := range from.ScopeSpans {
				c.all = append(c.all, scope.Spans...)
			}
		}
		w.Header().Set("Content-Type", "application/x-protobuf")
	}))
	c.Config.ErrorLog = log.New(io.Discard, "", 0)
	if encrypted {
		c.StartTLS()
	} else {
		c.Start()
	}
	t.Cleanup(c.Close)
	return c
}

// authority is a file with what says that the collector is the one it says it is.
func (c *collected) authority(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "ca.crt")
	require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Certificate().Raw}), 0o600))
	return path
}

// wholes are the requests that it was told of.
func (c *collected) wholes() (out []*spans.Span) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.all {
		if len(s.ParentSpanId) == 0 {
			out = append(out, s)
		}
	}
	return out
}

// parts are those of a request.
func (c *collected) parts(of *spans.Span) (out []*spans.Span) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.all {
		if bytes.Equal(s.ParentSpanId, of.SpanId) {
			out = append(out, s)
		}
	}
	return out
}

func attribute(s *spans.Span, key string) string {
	for _, a := range s.Attributes {
		if a.Key == key {
			return a.Value.GetStringValue()
		}
	}
	return ""
}

// A request that took long is told with what it waited for, and none that did not.
func TestACollectorIsToldOfSlowRequests(t *testing.T) {
	told := newCollector(t, true)
	b := newBench(t)
	b.configure("[traces]\ncollector = \"" + told.URL + "\"\nca = \"" + told.authority(t) + "\"\nslower = \"400ms\"\n")
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB")
	b.start()
	b.nidalo("create", "-yes", "-name", "archive", "-level", "guarded", "-parity", "A3", "logbooks=A1", "charts=A2")
	c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "archive/charts")
	require.NoError(t, err)
	require.NoError(t, c.WriteAt(noise(64<<10), 0))
	require.NoError(t, c.Flush())
	b.nidalo("lab", "damage", "A2", "-latency", "500ms")
	require.NoError(t, c.WriteAt(noise(64<<10), 1<<20))
	require.NoError(t, c.Flush())
	b.nidalo("lab", "damage", "A2", "-mend")
	var flush *spans.Span
	b.eventually("the collector hears of a flush that waited for the disk", func() bool {
		for _, whole := range told.wholes() {
			if whole.Name == "flush" && slices.ContainsFunc(told.parts(whole), func(part *spans.Span) bool { return attribute(part, "nidalo.disk") == "A2" }) {
				flush = whole
			}
		}
		return flush != nil
	})
	require.Equal(t, "archive", attribute(flush, "nidalo.array"))
	require.Equal(t, "charts", attribute(flush, "nidalo.volume"))
	require.Equal(t, "healthy", attribute(flush, "nidalo.condition"))
	require.Contains(t, attribute(flush, "nidalo.client"), "process ")
	for _, part := range told.parts(flush) {
		if strings.HasPrefix(part.Name, "disk ") {
			require.NotEmpty(t, attribute(part, "nidalo.serial"))
		}
	}

	// What is quick is not told. A collector that is away costs nothing but what it would have been told.
	require.NoError(t, c.WriteAt(noise(64<<10), 2<<20))
	require.NoError(t, c.Flush())
	for _, whole := range told.wholes() {
		require.GreaterOrEqual(t, whole.EndTimeUnixNano-whole.StartTimeUnixNano, uint64(4e8))
	}
	told.Close()
	b.nidalo("lab", "damage", "A2", "-latency", "500ms")
	require.NoError(t, c.WriteAt(noise(64<<10), 3<<20))
	require.NoError(t, c.Flush())
	require.NoError(t, c.Close())
	require.Zero(t, b.stop(syscall.SIGTERM))
}

// slow is a request that took two seconds, during which disks did something.
func slow(disks ...traces.Disk) traces.Request {
	now := time.Now()
	return traces.Request{Array: "tides", What: "read", Came: now.Add(-2 * time.Second), Began: now.Add(-time.Second), Ended: now, Disks: disks}
}

func TestACollectorIsWhoItSays(t *testing.T) {
	tell := func(set traces.Settings) string {
		var says bytes.Buffer
		tracer, err := traces.New(set, "gull", slog.New(slog.NewTextHandler(&says, nil)))
		require.NoError(t, err)
		tracer.Tell(slow())
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		require.NoError(t, tracer.Close(ctx))
		return says.String()
	}
	plain, encrypted := newCollector(t, false), newCollector(t, true)
	require.Empty(t, tell(traces.Settings{Collector: plain.URL}))
	require.Len(t, plain.wholes(), 1)
	require.Empty(t, tell(traces.Settings{Collector: encrypted.URL, CA: encrypted.authority(t)}))
	require.Len(t, encrypted.wholes(), 1)
	require.Contains(t, tell(traces.Settings{Collector: encrypted.URL}), "certificate")
	require.Len(t, encrypted.wholes(), 1)
	away := httptest.NewServer(http.RedirectHandler(plain.URL+"/v1/traces", http.StatusTemporaryRedirect))
	t.Cleanup(away.Close)
	require.Contains(t, tell(traces.Settings{Collector: away.URL}), "elsewhere")
	require.Len(t, plain.wholes(), 1)
}

// A flood of slow requests is told in part, and how many were left out is told later. Of many disks those that were busy longest are told.
func TestACollectorIsNotFlooded(t *testing.T) {
	told := newCollector(t, false)
	tracer, err := traces.New(traces.Settings{Collector: told.URL}, "gull", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	now := time.Now()
	var disks []traces.Disk
	for i := range 40 {
		disks = append(disks, traces.Disk{Name: fmt.Sprint("A", i), What: "read", Began: now.Add(-time.Duration(i+1) * 10 * time.Millisecond)})
	}
	disks = append(disks, traces.Disk{Name: "before", What: "read", Began: now.Add(-time.Minute), Ended: now.Add(-30 * time.Second)})
	first := slow(disks...)
	first.Missed = 5
	tracer.Tell(first)
	for range 199 {
		tracer.Tell(slow())
	}
	require.NoError(t, tracer.Close(context.Background()))
	all := told.wholes()
	require.Len(t, all, 100)
	i := slices.IndexFunc(all, func(s *spans.Span) bool { return len(told.parts(s)) > 2 })
	require.GreaterOrEqual(t, i, 0)
	var names []string
	for _, part := range told.parts(all[i]) {
		if strings.HasPrefix(part.Name, "disk ") {
			names = append(names, attribute(part, "nidalo.disk"))
		}
	}
	require.Len(t, names, 16)
	require.Contains(t, names, "A39")
	require.NotContains(t, names, "A0")
	require.NotContains(t, names, "before")
	for _, a := range all[i].Attributes {
		if a.Key == "nidalo.untold" {
			require.EqualValues(t, 5, a.Value.GetIntValue())
			return
		}
	}
	require.Fail(t, "it does not say how many were left out")
}
