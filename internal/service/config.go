package service

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"nidalo/core/rounds"
	"nidalo/core/say"
	"nidalo/internal/alert"
	"nidalo/internal/array/member"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/nbd"
	"nidalo/internal/service/queue"
)

// ConfigName is the name of the configuration in a home.
const ConfigName = "nidalo.toml"

// Config is what nidalo.toml says. What it does not say is as if there were no file.
type Config struct {
	Disks     []string          `toml:"disks"`         // paths of disks to look at, besides the lab and those that were used before
	Patterns  []string          `toml:"disk_patterns"` // of paths, for the same
	GiveBack  *bool             `toml:"give_back"`     // false: what clients trim stays on the disks
	LateDisks Duration          `toml:"late_disks"`    // how long an incomplete array waits for disks at a start; 0: lateDisks
	HostDisks *bool             `toml:"host_disks"`    // false: the block devices of this host are left out
	Adopt     string            `toml:"adopt"`         // what to do with a blank disk in the bay of a lost member: AdoptNever or AdoptSameBay
	Grow      []string          `toml:"grow"`          // arrays that take up the room of larger disks by themselves; "all": every one
	Notes     map[string]string `toml:"notes"`         // of disks, by serial: what is to be read when one fails, such as its warranty
	Pace      string            `toml:"pace"`          // of tasks, unless the pace command says otherwise
	HostName  string            `toml:"host_name"`     // what other hosts know this one by; empty: what the system calls it
	Lend      Lend              `toml:"lend"`
	Remote    Remote            `toml:"remote"`
	Ownership Ownership         `toml:"ownership"`
	Fleet     Fleet             `toml:"fleet"`
	Traces    Traces            `toml:"traces"`
	Group     string            `toml:"group"`       // whose members may use the sockets besides their owner
	Looks     string            `toml:"group_looks"` // whose members may look, and change nothing
	Spares    []Spare           `toml:"spares"`      // hot spares, besides those of the spare command
	Schedule  []Round           `toml:"schedule"`    // what is done regularly
	Listen    Listen            `toml:"listen"`
	Limits    Limits            `toml:"limits"`
	Alerts    Alerts            `toml:"alerts"`
	History   Keep              `toml:"history"`
}

// What happens to a blank disk that appears in the bay of a missing or failed member.
const (
	AdoptNever   = "never"    // it is offered, and waits for a command
	AdoptSameBay = "same-bay" // it takes the member's place at once
)

// Round is something that is done regularly, as the configuration says it. What it does not say is as with rounds.Usual.
type Round struct {
	What     string   `toml:"what"`
	Arrays   []string `toml:"arrays"`
	Every    string   `toml:"every"`
	Hours    string   `toml:"hours"`
	Weekdays []string `toml:"weekdays"`
	Pace     *string  `toml:"pace"`
	Repair   *bool    `toml:"repair"`
}

// rules are the rounds of the configuration.
func (c *Config) rules() (out []rounds.Rule, err error) {
	for _, r := range c.Schedule {
		rule := rounds.Usual(r.What)
		rule.Arrays, rule.On, rule.Hours = r.Arrays, r.Weekdays, cmp.Or(r.Hours, rule.Hours)
		if r.Every != "" {
			if rule.Every, err = rounds.ParseDays(r.Every); err != nil {
				return nil, wrongKey{"schedule.every", err.Error()}
			}
		}
		if r.Pace != nil {
			if rule.Pace = *r.Pace; rule.Pace != "" {
				if _, err := queue.ParseSchedule(rule.Pace); err != nil {
					return nil, wrongKey{"schedule.pace", err.Error()}
				}
			}
		}
		if r.Repair != nil {
			rule.Repair = *r.Repair
		}
		if err := rule.Settle(); err != nil {
			key, why, _ := strings.Cut(err.Error(), ": ")
			return nil, wrongKey{"schedule." + key, why}
		}
		out = append(out, rule)
	}
	return out, nil
}

