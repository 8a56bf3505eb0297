// Package alert tells people what happened: by e-mail, to an HTTP address, and through a command. Messages are folded,
// filtered by severity, and tried again for a while when they cannot be delivered.
package alert

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"nidalo/core/event"

	"github.com/wneessen/go-mail"
)

// Message is what is delivered. Its JSON is the body of webhooks and the input of commands.
type Message struct {
	Time     time.Time      `json:"time"`
	Host     string         `json:"host"`
	Severity event.Severity `json:"severity"`
	Kind     event.Kind     `json:"kind"`
	Array    string         `json:"array,omitempty"`
	Disk     string         `json:"disk,omitempty"`
	Detail   string         `json:"detail,omitempty"`
	Next     []string       `json:"next,omitempty"`  // what to do, as commands
	Count    int            `json:"count,omitempty"` // how often it happened since the last message about it, when more than once
}

// Subject is the message in one line.
func (m Message) Subject() string {
	what := string(m.Kind)
	if m.Array != "" {
		what = m.Array + ": " + what
	}
	if m.Disk != "" {
		what += " " + m.Disk
	}
	if m.Count > 1 {
		what += fmt.Sprintf(" (%d times)", m.Count)
	}
	return fmt.Sprintf("[%s] %s", m.Severity, what)
}

// Text is the message for people.
func (m Message) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n\nhost      %s\ntime      %s\nseverity  %s\n", m.Subject(), m.Host, m.Time.Format(time.RFC1123Z), m.Severity)
	for _, l := range [][2]string{{"array", m.Array}, {"disk", m.Disk}, {"detail", m.Detail}} {
		if l[1] != "" {
			fmt.Fprintf(&b, "%-8s  %s\n", l[0], l[1])
		}
	}
	for i, n := range m.Next {
		if i == 0 {
			b.WriteString("\nWhat to do now:\n")
		}
		fmt.Fprintf(&b, "  %s\n", n)
	}
	return b.String()
}

// Channel delivers messages one way.
type Channel interface {
	String() string // without secrets
	Least() event.Severity
	Send(ctx context.Context, m Message) error
}

// Email sends by SMTP.
type Email struct {
	Server       string         `toml:"server"` // HOST:PORT
	TLS          string         `toml:"tls"`    // starttls (default), implicit, or none on the loopback
	User         string         `toml:"user"`
	PasswordFile string         `toml:"password_file"`
	CAFile       string         `toml:"ca_file"` // of the server's certificate, when it is not a public one
	From         string         `toml:"from"`
	To           []string       `toml:"to"`
	LeastOf      event.Severity `toml:"least"`
}

func (e Email) String() string { return "e-mail to " + strings.Join(e.To, ", ") }

// Least is the least severity that is sent.
func (e Email) Least() event.Severity { return e.LeastOf }

// Send delivers one message.
func (e Email) Send(ctx context.Context, m Message) error {
	msg := mail.NewMsg()
	if err := errors.Join(msg.From(e.From), msg.To(e.To...)); err != nil {
		return err
	}
	msg.Subject(m.Subject())
	msg.SetDateWithValue(m.Time)
	msg.SetBodyString(mail.TypeTextPlain, m.Text())
	options, err := e.options()
	if err != nil {
		return err
	}
	host, _ := e.address()
	c, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	return c.DialAndSendWithContext(ctx, msg)
}

// Webhook posts JSON to an address.
type Webhook struct {
	URL       string         `toml:"url"`
	TokenFile string         `toml:"token_file"` // sent as a bearer token
	Plain     bool           `toml:"plain"`      // http to another host is meant
	LeastOf   event.Severity `toml:"least"`
}

func (w Webhook) String() string {
	// A query may hold a secret, and so may a path.
	if u, err := url.Parse(w.URL); err == nil {
		return "webhook " + u.Scheme + "://" + u.Host
	}
	return "webhook"
}

// poster sends webhooks. It follows no redirects: what the message and the token are for is the address in the
// configuration, and no other.
var poster = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// Least is the least severity that is sent.
func (w Webhook) Least() event.Severity { return w.LeastOf }

// Send delivers one message; any status but 2xx is an error.
func (w Webhook) Send(ctx context.Context, m Message) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, w.URL, bytes.NewReader(body))
	if err != nil {
		return errors.New("the address cannot be used")
	}
	r.Header.Set("Content-Type", "application/json")
	if w.TokenFile != "" {
		token, err := secret(w.TokenFile)
		if err != nil {
			return err
		}
		r.Header.Set("Authorization", "Bearer "+token)
	}
	reply, err := poster.Do(r)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err // the error itself names the address with its query
		}
		return err
	}
	_ = reply.Body.Close()
	if reply.StatusCode/100 == 3 {
		return fmt.Errorf("it answered %s: redirects are not followed", reply.Status)
	}
	if reply.StatusCode/100 != 2 {
		return fmt.Errorf("it answered %s", reply.Status)
	}
	return nil
}

// Command runs a program with the message as JSON on its input. No shell is involved.
type Command struct {
	Run     []string       `toml:"run"`
	LeastOf event.Severity `toml:"least"`
}

func (c Command) String() string { return "command " + c.Run[0] }

// Least is the least severity that is sent.
func (c Command) Least() event.Severity { return c.LeastOf }

