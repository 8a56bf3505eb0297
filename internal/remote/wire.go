// Package remote is disks that other hosts lend to this one, over the network block protocol.
//
//	wire.go   what an owner of arrays and a lender of disks say to each other
//	hosts.go  the hosts that lend, and what each says of its disks
//	disk.go   one lent disk: a session with its lender, which outlives connections
//
// The name of an export says what is asked for and by whom. Whatever comes from a lender is hostile: it is bounded, and a text is made
// printable before it is kept.
package remote

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"

	"nidalo/core/health"
	"nidalo/core/state"
	"nidalo/internal/nbd"
)

// DefaultPort is where a lender listens, unless it is told otherwise.
const DefaultPort = "10811"

// Schemes of addresses: encrypted, and plain, which is for loopback addresses.
const (
	encrypted = "nbds"
	plain     = "nbd"
)

// Address is where a lent disk is: nbds://HOST[:PORT]/DISK.
type Address struct {
	Host  string // HOST:PORT
	Plain bool   // it is not encrypted
	Disk  string // its serial, or its path on that host
}

// Is says whether a word is the address of a lent disk rather than a path or a name.
func Is(word string) bool {
	return strings.HasPrefix(word, encrypted+"://") || strings.HasPrefix(word, plain+"://")
}

// ParseAddress reads an address. A plain one of another host is refused.
func ParseAddress(word string) (a Address, err error) {
	u, err := url.Parse(word)
	switch {
	case err != nil || !Is(word) || u.Hostname() == "":
		return a, errors.New("write nbds://HOST/DISK or nbds://HOST:PORT/DISK, with the serial of the disk")
	case u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return a, errors.New("nothing may follow the disk, or come before the host")
	}
	a = Address{Host: net.JoinHostPort(u.Hostname(), orDefault(u.Port())), Plain: u.Scheme == plain, Disk: strings.TrimPrefix(u.Path, "/")}
	if strings.HasPrefix(u.Path, "//") { // a path on that host
		a.Disk = u.Path[1:]
	}
	if _, err := strconv.ParseUint(orDefault(u.Port()), 10, 16); err != nil {
		return a, errors.New("the port must be a number up to 65535")
	}
	if ip := net.ParseIP(u.Hostname()); a.Plain && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return a, errors.New("nbd:// is not encrypted and for loopback addresses only; write nbds://")
	}
	return a, nil
}

func orDefault(port string) string {
	if port == "" {
		return DefaultPort
	}
	return port
}

// Server is the address of the lender.
func (a Address) Server() Address { return Address{Host: a.Host, Plain: a.Plain} }

// Of is the address of another disk of the same lender.
func (a Address) Of(disk string) Address { return Address{Host: a.Host, Plain: a.Plain, Disk: disk} }

// String writes an address so that ParseAddress reads it.
func (a Address) String() string {
	u := url.URL{Scheme: encrypted, Host: strings.TrimSuffix(a.Host, ":"+DefaultPort), Path: "/" + a.Disk}
	if a.Plain {
		u.Scheme = plain
	}
	if a.Disk == "" {
		u.Path = ""
	}
	return u.String()
}

// Everything is the name by which an owner asks for what is lent to it, as About.
const Everything = "disks"

// AboutSize is how many bytes of About an export of Everything has; behind its text there are blanks.
const AboutSize = 256 << 10

// aboutStart is how much of that is read first. Most hosts say no more.
const aboutStart = 8 << 10

// Wish is what an owner asks a lender for. Without an instance it is a look: the disk is only read, and whoever has it keeps it.
type Wish struct {
	What  string // the serial of a disk, or its path; or Everything
	Owner string // the host that asks
	// Of a session that may write.
	Instance    string // which run of the owner's service
	Token       uint64 // of the ownership of the array; a lower one than the disk was used with is refused
	Incarnation string // which the owner knows the disk by; with another one, writes that were not flushed may be lost
}

const (
	mostWish = 4096 // bytes of a name, as the protocol has it
	mostWord = 64   // bytes of the parts behind the disk
)

// String is the name of the export.
func (w Wish) String() string {
	out := w.What + "@" + w.Owner
	if w.Instance != "" {
		out += fmt.Sprintf("/%s/%d/%s", w.Instance, w.Token, w.Incarnation)
	}
	return out
}