// Listen is where clients reach arrays besides the socket in the home.
type Listen struct {
	TCP     string    `toml:"tcp"` // loopback only: it is not encrypted
	TLS     ListenTLS `toml:"tls"`
	Metrics string    `toml:"metrics"` // OpenMetrics over HTTP at /metrics, loopback only
	Clients int       `toml:"clients"` // of each listener at a time; 0: nbd.DefaultBudget's
	Memory  Size      `toml:"memory"`  // that the clients of each listener may take for requests on their way; 0: as above
}

// Budget is what the clients of one listener may take.
func (l Listen) Budget() nbd.Budget { return nbd.Budget{Clients: l.Clients, Memory: int64(l.Memory)} }

// Size is an amount such as "256MiB" in the configuration, bytes.
type Size int64

// UnmarshalText reads a size such as 64KiB.
func (s *Size) UnmarshalText(text []byte) error {
	n, err := say.ParseSize(string(text))
	*s = Size(n)
	return err
}

// MarshalText writes a size such as 64KiB.
func (s Size) MarshalText() ([]byte, error) { return []byte(say.Size(int64(s))), nil }

// ListenTLS is an encrypted listener; clients must show a certificate signed by CA.
type ListenTLS struct {
	Address string `toml:"address"`
	Certificates
}

// Alerts is how people are told.
type Alerts struct {
	Fold    Duration        `toml:"fold"`        // how long the same message is held back and counted
	Retry   Duration        `toml:"first_retry"` // how soon a delivery that failed is tried again; then after twice that, and so on
	Email   []alert.Email   `toml:"email"`
	Webhook []alert.Webhook `toml:"webhook"`
	Command []alert.Command `toml:"command"`
}

func (a Alerts) channels() (out []alert.Channel) {
	return slices.Concat(channelsOf(a.Email), channelsOf(a.Webhook), channelsOf(a.Command))
}

// Keep is how long the history reaches back.
type Keep struct {
	Days int `toml:"keep_days"`
}

// keepDays is how long the history reaches back when the configuration does not say.
const keepDays = 400

// Limits is when a member is judged by what it does; see docs/data-path.md for what each means.
type Limits struct {
	Failing     int64    `toml:"failing_errors"`
	Failed      int64    `toml:"failed_errors"`
	WriteTries  int      `toml:"write_tries"`
	LateRead    Duration `toml:"late_read"`
	Hung        Duration `toml:"hung"`
	SlowFactor  float64  `toml:"slow_factor"`
	SlowLeast   Duration `toml:"slow_least"`
	SlowWindow  Duration `toml:"slow_window"`
	SlowWindows int      `toml:"slow_windows"`
}

// Duration is a time such as "3s" in the configuration.
type Duration time.Duration

// longest is what no time in the configuration is sensibly above.
const longest = 366 * 24 * time.Hour

// UnmarshalText reads a time such as 1m30s.
func (d *Duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	if err != nil || v < time.Millisecond || v > longest {
		return fmt.Errorf("%q is not a time between 1ms and %d days; write for example 500ms, 3s or 2h", text, int(longest.Hours())/24)
	}
	*d = Duration(v)
	return nil
}

// MarshalText writes a time such as 1m30s.
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }

func (l Limits) engine() member.Limits {
	return member.Limits{Failing: l.Failing, Failed: l.Failed, Tries: l.WriteTries,
		Patience: disk.Patience{Read: time.Duration(l.LateRead), Hung: time.Duration(l.Hung)},
		Slow:     member.Slow{Factor: l.SlowFactor, Least: time.Duration(l.SlowLeast), Window: time.Duration(l.SlowWindow), Windows: l.SlowWindows}}
}