// Send runs the program; any exit status but 0 is an error.
func (c Command) Send(ctx context.Context, m Message) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	p := exec.CommandContext(ctx, c.Run[0], c.Run[1:]...)
	p.Stdin = bytes.NewReader(append(body, '\n'))
	p.Dir = "/"
	p.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LANG=C.UTF-8"}
	p.WaitDelay = time.Second
	var out head
	p.Stdout, p.Stderr = &out, &out
	if err = p.Run(); err != nil && len(out.kept) > 0 {
		return fmt.Errorf("%w: %q", err, bytes.TrimSpace(out.kept))
	}
	return err
}

// head keeps the beginning of what a program says.
type head struct{ kept []byte }

const headSize = 200

func (h *head) Write(p []byte) (int, error) {
	h.kept = append(h.kept, p[:min(len(p), headSize-len(h.kept))]...)
	return len(p), nil
}

func secret(path string) (string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return "", err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return "", fmt.Errorf("%s can be read by others: chmod 600 %s", path, path)
	}
	buf, err := os.ReadFile(path)
	return strings.TrimSpace(string(buf)), err
}

// Options is how a Sender works.
type Options struct {
	Fold  time.Duration // how long repetitions of a message are held back and counted
	Tries int           // of one delivery
	Wait  time.Duration // before the second try; it doubles
	Log   *slog.Logger
}

// DefaultOptions deliver for about half an hour.
var DefaultOptions = Options{Fold: 10 * time.Minute, Tries: 8, Wait: 15 * time.Second}

// queueLimit bounds what waits for one channel.
const queueLimit = 200

// Sender delivers messages through channels, in the background.
type Sender struct {
	opt    Options
	queues []*queue
	mu     sync.Mutex
	folded map[string]*fold
	wait   sync.WaitGroup
	ctx    context.Context
	stop   context.CancelFunc
}

type fold struct {
	last  Message
	count int // since the message that was sent
}

type queue struct {
	c    Channel
	todo chan Message
}

// NewSender makes a sender; Close ends it.
func NewSender(channels []Channel, opt Options) *Sender {
	s := &Sender{opt: opt, folded: map[string]*fold{}}
	s.ctx, s.stop = context.WithCancel(context.Background())
	for _, c := range channels {
		q := &queue{c, make(chan Message, queueLimit)}
		s.queues = append(s.queues, q)
		s.wait.Go(func() { s.deliver(q) })
	}
	return s
}

// Send takes a message. The first of its kind about an array and disk goes out at once; what is the same within the time
// of folding is counted and goes out as one message at its end.
func (s *Sender) Send(m Message) {
	if len(s.queues) == 0 {
		return
	}
	key := string(m.Kind) + "\x00" + m.Array + "\x00" + m.Disk
	s.mu.Lock()
	if f := s.folded[key]; f != nil {
		f.last = m
		f.count++
		s.mu.Unlock()
		return
	}
	s.folded[key] = &fold{}
	s.mu.Unlock()
	s.put(m)
	time.AfterFunc(s.opt.Fold, func() { s.unfold(key) })
}

func (s *Sender) unfold(key string) {
	if s.ctx.Err() != nil {
		return
	}
	s.mu.Lock()
	f := s.folded[key]
	again := f.count > 0
	if again {
		s.folded[key] = &fold{}
	} else {
		delete(s.folded, key)
	}
	s.mu.Unlock()
	if again {
		f.last.Count = f.count
		s.put(f.last)
		time.AfterFunc(s.opt.Fold, func() { s.unfold(key) })
	}
}

func (s *Sender) put(m Message) {
	for _, q := range s.queues {
		if m.Severity.Rank() < q.c.Least().Rank() {
			continue
		}
		select {
		case q.todo <- m:
		default:
			s.opt.Log.Warn("alert dropped: too many wait", "channel", q.c.String(), "kind", m.Kind)
		}
	}
}

func (s *Sender) deliver(q *queue) {
	for {
		select {
		case <-s.ctx.Done():
			return
		case m := <-q.todo:
			s.attempt(q.c, m)
		}
	}
}

func (s *Sender) attempt(c Channel, m Message) {
	pause := s.opt.Wait
	for try := 1; ; try++ {
		err := Try(s.ctx, c, m)
		if err == nil {
			s.opt.Log.Info("alert delivered", "channel", c.String(), "kind", m.Kind)
			return
		}
		if try == s.opt.Tries || s.ctx.Err() != nil {
			s.opt.Log.Error("alert not delivered", "channel", c.String(), "kind", m.Kind, "tries", try, "reason", err)
			return
		}
		s.opt.Log.Warn("alert will be tried again", "channel", c.String(), "kind", m.Kind, "in", pause, "reason", err)
		select {
		case <-s.ctx.Done():
			return
		case <-time.After(pause):
		}
		pause *= 2
	}
}

// Try delivers a message once, in bounded time.
func Try(ctx context.Context, c Channel, m Message) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	return c.Send(ctx, m)
}

// Close gives messages on their way a moment, then stops.
func (s *Sender) Close() {
	for deadline := time.Now().Add(2 * time.Second); time.Now().Before(deadline) && s.waiting(); {
		time.Sleep(20 * time.Millisecond)
	}
	s.stop()
	s.wait.Wait()
}

func (s *Sender) waiting() bool {
	for _, q := range s.queues {
		if len(q.todo) > 0 {
			return true
		}
	}
	return false
}
