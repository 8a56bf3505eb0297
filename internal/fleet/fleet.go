// Package fleet asks several hosts how their arrays are, and what to do there. It only looks: each host answers those that its configuration names, over
// TLS, and refuses every call that changes something. The last answer of each is kept, so that one out of reach is shown as it was.
package fleet

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"nidalo/core/advice"
	"nidalo/internal/control"
)

// DefaultPort is where a host is asked when nothing else is said.
const DefaultPort = "10812"

const (
	patience = 10 * time.Second // for one host
	atOnce   = 64               // hosts that are asked at a time
	mostKept = 64 << 20         // bytes of an answer that was kept
)

// Host is where one is asked.
type Host struct {
	Name  string
	URL   string // https, or http on the loopback
	named bool   // not by a number: its certificate proves the name. Any other says itself what it is called
	wrong error  // why it cannot be asked at all
}

// Unusable is a host at an address that cannot be asked. It is shown among the others.
func Unusable(name, address string, why error) Host {
	return Host{Name: name, URL: address, wrong: why}
}

// ParseHost reads HOST, HOST:PORT or http://LOOPBACK:PORT.
func ParseHost(word string) (h Host, err error) {
	from := word
	if !strings.Contains(word, "://") {
		from = "https://" + word
	}
	u, err := url.Parse(from)
	switch {
	case err != nil || u.Hostname() == "" || u.Scheme != "https" && u.Scheme != "http":
		return h, errors.New("write HOST or HOST:PORT")
	case u.User != nil || u.RawQuery != "" || u.Fragment != "" || u.Path != "":
		return h, errors.New("nothing may follow the host, or come before it")
	}
	port := u.Port()
	if port == "" {
		port = DefaultPort
	}
	if _, err := strconv.ParseUint(port, 10, 16); err != nil {
		return h, errors.New("the port must be a number up to 65535")
	}
	if strings.ContainsFunc(u.Hostname(), func(r rune) bool { return !strings.ContainsRune(inNames, r) }) {
		return h, errors.New("a name has letters, digits, '.', ':', '_' and '-'")
	}
	if u.Scheme == "http" && !Loopback(u.Hostname()) {
		return h, errors.New("only loopback addresses without encryption (127.0.0.1, ::1, localhost)")
	}
	h = Host{Name: u.Hostname(), URL: u.Scheme + "://" + net.JoinHostPort(u.Hostname(), port)}
	if h.named = net.ParseIP(h.Name) == nil && !Loopback(h.Name); !h.named {
		h.Name = net.JoinHostPort(u.Hostname(), port)
	}
	return h, nil
}

const inNames = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.:_-"

// Loopback says whether a host can be reached from itself alone.
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Answer is what a host said.
type Answer struct {
	Host   string          `json:"host"`
	Asked  string          `json:"address"`
	Told   *time.Time      `json:"told,omitempty"`        // when it was asked for this, by the clock of this host; missing: it never answered
	Age    *float64        `json:"age_seconds,omitempty"` // since then
	Why    string          `json:"no_answer,omitempty"`   // why there is no newer answer
	Status *control.Status `json:"status,omitempty"`
	Steps  []advice.Step   `json:"next"`
}

// Old says whether the host did not answer now.
func (a *Answer) Old() bool { return a.Why != "" }

// Fleet is the hosts, how they are reached, and where their last answers are kept.
type Fleet struct {
	Hosts []Host
	TLS   *tls.Config
	Keep  string // a folder
}

// Ask asks all hosts at the same time and returns an answer for each, in their order. One that does not answer within ten seconds is out of reach. unkept is why
// answers could not be kept for the day on which a host is; all the same they are there.
func (f *Fleet) Ask(ctx context.Context) (out []Answer, unkept error) {
	out = make([]Answer, len(f.Hosts))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: f.TLS, TLSHandshakeTimeout: patience},
		CheckRedirect: func(*http.Request, []*http.Request) error { return errors.New("it sends elsewhere") }}
	defer client.CloseIdleConnections()
	var all errgroup.Group
	all.SetLimit(atOnce)
	for i, h := range f.Hosts {
		all.Go(func() error {
			var err error
			out[i], err = f.ask(ctx, client, h)
			return err
		})
	}
	unkept = all.Wait()
	now := time.Now()
	for i := range out {
		if told := out[i].Told; told != nil {
			age := now.Sub(*told).Seconds()
			out[i].Age = &age
		}
	}
	return out, unkept
}

// ask asks one host, and keeps what it says; unkept as with Ask.
func (f *Fleet) ask(ctx context.Context, client *http.Client, h Host) (a Answer, unkept error) {
	a, err := h.ask(ctx, client)
	if err == nil {
		return a, f.save(h, a)
	}
	last, kept := f.last(h)
	if !kept {
		last = Answer{Host: h.Name, Steps: []advice.Step{}}
	}
	last.Asked, last.Why = h.URL, plainly(err)
	return last, nil
}

func (h Host) ask(ctx context.Context, client *http.Client) (Answer, error) {
	if h.wrong != nil {
		return Answer{}, h.wrong
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	began := time.Now()
	c := control.Reach(ctx, client, h.URL)
	a := Answer{Host: h.Name, Asked: h.URL, Told: &began, Steps: []advice.Step{}}
	var next *control.NextReply
	var err error
	if a.Status, err = c.Status(""); err == nil {
		next, err = c.Next()
	}
	if err == nil && (a.Status == nil || next == nil) {
		err = errors.New("the service answered nothing")
	}
	if err != nil {
		return Answer{}, err
	}
	if a.Status.Host != "" && !h.named {
		a.Host = a.Status.Host
	}
	a.Steps = append(a.Steps, next.Steps...)
	return a, nil
}

// plainly is why a host did not answer, without the address, which stands beside it.
func plainly(err error) string {
	var wrapped *url.Error
	var dialled *net.OpError
	var call *os.SyscallError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Sprintf("nothing came within %s", patience)
	case errors.As(err, &call):
		return call.Err.Error()
	case errors.As(err, &dialled):
		return dialled.Err.Error()
	case errors.As(err, &wrapped):
		return wrapped.Err.Error()
	}
	return err.Error()
}

func (f *Fleet) path(h Host) string {
	return filepath.Join(f.Keep, url.PathEscape(strings.TrimPrefix(strings.TrimPrefix(h.URL, "https://"), "http://"))+".json")
}

// last is the answer that was kept.
func (f *Fleet) last(h Host) (a Answer, ok bool) {
	file, err := os.Open(f.path(h))
	if err != nil {
		return a, false
	}
	defer file.Close()
	if err := json.NewDecoder(io.LimitReader(file, mostKept)).Decode(&a); err != nil || a.Status == nil || a.Told == nil {
		return Answer{}, false
	}
	a.Steps = slices.Concat([]advice.Step{}, a.Steps)
	return a, true
}

// save keeps an answer whole, or the one before.
func (f *Fleet) save(h Host, a Answer) error {
	raw, err := json.Marshal(a)
	if err == nil {
		err = os.MkdirAll(f.Keep, 0o700)
	}
	if err != nil {
		return err
	}
	file, err := os.CreateTemp(f.Keep, ".answer")
	if err != nil {
		return err
	}
	_, err = file.Write(raw)
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(file.Name(), f.path(h))
	}
	if err != nil {
		_ = os.Remove(file.Name())
	}
	return err
}

// Forget lets go of what a host said last; known: there was something.
func (f *Fleet) Forget(h Host) (known bool, err error) {
	err = os.Remove(f.path(h))
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}