// ReadConfig reads nidalo.toml of a home; there need not be one. An error names file and line.
func ReadConfig(home string) (Config, error) {
	path := filepath.Join(home, ConfigName)
	var c Config
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return c, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, mostConfig+1))
	if err != nil {
		return c, err
	}
	if len(text) > mostConfig {
		return c, &control.Error{What: fmt.Sprintf("%s has more than %s", path, say.Size(mostConfig))}
	}
	dec := toml.NewDecoder(bytes.NewReader(text))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&c); err != nil {
		return c, configError(path, err)
	}
	var wrong wrongKey
	if err := c.check(); errors.As(err, &wrong) {
		where := path
		if line := lineOf(text, wrong.key); line > 0 {
			where += fmt.Sprintf(", line %d", line)
		}
		return c, &control.Error{What: fmt.Sprintf("%s: %s: %s", where, wrong.key, wrong.why)}
	}
	return c, nil
}

// mostConfig bounds nidalo.toml, bytes.
const mostConfig = 1 << 20

// wrongKey is a value that means nothing, by its key with the tables it lies in.
type wrongKey struct{ key, why string }

func (w wrongKey) Error() string { return w.key + ": " + w.why }

// lineOf is the line on which a key stands, or its table; 0 when neither does.
func lineOf(text []byte, key string) (line int) {
	table, name := "", key
	if at := strings.LastIndexByte(key, '.'); at >= 0 {
		table, name = key[:at], key[at+1:]
	}
	in := ""
	for n, l := range strings.Split(string(text), "\n") {
		l = strings.TrimSpace(l)
		if strings.HasPrefix(l, "[") {
			in, _, _ = strings.Cut(strings.TrimLeft(l, "[ "), "]")
			in = strings.TrimSpace(in)
			if (in == table || in == key) && line == 0 {
				line = n + 1
			}
			continue
		}
		k, _, ok := strings.Cut(l, "=")
		k = strings.TrimSpace(k)
		if ok && (in == table && k == name || in == "" && k == key) {
			return n + 1
		}
	}
	return line
}

func configError(path string, err error) error {
	var unknown *toml.StrictMissingError
	var wrong *toml.DecodeError
	switch {
	case errors.As(err, &unknown):
		out := &control.Error{What: path + " has keys that mean nothing here"}
		for _, e := range unknown.Errors {
			line, _ := e.Position()
			out.Hints = append(out.Hints, fmt.Sprintf("line %d: %s", line, dotted(e.Key())))
		}
		return out
	case errors.As(err, &wrong):
		line, column := wrong.Position()
		return &control.Error{What: fmt.Sprintf("%s, line %d, column %d: %v", path, line, column, wrong)}
	}
	return &control.Error{What: fmt.Sprintf("%s: %v", path, err)}
}

func dotted(key toml.Key) string {
	out := ""
	for i, k := range key {
		if i > 0 {
			out += "."
		}
		out += k
	}
	return out
}

// check looks at what a decoder cannot. It opens and connects to nothing.
func (c *Config) check() error {
	wrong := func(key, format string, args ...any) error { return wrongKey{key, fmt.Sprintf(format, args...)} }
	for _, p := range c.Disks {
		if !filepath.IsAbs(p) {
			return wrong("disks", "%q is not an absolute path", p)
		}
	}
	for _, p := range c.Patterns {
		if !filepath.IsAbs(p) {
			return wrong("disk_patterns", "%q is not an absolute path", p)
		}
		if _, err := filepath.Match(p, ""); err != nil {
			return wrong("disk_patterns", "%q is not a valid pattern", p)
		}
	}
	if c.Adopt != "" && c.Adopt != AdoptNever && c.Adopt != AdoptSameBay {
		return wrong("adopt", "%q: %q or %q", c.Adopt, AdoptNever, AdoptSameBay)
	}
	if c.Pace != "" {
		if _, err := queue.ParseSchedule(c.Pace); err != nil {
			return wrong("pace", "%v", err)
		}
	}
	for key, name := range map[string]string{"group": c.Group, "group_looks": c.Looks} {
		if name == "" {
			continue
		}
		if _, err := user.LookupGroup(name); err != nil {
			return wrong(key, "%v", err)
		}
	}
	for _, p := range c.Spares {
		if p.Disk == "" {
			return wrong("spares.disk", "each spare needs one, by its serial or path")
		}
	}
	if _, err := c.rules(); err != nil {
		return err
	}
	for _, err := range []error{c.Listen.check(), c.checkLending(), c.Ownership.check(), c.Fleet.check(), c.Traces.check()} {
		if err != nil {
			return err
		}
	}
	for _, list := range []struct {
		key string
		all []alert.Channel
	}{{"alerts.email", channelsOf(c.Alerts.Email)}, {"alerts.webhook", channelsOf(c.Alerts.Webhook)}, {"alerts.command", channelsOf(c.Alerts.Command)}} {
		for _, ch := range list.all {
			if err := ch.(interface{ Check() error }).Check(); err != nil {
				return wrong(list.key, "%v", err)
			}
		}
	}
	if c.History.Days < 0 || c.History.Days > mostDays {
		return wrong("history.keep_days", "between 1 and %d, or leave it out for %d", mostDays, keepDays)
	}
	return c.Limits.check()
}

