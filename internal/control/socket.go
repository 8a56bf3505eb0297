package control

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"time"

	"golang.org/x/net/netutil"
)

// Socket is where the service of a home listens for commands.
func Socket(home string) string { return filepath.Join(home, "control.sock") }

// LookingSocket is where it listens for commands of users that may only look.
func LookingSocket(home string) string { return filepath.Join(home, "looking.sock") }

// Listen makes a Unix socket only its owner can use, and a group if one is given, in place of one that a crash left behind.
func Listen(path, group string) (net.Listener, error) {
	if c, err := net.Dial("unix", path); err == nil {
		_ = c.Close()
		return nil, fmt.Errorf("%s: another process listens there already", path)
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

// OpenHome lets all users pass through a home, for the members of two groups. They still may not read what is in it.
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

// ServeFar is Serve for other hosts: few, and bounded in everything; encrypted with settings.
func ServeFar(l net.Listener, settings *tls.Config, h http.Handler) error {
	return serve(l, maxWatchers, &http.Server{Handler: h, TLSConfig: settings, ReadTimeout: 5 * time.Second, ReadHeaderTimeout: 5 * time.Second,
		WriteTimeout: 30 * time.Second, IdleTimeout: 30 * time.Second, ErrorLog: log.New(io.Discard, "", 0)})
}

// maxCallers and the others bound the connections at a time; others wait.
const (
	maxCallers    = 256
	maxCollectors = 16
	maxWatchers   = 32
)

func serve(l net.Listener, most int, s *http.Server) error {
	s.MaxHeaderBytes = 16 << 10
	l = netutil.LimitListener(l, most)
	if s.TLSConfig != nil {
		l = tls.NewListener(l, s.TLSConfig) // the server must see that it is encrypted
	}
	err := s.Serve(l)
	if errors.Is(err, net.ErrClosed) || errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
