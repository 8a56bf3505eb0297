// Package api carries service.Control over a Unix socket as HTTP and JSON: one POST per call, at /v1/NAME, with the
// request as body. Errors for people come back as such, with status 422.
package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"time"

	"golang.org/x/net/netutil"

	"nidalo/internal/history"
	"nidalo/internal/service"
)

// Socket is where the service of a home listens for commands.
func Socket(home string) string { return filepath.Join(home, "control.sock") }

// LookingSocket is where it listens for commands of those who may only look.
func LookingSocket(home string) string { return filepath.Join(home, "looking.sock") }

// maxBody bounds a request.
const maxBody = 1 << 20

// Handler serves the calls of a control.
func Handler(c service.Control, log *slog.Logger) http.Handler {
	mux := http.NewServeMux()
	looking(mux, c, log)
	handle(mux, log, "create", c.Create)
	handle(mux, log, "fail", nothing(c.Fail))
	handle(mux, log, "replace", c.Replace)
	handle(mux, log, "replace-disk", c.ReplaceDisk)
	handle(mux, log, "check", nothing(c.Check))
	handle(mux, log, "erase", c.Erase)
	handle(mux, log, "choose", c.Choose)
	handle(mux, log, "dissolve", nothing(c.Dissolve))
	handle(mux, log, "start", c.Start)
	handle(mux, log, "stop", nothing(c.Stop))
	handle(mux, log, "rename", nothing(c.Rename))
	handle(mux, log, "retire", c.Retire)
	handle(mux, log, "spare", c.AssignSpare)
	handle(mux, log, "pace", c.SetPace)
	handle(mux, log, "steer", nothing(c.Steer))
	handle(mux, log, "locate", c.Locate)
	handle(mux, log, "inspect", c.Inspect) // of any path, which the service may read and those who only look perhaps not
	handle(mux, log, "vet", c.Vet)
	handle(mux, log, "surface", c.Surface)
	handle(mux, log, "rescue", c.Rescue)
	handle(mux, log, "test-alerts", func(struct{}) ([]service.AlertResult, error) { return c.TestAlerts() })
	handle(mux, log, "acknowledge", nothing(c.Acknowledge))
	handle(mux, log, "attach", c.Attach)
	handle(mux, log, "detach", c.Detach)
	handle(mux, log, "fit", c.Fit)
	return mux
}

// Looking serves the calls that only look.
func Looking(c service.Control, log *slog.Logger) http.Handler {
	mux := http.NewServeMux()
	looking(mux, c, log)
	mux.HandleFunc("POST /v1/", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusUnprocessableEntity)
		_ = json.NewEncoder(w).Encode(&service.Error{What: "you may look here, and change nothing", Hints: []string{"the group in nidalo.toml, and root, may do everything"}})
	})
	return mux
}

func looking(mux *http.ServeMux, c service.Control, log *slog.Logger) {
	handle(mux, log, "disks", func(struct{}) ([]service.DiskInfo, error) { return c.Disks() })
	handle(mux, log, "status", func(name string) (*service.Status, error) { return c.Status(name) })
	handle(mux, log, "may-pull", c.MayPull)
	handle(mux, log, "next", func(struct{}) (*service.NextReply, error) { return c.Next() })
	handle(mux, log, "history", c.History)
	handle(mux, log, "readings", c.Readings)
	handle(mux, log, "health", func(struct{}) ([]service.DiskHealth, error) { return c.Health() })
	handle(mux, log, "what-if", c.WhatIf)
	handle(mux, log, "map", c.Map)
}

func nothing[Q any](f func(Q) error) func(Q) (struct{}, error) {
	return func(q Q) (struct{}, error) { return struct{}{}, f(q) }
}

func handle[Q, R any](mux *http.ServeMux, log *slog.Logger, name string, f func(Q) (R, error)) {
	mux.HandleFunc("POST /v1/"+name, func(w http.ResponseWriter, r *http.Request) {
		var q Q
		d := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody))
		d.DisallowUnknownFields()
		if err := d.Decode(&q); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		result, err := f(q)
		w.Header().Set("Content-Type", "application/json")
		if err != nil {
			var told *service.Error
			if !errors.As(err, &told) {
				told = &service.Error{What: err.Error()}
			}
			log.Debug("call refused", "call", name, "reason", err)
			w.WriteHeader(http.StatusUnprocessableEntity)
			_ = json.NewEncoder(w).Encode(told)
			return
		}
		_ = json.NewEncoder(w).Encode(result)
	})
}

