// Package traces tells a collector, by OpenTelemetry, of requests that took long and of what they waited for.
package traces

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
)

// Settings are where to, and of which requests.
type Settings struct {
	Collector string        // http://127.0.0.1:4318, or https:// for any host: OTLP over HTTP
	CA        string        // of the collector's certificate, a PEM file; empty: those that the system trusts
	From      time.Duration // how long a request takes that is told of; 0: DefaultFrom
}

// DefaultFrom is how long a request takes that is told of when nothing else is said.
const DefaultFrom = 500 * time.Millisecond

// Check looks at the address. It opens nothing.
func (s Settings) Check() error {
	u, err := url.Parse(s.Collector)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return fmt.Errorf("%q: write http://127.0.0.1:4318, or https://HOST:PORT", s.Collector)
	}
	if ip := net.ParseIP(u.Hostname()); u.Scheme == "http" && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("%q: only loopback addresses without encryption; write https://%s", s.Collector, u.Host)
	}
	return nil
}

// Readable looks whether the file is there, and has a certificate in it.
func (s Settings) Readable() error {
	_, err := s.trusted()
	return err
}

// trusted is how the collector shows who it is; nil: as the system has it.
func (s Settings) trusted() (*tls.Config, error) {
	if s.CA == "" {
		return nil, nil
	}
	pem, err := os.ReadFile(s.CA)
	if err != nil {
		return nil, err
	}
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s has no certificate in it", s.CA)
	}
	return &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}, nil
}

// Request is what a client asked for.
type Request struct {
	Array     string
	Volume    string // empty: the array has none
	Condition string // of the array
	Tasks     []string
	Client    string
	What      string // such as "read"
	Offset    int64  // bytes
	Length    int64  // bytes
	Durable   bool   // a write that was to be on the disks before it was answered
	Came      time.Time
	Began     time.Time // to be served
	Ended     time.Time
	Disks     []Disk
	Missed    int64 // requests before it that were slow as well, and that nobody had the time to look into
}

// Disk is an operation of a disk of the array that took long in that time.
type Disk struct {
	Name, Serial string
	What         string // such as "sync"
	Began        time.Time
	Ended        time.Time // zero: it has not ended
}

// Tracer tells the collector. It keeps what a collector that is away would get, up to a bound.
type Tracer struct {
	from   time.Duration
	to     *sdk.TracerProvider
	log    *slog.Logger
	tracer trace.Tracer

	since  time.Time // of this window
	told   int       // in this window
	untold int64     // since the last that was told
}

// In each window at most so many requests are told of, the first ones; how many more there were is told with the next.
const (
	window = 10 * time.Second
	most   = 100
)

// New makes a tracer. The collector need not answer yet.
func New(set Settings, host string, log *slog.Logger) (*Tracer, error) {
	settings, err := set.trusted()
	if err != nil {
		return nil, err
	}
	by := http.DefaultTransport.(*http.Transport).Clone()
	by.TLSClientConfig = settings
	client := &http.Client{Transport: by, Timeout: 5 * time.Second, // and it goes to no other address than the one that was checked
		CheckRedirect: func(*http.Request, []*http.Request) error { return errors.New("it wants to send elsewhere") }}
	out, err := otlptracehttp.New(context.Background(), otlptracehttp.WithEndpointURL(set.Collector), otlptracehttp.WithHTTPClient(client))
	if err != nil {
		return nil, err
	}
	who := resource.NewSchemaless(attribute.String("service.name", "nidalo"), attribute.String("host.name", host))
	t := &Tracer{from: cmp.Or(set.From, DefaultFrom), log: log,
		to: sdk.NewTracerProvider(sdk.WithResource(who), sdk.WithSampler(sdk.AlwaysSample()), sdk.WithBatcher(&quiet{SpanExporter: out, log: log}))}
	t.tracer = t.to.Tracer("nidalo")
	return t, nil
}

// quiet says once when a collector begins not to take what it is sent, and when it takes it again. One call at a time.
type quiet struct {
	sdk.SpanExporter
	log  *slog.Logger
	lost int // spans, since it took the last; 0: it takes them
}

