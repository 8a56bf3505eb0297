package control_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/lab"
	"nidalo/internal/service"
)

// served is a real service on a lab, reached through its socket.
func served(t *testing.T) (*control.Control, string) {
	home, err := os.MkdirTemp("", "nidalo-api-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(home) })
	require.NoError(t, lab.At(home).New(5, 32<<20))
	s, err := service.Open(service.Options{Home: home, Stays: true, NoHost: true})
	require.NoError(t, err)
	l, err := control.Listen(control.Socket(home), "")
	require.NoError(t, err)
	done := make(chan error, 1)
	go func() { done <- control.Serve(l, control.Handler(s.Control(), slog.New(slog.DiscardHandler))) }()
	c, err := control.Dial(home)
	require.NoError(t, err)
	t.Cleanup(func() {
		_ = c.Close()
		require.NoError(t, l.Close())
		require.NoError(t, <-done)
		require.NoError(t, s.Close())
	})
	return c, home
}

// TestEveryCallGoesThroughTheSocket: what a command sees is the same with a service of its own and with one that runs.
func TestEveryCallGoesThroughTheSocket(t *testing.T) {
	c, _ := served(t)
	disks, err := c.Disks()
	require.NoError(t, err)
	require.Len(t, disks, 5)
	dry, err := c.Create(control.CreateRequest{Name: "tides", Level: "5", Disks: []string{"A1", "A2", "A3"}, DryRun: true})
	require.NoError(t, err)
	made, err := c.Create(control.CreateRequest{Name: "tides", Level: "5", Disks: []string{"A1", "A2", "A3"}})
	require.NoError(t, err)
	require.Equal(t, dry.Capacity, made.Capacity)
	st, err := c.Status("")
	require.NoError(t, err)
	require.True(t, st.Serving)
	require.Equal(t, state.Healthy, st.Arrays[0].Condition)
	spare, err := c.AssignSpare(control.SpareRequest{Disk: "A5"})
	require.NoError(t, err)
	require.Equal(t, []string{"tides"}, spare.Fits)
	paces, err := c.SetPace(control.PaceRequest{Array: "tides", Pace: "gentle"})
	require.NoError(t, err)
	require.Equal(t, "gentle", paces[0].Pace)
	pull, err := c.MayPull(control.PullRequest{Disks: []string{"A1"}})
	require.NoError(t, err)
	require.False(t, pull.Yes)
	next, err := c.Next()
	require.NoError(t, err)
	require.Empty(t, next.Steps)
	lit, err := c.Locate(control.LocateRequest{Disk: "A4"})
	require.NoError(t, err)
	require.Len(t, lit.Lit, 1)
	require.NoError(t, c.Check(control.CheckRequest{Array: "tides"}))
	_, err = c.Retire(control.RetireRequest{Array: "tides", Disk: "A1", Onto: "A4"})
	require.NoError(t, err)
	require.NoError(t, c.Acknowledge("tides"))
	results, err := c.TestAlerts()
	require.NoError(t, err)
	require.Empty(t, results)
	require.Eventually(t, func() bool {
		h, err := c.History(control.HistoryRequest{Kind: "member-retired"})
		return err == nil && len(h.Events) == 1
	}, 20e9, 50e6)
	require.NoError(t, c.Rename(control.RenameRequest{Array: "tides", To: "flood"}))
	require.NoError(t, c.Stop(control.StopRequest{Array: "flood"}))
	started, err := c.Start(control.StartRequest{Array: "flood"})
	require.NoError(t, err)
	require.Equal(t, "flood", started.Name)
	require.NoError(t, c.Fail(control.FailRequest{Array: "flood", Disk: "A2", Sure: true}))
	require.NoError(t, c.Dissolve(control.DissolveRequest{Array: "flood"}))
}

// TestEveryCallIsThere: what the table lists the service does, and the client asks, each under a name of its own.
func TestEveryCallIsThere(t *testing.T) {
	c, home := served(t)
	s, err := service.Open(service.Options{Home: filepath.Join(home, "other"), Looks: true, NoHost: true})
	require.NoError(t, err)
	defer s.Close()
	names := map[string]bool{}
	for _, side := range []reflect.Value{reflect.ValueOf(c).Elem(), reflect.ValueOf(s.Control()).Elem()} {
		for i := range side.NumField() {
			field := side.Type().Field(i)
			if field.Type.Kind() != reflect.Func {
				continue
			}
			require.False(t, side.Field(i).IsNil(), field.Name)
			if name := field.Tag.Get("call"); field.Name != "Close" {
				require.NotEmpty(t, name, field.Name)
				names[name] = true
				require.LessOrEqual(t, field.Type.NumIn(), 1)
			}
		}
	}
	require.Len(t, names, reflect.TypeFor[control.Control]().NumField()-2, "two calls have one name")
}

func TestErrorsKeepTheirHints(t *testing.T) {
	c, _ := served(t)
	_, err := c.Status("sonar")
	var told *control.Error
	require.True(t, errors.As(err, &told), "%v", err)
	require.NotEmpty(t, told.Hints)
	require.Error(t, c.Steer(control.SteerRequest{Array: "sonar", State: "paused"}))
	_, err = c.Replace(control.ReplaceRequest{Array: "sonar"})
	require.Error(t, err)
	_, err = c.Erase(control.EraseRequest{Disk: "Z9"})
	require.Error(t, err)
}

func TestTheSocketIsItsOwnersAndTakesNoNonsense(t *testing.T) {
	_, home := served(t)
	info, err := os.Stat(control.Socket(home))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	_, err = control.Listen(control.Socket(home), "")
	require.ErrorContains(t, err, "another process listens")
	_, err = control.Listen(filepath.Join(home, "x.sock"), "no-such-group-here")
	require.Error(t, err)
	h := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", control.Socket(home))
	}}}
	defer h.CloseIdleConnections()
	for path, body := range map[string]string{"/v1/status": "{", "/v1/create": `{"Nonsense":1}`, "/v1/none": "{}"} {
		r, err := h.Post("http://nidalo"+path, "application/json", strings.NewReader(body))
		require.NoError(t, err)
		text, _ := io.ReadAll(r.Body)
		_ = r.Body.Close()
		require.Contains(t, []int{http.StatusBadRequest, http.StatusNotFound}, r.StatusCode, "%s: %s", path, text)
	}
	r, err := h.Get("http://nidalo/v1/status")
	require.NoError(t, err)
	_ = r.Body.Close()
	require.Equal(t, http.StatusMethodNotAllowed, r.StatusCode)
}