// ParseWish reads the name of an export.
func ParseWish(name string) (w Wish, err error) {
	wrong := errors.New("the name of a lent disk is DISK@HOST, or with a session DISK@HOST/INSTANCE/TOKEN/INCARNATION")
	at := strings.LastIndexByte(name, '@')
	if at <= 0 || len(name) > mostWish {
		return w, wrong
	}
	w.What = name[:at]
	parts := strings.Split(name[at+1:], "/")
	for _, p := range parts {
		if p == "" || len(p) > mostWord || state.Printable(p) != p {
			return Wish{}, wrong
		}
	}
	switch len(parts) {
	case 1:
		w.Owner = parts[0]
		return w, nil
	case 4:
		w.Owner, w.Instance, w.Incarnation = parts[0], parts[1], parts[3]
		if w.Token, err = strconv.ParseUint(parts[2], 10, 64); err == nil {
			return w, nil
		}
	}
	return Wish{}, wrong
}

// Refusal is why a lender does not give a disk, so that an owner knows whether to ask again. Its text begins what the lender says.
type Refusal string

// The refusals.
const (
	NotLent     Refusal = "not lent to this host"
	NotThere    Refusal = "the disk is not there"
	Incarnation Refusal = "opened anew since then"          // what was not flushed may be lost
	Taken       Refusal = "in use by another run of a host" // whose connection stands
	Overtaken   Refusal = "owned by a later owner"          // with a higher token
	Draining    Refusal = "an earlier session still writes" // ask again
)

// Error is the refusal as one, with more words.
func (r Refusal) Error() string { return string(r) }

// Refused is the reason for which a lender did not give a disk; empty: it is another error, or none.
func Refused(err error) Refusal {
	if said := (nbd.RefusedError{}); errors.As(err, &said) {
		return refusal(said.Why)
	}
	return ""
}

// Said is what the lender said when it refused.
func Said(err error) string {
	said := nbd.RefusedError{}
	errors.As(err, &said)
	return state.Printable(said.Why)
}

// refusal finds out which one a text is; empty: none of them.
func refusal(text string) Refusal {
	for _, r := range []Refusal{NotLent, NotThere, Incarnation, Taken, Overtaken, Draining} {
		if strings.HasPrefix(text, string(r)) {
			return r
		}
	}
	return ""
}

// About is what a lender says of itself and of the disks that it lends to the owner that asks.
type About struct {
	Host  string `json:"host"`
	Disks []Lent `json:"disks"`
}

// Lent is one of them.
type Lent struct {
	Name        string           `json:"name"` // by which it is asked for
	Serial      string           `json:"serial,omitempty"`
	Model       string           `json:"model,omitempty"`
	Bay         string           `json:"bay,omitempty"`
	Size        int64            `json:"size_bytes"`
	Incarnation string           `json:"incarnation"`      // changes when writes that were not flushed may be lost; empty: it is not there
	Why         string           `json:"why,omitempty"`    // it is not there
	User        string           `json:"user,omitempty"`   // the host with a session on it
	Health      *health.Readings `json:"health,omitempty"` // as the disk said within a minute
}

// mostDisks bounds what is taken from a lender.
const mostDisks = 1000

// Encode is what an export of Everything reads as.
func (a About) Encode() ([]byte, error) {
	buf, err := json.Marshal(a)
	if err == nil && len(buf) > AboutSize {
		err = fmt.Errorf("%d disks are more than can be told of", len(a.Disks))
	}
	if err != nil {
		return nil, err
	}
	return append(buf, bytes.Repeat([]byte(" "), AboutSize-len(buf))...), nil
}

// DecodeAbout reads what a lender says.
func DecodeAbout(buf []byte) (a About, err error) {
	if err = json.Unmarshal(buf, &a); err != nil {
		return About{}, err
	}
	if len(a.Disks) > mostDisks || a.Host == "" {
		return About{}, errors.New("the lender does not name itself, or lends more disks than can be")
	}
	a.Host = short(a.Host)
	for i := range a.Disks {
		d := &a.Disks[i]
		for _, text := range []*string{&d.Serial, &d.Model, &d.Bay, &d.Incarnation, &d.Why, &d.User} {
			*text = short(*text)
		}
		if d.Name == "" || d.Name == Everything || d.Size < 0 || len(d.Name) > mostWish || state.Printable(d.Name) != d.Name || strings.Contains(d.Incarnation, "/") {
			return About{}, fmt.Errorf("the lender says of disk %d what cannot be", i)
		}
	}
	return a, nil
}

// short is a text as it is kept.
func short(text string) string {
	if len(text) > 4*mostWord {
		text = text[:4*mostWord]
	}
	return state.Printable(text)
}
