package service

import (
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"time"

	"github.com/pelletier/go-toml/v2"

	"nidalo/internal/alert"
	"nidalo/internal/array"
	"nidalo/internal/disk"
)

// ConfigName is the name of the configuration in a home.
const ConfigName = "nidalo.toml"

// Config is what nidalo.toml says. What it does not say is as if there were no file.
type Config struct {
	Disks   []string `toml:"disks"`  // paths and patterns to look for disks at, besides the lab and what was used before
	Adopt   string   `toml:"adopt"`  // what to do with a blank disk in the bay of a lost member: AdoptNever or AdoptSameBay
	Pace    string   `toml:"pace"`   // of tasks, unless the pace command says otherwise
	Group   string   `toml:"group"`  // whose members may use the sockets besides their owner
	Spares  []Spare  `toml:"spares"` // hot spares, besides those of the spare command
	Listen  Listen   `toml:"listen"`
	Limits  Limits   `toml:"limits"`
	Alerts  Alerts   `toml:"alerts"`
	History Keep     `toml:"history"`
}

// What happens to a blank disk that appears in the bay of a missing or failed member.
const (
	AdoptNever   = "never"    // it is offered, and waits for a command
	AdoptSameBay = "same-bay" // it takes the member's place at once
)

// Listen is where clients reach arrays besides the socket in the home.
type Listen struct {
	TCP     string    `toml:"tcp"` // loopback only: it is not encrypted
	TLS     ListenTLS `toml:"tls"`
	Metrics string    `toml:"metrics"` // OpenMetrics over HTTP at /metrics, loopback only
}

// ListenTLS is an encrypted listener; clients must show a certificate signed by CA.
type ListenTLS struct {
	Address string `toml:"address"`
	Cert    string `toml:"cert"`
	Key     string `toml:"key"`
	CA      string `toml:"ca"`
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
	for _, c := range a.Email {
		out = append(out, c)
	}
	for _, c := range a.Webhook {
		out = append(out, c)
	}
	for _, c := range a.Command {
		out = append(out, c)
	}
	return out
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

// UnmarshalText reads a time such as 1m30s.
func (d *Duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	if err != nil || v <= 0 {
		return fmt.Errorf("%q is not a time; write for example 500ms, 3s or 2h", text)
	}
	*d = Duration(v)
	return nil
}

// MarshalText writes a time such as 1m30s.
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }

func (l Limits) engine() array.Limits {
	return array.Limits{Failing: l.Failing, Failed: l.Failed, Tries: l.WriteTries,
		Patience: disk.Patience{Read: time.Duration(l.LateRead), Hung: time.Duration(l.Hung)},
		Slow:     array.Slow{Factor: l.SlowFactor, Least: time.Duration(l.SlowLeast), Window: time.Duration(l.SlowWindow), Windows: l.SlowWindows}}
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
	dec := toml.NewDecoder(f)
	dec.DisallowUnknownFields()
	if err := dec.Decode(&c); err != nil {
		return c, configError(path, err)
	}
	return c, c.check(path)
}

func configError(path string, err error) error {
	var unknown *toml.StrictMissingError
	var wrong *toml.DecodeError
	switch {
	case errors.As(err, &unknown):
		out := &Error{What: path + " has keys that mean nothing here"}
		for _, e := range unknown.Errors {
			line, _ := e.Position()
			out.Hints = append(out.Hints, fmt.Sprintf("line %d: %s", line, dotted(e.Key())))
		}
		return out
	case errors.As(err, &wrong):
		line, column := wrong.Position()
		return &Error{What: fmt.Sprintf("%s, line %d, column %d: %v", path, line, column, wrong)}
	}
	return &Error{What: fmt.Sprintf("%s: %v", path, err)}
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

// check looks at what a decoder cannot.
func (c *Config) check(path string) error {
	wrong := func(format string, args ...any) error {
		return &Error{What: path + ": " + fmt.Sprintf(format, args...)}
	}
	for _, p := range c.Disks {
		if !filepath.IsAbs(p) {
			return wrong("disks: %q is not an absolute path", p)
		}
		if _, err := filepath.Match(p, ""); err != nil {
			return wrong("disks: %q is not a valid pattern", p)
		}
	}
	if c.Adopt != "" && c.Adopt != AdoptNever && c.Adopt != AdoptSameBay {
		return wrong("adopt = %q: %q or %q", c.Adopt, AdoptNever, AdoptSameBay)
	}
	if c.Pace != "" {
		if _, err := ParseSchedule(c.Pace); err != nil {
			return wrong("pace: %v", err)
		}
	}
	if c.Group != "" {
		if _, err := user.LookupGroup(c.Group); err != nil {
			return wrong("group: %v", err)
		}
	}
	for _, p := range c.Spares {
		if p.Disk == "" {
			return wrong("spares: each needs a disk, by its serial or path")
		}
	}
	if t := c.Listen.TLS; t != (ListenTLS{}) && (t.Address == "" || t.Cert == "" || t.Key == "" || t.CA == "") {
		return wrong("listen.tls: address, cert, key and ca are needed: clients must show a certificate")
	}
	for _, ch := range c.Alerts.channels() {
		if err := ch.(interface{ Check() error }).Check(); err != nil {
			return wrong("alerts: %v", err)
		}
	}
	if c.History.Days < 0 {
		return wrong("history.keep_days: at least 1, or leave it out for %d", keepDays)
	}
	l := c.Limits
	switch {
	case l.WriteTries < 0 || l.WriteTries > 10:
		return wrong("limits.write_tries: between 1 and 10")
	case l.SlowFactor != 0 && l.SlowFactor < 1.5:
		return wrong("limits.slow_factor: at least 1.5")
	case l.LateRead != 0 && l.Hung != 0 && l.Hung < l.LateRead:
		return wrong("limits: hung (%s) is shorter than late_read (%s)", time.Duration(l.Hung), time.Duration(l.LateRead))
	case l.Failing > 0 && l.Failed > 0 && l.Failed < l.Failing:
		return wrong("limits: failed_errors (%d) is less than failing_errors (%d)", l.Failed, l.Failing)
	}
	return nil
}