// Listen makes a Unix socket only its owner can use, and a group if one is given, in place of one that a crash left behind.
func Listen(path, group string) (net.Listener, error) {
	if c, err := net.Dial("unix", path); err == nil {
		_ = c.Close()
		return nil, fmt.Errorf("%s: somebody listens there already", path)
	}
	_ = os.Remove(path)
	// The socket is made in a folder only its owner can enter and then moved, so that there is no moment at which
	// others could connect.
	dir, err := os.MkdirTemp(filepath.Dir(path), ".socket")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	inner := filepath.Join(dir, "s")
	l, err := net.Listen("unix", inner)
	if err != nil {
		return nil, fmt.Errorf("%s: %w (socket paths are limited to about 100 characters)", path, err)
	}
	l.(*net.UnixListener).SetUnlinkOnClose(false)
	if err := admit(inner, filepath.Dir(path), group); err != nil {
		_ = l.Close()
		return nil, err
	}
	if err := os.Rename(inner, path); err != nil {
		_ = l.Close()
		return nil, err
	}
	return l, nil
}

// OpenHome lets everybody pass through a home, for the members of two groups. They still may not read what is in it.
func OpenHome(home string) error { return os.Chmod(home, 0o711) }

// admit lets the owner use a socket, and a group if one is given, which may then pass through the home as well.
func admit(socket, home, group string) error {
	if group == "" {
		return os.Chmod(socket, 0o600)
	}
	g, err := user.LookupGroup(group)
	if err != nil {
		return err
	}
	id, err := strconv.Atoi(g.Gid)
	if err != nil {
		return err
	}
	return errors.Join(os.Chown(socket, -1, id), os.Chmod(socket, 0o660), os.Chown(home, -1, id), os.Chmod(home, 0o710))
}

// Serve answers calls on a listener until it is closed. A call may take long, its request not.
func Serve(l net.Listener, h http.Handler) error {
	return serve(l, maxCallers, &http.Server{Handler: h, ReadTimeout: 20 * time.Second, ReadHeaderTimeout: 5 * time.Second, IdleTimeout: time.Minute})
}

// ServeMetrics is Serve for collectors: few, on a network, and quickly answered.
func ServeMetrics(l net.Listener, h http.Handler) error {
	return serve(l, maxCollectors, &http.Server{Handler: h, ReadTimeout: 5 * time.Second, ReadHeaderTimeout: 5 * time.Second,
		WriteTimeout: 20 * time.Second, IdleTimeout: 30 * time.Second})
}

// maxCallers and maxCollectors bound the connections at a time; others wait.
const (
	maxCallers    = 256
	maxCollectors = 16
)

func serve(l net.Listener, most int, s *http.Server) error {
	s.MaxHeaderBytes = 16 << 10
	err := s.Serve(netutil.LimitListener(l, most))
	if errors.Is(err, net.ErrClosed) || errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// Client is a control that asks a service in another process.
type Client struct {
	http *http.Client
}

// Dial connects to the service of a home. It fails with os.ErrNotExist or a refused connection when none is there.
func Dial(home string) (*Client, error) {
	path := Socket(home)
	c, err := net.DialTimeout("unix", path, 5*time.Second)
	if errors.Is(err, os.ErrPermission) {
		path = LookingSocket(home)
		c, err = net.DialTimeout("unix", path, 5*time.Second)
	}
	if err != nil {
		return nil, err
	}
	_ = c.Close()
	return &Client{&http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", path)
	}}}}, nil
}

func call[R any](c *Client, name string, q any) (R, error) {
	var result R
	body, err := json.Marshal(q)
	if err != nil {
		return result, err
	}
	reply, err := c.http.Post("http://nidalo/v1/"+name, "application/json", bytes.NewReader(body))
	if err != nil {
		return result, fmt.Errorf("the service does not answer: %w", err)
	}
	defer reply.Body.Close()
	buf, err := io.ReadAll(reply.Body)
	if err != nil {
		return result, fmt.Errorf("the service does not answer: %w", err)
	}
	switch reply.StatusCode {
	case http.StatusOK:
		return result, json.Unmarshal(buf, &result)
	case http.StatusUnprocessableEntity:
		told := &service.Error{}
		if err := json.Unmarshal(buf, told); err != nil {
			return result, err
		}
		return result, told
	}
	return result, fmt.Errorf("the service answered %s: %s; is it of another version?", reply.Status, bytes.TrimSpace(buf))
}