func (l Limits) check() error {
	wrong := func(key, format string, args ...any) error { return wrongKey{key, fmt.Sprintf(format, args...)} }
	switch {
	case l.WriteTries < 0 || l.WriteTries > 10:
		return wrong("limits.write_tries", "between 1 and 10")
	case math.IsNaN(l.SlowFactor) || l.SlowFactor != 0 && (l.SlowFactor < 1.5 || l.SlowFactor > 1e6):
		return wrong("limits.slow_factor", "between 1.5 and 1000000")
	case l.LateRead != 0 && l.Hung != 0 && l.Hung < l.LateRead:
		return wrong("limits.hung", "%s is shorter than late_read (%s)", time.Duration(l.Hung), time.Duration(l.LateRead))
	case l.Failing > 0 && l.Failed > 0 && l.Failed < l.Failing:
		return wrong("limits.failed_errors", "%d is less than failing_errors (%d)", l.Failed, l.Failing)
	}
	return nil
}

// mostDays is how long a history may be kept: for longer than any disk lives.
const mostDays = 36500

func channelsOf[C alert.Channel](list []C) (out []alert.Channel) {
	for _, c := range list {
		out = append(out, c)
	}
	return out
}

func (l Listen) check() error {
	for _, a := range []struct{ key, address string }{{"listen.tcp", l.TCP}, {"listen.metrics", l.Metrics}, {"listen.tls.address", l.TLS.Address}} {
		if a.address == "" {
			continue
		}
		host, port, err := net.SplitHostPort(a.address)
		if err != nil {
			return wrongKey{a.key, fmt.Sprintf("%q: write HOST:PORT, for example 127.0.0.1:10809", a.address)}
		}
		if n, err := strconv.Atoi(port); err != nil || n < 0 || n > 65535 {
			return wrongKey{a.key, fmt.Sprintf("%q: the port must be a number up to 65535", a.address)}
		}
		if ip := net.ParseIP(host); a.key != "listen.tls.address" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return wrongKey{a.key, fmt.Sprintf("%q: only loopback addresses (127.0.0.1, ::1, localhost): the connection is not encrypted", a.address)}
		}
	}
	if t := l.TLS; t != (ListenTLS{}) && (t.Address == "" || t.Cert == "" || t.Key == "" || t.CA == "") {
		return wrongKey{"listen.tls.address", "address, cert, key and ca are all needed: clients must show a certificate"}
	}
	if err := l.TLS.Certificates.check("listen.tls"); err != nil {
		return err
	}
	if l.Clients < 0 || l.Clients > 10000 {
		return wrongKey{"listen.clients", "between 1 and 10000"}
	}
	if l.Memory != 0 && (l.Memory < 16<<20 || l.Memory > 1<<40) {
		return wrongKey{"listen.memory", "between 16MiB and 1TiB"}
	}
	return nil
}
