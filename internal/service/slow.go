package service

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/nbd"
	"nidalo/internal/service/attach"
	"nidalo/internal/traces"
)

// Requests of clients that took long, of which a collector is told.

// Traces is which collector, and of which requests.
type Traces struct {
	Collector string   `toml:"collector"` // OTLP over HTTP; plain at loopback addresses only
	CA        string   `toml:"ca"`        // a PEM file; empty: what the system trusts
	Slower    Duration `toml:"slower"`    // 0: traces.DefaultFrom
}

func (t Traces) settings() traces.Settings {
	return traces.Settings{Collector: t.Collector, CA: t.CA, From: time.Duration(t.Slower)}
}

func (t Traces) check() error {
	switch {
	case t.Collector == "" && t != Traces{}:
		return wrongKey{"traces.collector", `is needed, for example "http://127.0.0.1:4318"`}
	case t.Collector == "":
		return nil
	case t.CA != "" && !filepath.IsAbs(t.CA):
		return wrongKey{"traces.ca", fmt.Sprintf("%q is not an absolute path", t.CA)}
	}
	if err := t.settings().Check(); err != nil {
		return wrongKey{"traces.collector", err.Error()}
	}
	return nil
}

// slowRequests is how many requests wait to be looked into. Those that come while so many wait are only counted.
const slowRequests = 256

// TellSlow begins to tell a collector of slow requests, if the configuration names one. It returns from when a request counts as slow, and who is to hear of
// it, at once; tell is nil when nobody is.
func (s *Service) TellSlow() (from time.Duration, tell func(nbd.Slow), err error) {
	to := s.config().Traces
	if to.Collector == "" {
		return 0, nil, nil
	}
	t, err := traces.New(to.settings(), s.hostName(), s.opt.Log)
	if err != nil {
		return 0, nil, &control.Error{What: fmt.Sprintf("traces in %s: %v", ConfigName, err)}
	}
	heard := make(chan nbd.Slow, slowRequests)
	var missed atomic.Int64
	s.wait.Go(func() {
		for {
			select {
			case r := <-heard:
				about := s.slowRequest(r)
				about.Missed = missed.Swap(0)
				t.Tell(about)
				continue
			case <-s.done:
			}
			ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
			defer cancel()
			if err := t.Close(ctx); err != nil {
				s.opt.Log.Warn("the collector was not told of the last slow requests", "reason", err)
			}
			return
		}
	})
	return t.From(), func(r nbd.Slow) {
		select {
		case heard <- r:
		default:
			missed.Add(1)
		}
	}, nil
}

// slowRequest is what a collector is told of a request: with the array it was for, and what its disks were at.
func (s *Service) slowRequest(r nbd.Slow) traces.Request {
	out := traces.Request{Array: r.Export, Client: r.Peer, What: r.What, Offset: r.Offset, Length: r.Length, Durable: r.Durable, Came: r.Came, Began: r.Began, Ended: r.Ended}
	s.mu.Lock()
	var of *running
	if id, yes := strings.CutPrefix(r.Export, attach.Prefix); yes {
		id, _, _ = strings.Cut(id, "/")
		var slot int
		if of, slot = s.attachedArray(id); of != nil {
			out.Array, out.Volume = of.Name(), volumeName(of, slot)
		}
	} else if name, volume, _ := strings.Cut(r.Export, "/"); s.arrays[name] != nil {
		of, out.Array, out.Volume = s.arrays[name], name, volume
	}
	s.mu.Unlock()
	if of == nil {
		return out
	}
	out.Condition = string(of.Condition())
	for _, t := range of.TaskStates() {
		if t.State == state.TaskRunning {
			out.Tasks = append(out.Tasks, fmt.Sprintf("%s %.0f%%", t.Kind, t.Percent))
		}
	}
	for _, l := range of.Late(r.Came) {
		out.Disks = append(out.Disks, traces.Disk{Name: cmp.Or(l.Disk.Bay, l.Disk.Path), Serial: l.Disk.Serial, What: l.What, Began: l.Began, Ended: l.Ended})
	}
	return out
}

// volumeName is the name of the volume on a slot; empty: there is none.
func volumeName(r *running, slot int) string {
	for _, v := range r.volumes() {
		if v.Slot == slot {
			return v.name
		}
	}
	return ""
}