func (q *quiet) ExportSpans(ctx context.Context, spans []sdk.ReadOnlySpan) error {
	err := q.SpanExporter.ExportSpans(ctx, spans)
	switch {
	case err != nil:
		if q.lost == 0 {
			q.log.Warn("the collector does not take what it is told of slow requests", "reason", err)
		}
		q.lost += len(spans)
	case q.lost > 0:
		q.log.Info("the collector takes what it is told of slow requests again", "lost_spans", q.lost)
		q.lost = 0
	}
	return nil
}

// From is how long a request takes that is told of.
func (t *Tracer) From() time.Duration { return t.from }

// Tell tells of a request. It does not wait for the collector. One call at a time.
func (t *Tracer) Tell(r Request) {
	if now := time.Now(); now.Sub(t.since) >= window {
		t.since, t.told = now, 0
	}
	t.untold += r.Missed
	if t.told++; t.told > most {
		t.untold++
		return
	}
	about := []attribute.KeyValue{attribute.String("nidalo.array", r.Array), attribute.String("nidalo.condition", r.Condition), attribute.String("nidalo.client", r.Client)}
	if r.Volume != "" {
		about = append(about, attribute.String("nidalo.volume", r.Volume))
	}
	if r.Length > 0 {
		about = append(about, attribute.Int64("nidalo.offset", r.Offset), attribute.Int64("nidalo.length", r.Length))
	}
	if r.Durable {
		about = append(about, attribute.Bool("nidalo.durable", true))
	}
	if len(r.Tasks) > 0 {
		about = append(about, attribute.StringSlice("nidalo.tasks", r.Tasks))
	}
	if t.untold > 0 {
		about = append(about, attribute.Int64("nidalo.untold", t.untold))
		t.untold = 0
	}
	ctx, whole := t.tracer.Start(context.Background(), r.What, trace.WithTimestamp(r.Came), trace.WithSpanKind(trace.SpanKindServer), trace.WithAttributes(about...))
	for _, part := range []struct {
		name        string
		began, ends time.Time
	}{{"wait", r.Came, r.Began}, {"serve", r.Began, r.Ended}} {
		_, span := t.tracer.Start(ctx, part.name, trace.WithTimestamp(part.began))
		span.End(trace.WithTimestamp(part.ends))
	}
	for _, d := range r.longest() {
		about := []attribute.KeyValue{attribute.String("nidalo.disk", d.Name), attribute.String("nidalo.serial", d.Serial)}
		if d.Ended.IsZero() {
			d.Ended, about = r.Ended, append(about, attribute.Bool("nidalo.unfinished", true))
		}
		_, span := t.tracer.Start(ctx, "disk "+d.What, trace.WithTimestamp(d.Began), trace.WithSpanKind(trace.SpanKindClient), trace.WithAttributes(about...))
		span.End(trace.WithTimestamp(d.Ended))
	}
	whole.End(trace.WithTimestamp(r.Ended))
}

// mostDisks is how many operations of disks are told with a request.
const mostDisks = 16

// longest are the operations of disks that overlapped the request longest.
func (r Request) longest() []Disk {
	overlap := func(d Disk) time.Duration {
		ended := d.Ended
		if ended.IsZero() || ended.After(r.Ended) {
			ended = r.Ended
		}
		return ended.Sub(slices.MaxFunc([]time.Time{d.Began, r.Came}, time.Time.Compare))
	}
	all := slices.DeleteFunc(slices.Clone(r.Disks), func(d Disk) bool { return overlap(d) <= 0 })
	slices.SortFunc(all, func(a, b Disk) int { return cmp.Compare(overlap(b), overlap(a)) })
	return all[:min(len(all), mostDisks)]
}

// Close sends what is left, for as long as ctx lasts.
func (t *Tracer) Close(ctx context.Context) error {
	return errors.Join(t.to.ForceFlush(ctx), t.to.Shutdown(ctx))
}