func (c *Client) Disks() ([]service.DiskInfo, error) {
	return call[[]service.DiskInfo](c, "disks", struct{}{})
}
func (c *Client) Status(name string) (*service.Status, error) {
	return call[*service.Status](c, "status", name)
}
func (c *Client) Create(q service.CreateRequest) (*service.ArrayStatus, error) {
	return call[*service.ArrayStatus](c, "create", q)
}
func (c *Client) Fail(q service.FailRequest) error { return noResult(c, "fail", q) }
func (c *Client) Replace(q service.ReplaceRequest) (*service.ReplaceReply, error) {
	return call[*service.ReplaceReply](c, "replace", q)
}
func (c *Client) Check(q service.CheckRequest) error { return noResult(c, "check", q) }
func (c *Client) Erase(q service.EraseRequest) (*service.DiskInfo, error) {
	return call[*service.DiskInfo](c, "erase", q)
}
func (c *Client) Dissolve(q service.DissolveRequest) error { return noResult(c, "dissolve", q) }
func (c *Client) Start(q service.StartRequest) (*service.ArrayStatus, error) {
	return call[*service.ArrayStatus](c, "start", q)
}
func (c *Client) Stop(name string) error               { return noResult(c, "stop", name) }
func (c *Client) Rename(q service.RenameRequest) error { return noResult(c, "rename", q) }
func (c *Client) Retire(q service.RetireRequest) (*service.ReplaceReply, error) {
	return call[*service.ReplaceReply](c, "retire", q)
}
func (c *Client) AssignSpare(q service.SpareRequest) (*service.SpareReply, error) {
	return call[*service.SpareReply](c, "spare", q)
}
func (c *Client) SetPace(q service.PaceRequest) ([]service.PaceReply, error) {
	return call[[]service.PaceReply](c, "pace", q)
}
func (c *Client) Steer(q service.SteerRequest) error { return noResult(c, "steer", q) }
func (c *Client) MayPull(disk string) (*service.PullReply, error) {
	return call[*service.PullReply](c, "may-pull", disk)
}
func (c *Client) Next() (*service.NextReply, error) {
	return call[*service.NextReply](c, "next", struct{}{})
}
func (c *Client) Locate(q service.LocateRequest) (*service.LocateReply, error) {
	return call[*service.LocateReply](c, "locate", q)
}
func (c *Client) History(q service.HistoryRequest) (*service.HistoryReply, error) {
	return call[*service.HistoryReply](c, "history", q)
}
func (c *Client) WhatIf(q service.WhatIfRequest) ([]service.WhatIfReply, error) {
	return call[[]service.WhatIfReply](c, "what-if", q)
}
func (c *Client) Inspect(disks []string) (*service.InspectReply, error) {
	return call[*service.InspectReply](c, "inspect", disks)
}
func (c *Client) Readings(q service.ReadingsRequest) ([]history.Reading, error) {
	return call[[]history.Reading](c, "readings", q)
}
func (c *Client) Health() ([]service.DiskHealth, error) {
	return call[[]service.DiskHealth](c, "health", struct{}{})
}
func (c *Client) Rescue(q service.RescueRequest) (*service.RescueReply, error) {
	return call[*service.RescueReply](c, "rescue", q)
}

func (c *Client) Map(name string) (*service.MapReply, error) {
	return call[*service.MapReply](c, "map", name)
}

func (c *Client) Vet(q service.VetRequest) ([]service.Vetting, error) {
	return call[[]service.Vetting](c, "vet", q)
}

func (c *Client) Choose(q service.ChooseRequest) (*service.DiskInfo, error) {
	return call[*service.DiskInfo](c, "choose", q)
}

func (c *Client) ReplaceDisk(q service.DiskRequest) (*service.DiskReply, error) {
	return call[*service.DiskReply](c, "replace-disk", q)
}

func (c *Client) Surface(q service.SurfaceRequest) ([]service.Surface, error) {
	return call[[]service.Surface](c, "surface", q)
}

func (c *Client) TestAlerts() ([]service.AlertResult, error) {
	return call[[]service.AlertResult](c, "test-alerts", struct{}{})
}
func (c *Client) Attach(q service.AttachRequest) (*service.DeviceStatus, error) {
	return call[*service.DeviceStatus](c, "attach", q)
}
func (c *Client) Detach(q service.DetachRequest) (*service.DetachReply, error) {
	return call[*service.DetachReply](c, "detach", q)
}
func (c *Client) Fit(q service.FitRequest) (*service.FitReply, error) {
	return call[*service.FitReply](c, "fit", q)
}
func (c *Client) Acknowledge(name string) error { return noResult(c, "acknowledge", name) }
func (c *Client) Close() error                  { c.http.CloseIdleConnections(); return nil }

func noResult(c *Client, name string, q any) error {
	_, err := call[struct{}](c, name, q)
	return err
}

var (
	_ service.Control = (*Client)(nil)
	_ service.Control = (*service.Service)(nil)
)
