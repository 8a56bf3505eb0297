// Package keeper holds devices that arrays are attached as, in a process of its own that outlives the service: it is never restarted
// for an upgrade. The kernel's client of the block protocol, or where there is none a loop device on a file system in user space, is on
// one side of it, the service's socket on the other; what a device was told is written and is not flushed yet stays in memory that
// outlives both (package carryover).
//
//	protocol.go  what can be asked of a keeper, and the client that asks
//	keeper.go    the devices of one home, and the handler of requests
//	device.go    one device: made, taken over from an earlier keeper, ended
//	relay.go     the way of a request, and what happens when the service goes away
//	kernel.go    the kernel's client of the block protocol
//	fuse.go      the other way to a device
//	holders.go   the users of a device
//	steady.go    memory that is not swapped out, and writing that is not throttled
package keeper

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"time"
)

// Version is that of the protocol, and of what a keeper writes down for the next.
const Version = 1

// BlockSize is the logical block size of every device, in bytes.
const BlockSize = 4096

// Socket is where the keeper of a home listens.
func Socket(home string) string { return filepath.Join(home, "keeper.sock") }

// AttachRequest asks for a device.
type AttachRequest struct {
	Array  string `json:"array"`  // its identity
	Name   string `json:"name"`   // for the link in /dev/nidalo
	Socket string `json:"socket"` // of the block protocol
	Export string `json:"export"`
	// Connections is how many the kernel's client gets; 0: one. With several a busy kernel may leave the replies on one of them unread for
	// as long as another lasts, when it runs their readers on the one thread that it has in reserve; what was sent there waits for
	// two minutes then.
	Connections int `json:"connections,omitempty"`
}

// MaxConnections bounds them.
const MaxConnections = 16

// DetachRequest asks for the end of one.
type DetachRequest struct {
	Array string `json:"array"`
	Force bool   `json:"force"` // although it is in use, or what it holds cannot be flushed
	// Where the array is served, for what a device left that is gone.
	Socket string `json:"socket"`
	Export string `json:"export"`
}

// RefreshRequest asks to look how large an array is.
type RefreshRequest struct {
	Array string `json:"array"`
}

// Attached is a device as its keeper has it.
type Attached struct {
	Array     string    `json:"array"`
	Name      string    `json:"name"`
	Kind      string    `json:"kind"`
	Device    string    `json:"device"`
	Link      string    `json:"link"`
	Size      int64     `json:"size_bytes"`
	Connected bool      `json:"connected"` // to the service
	Since     time.Time `json:"since,omitzero"`
	Reason    string    `json:"reason,omitempty"` // why it is not connected, or not taken over
	Unflushed int64     `json:"unflushed_bytes"`  // at most
	Room      int64     `json:"room_bytes"`       // for those
	Lost      bool      `json:"lost"`             // the next flush has to fail
	Refused   bool      `json:"refused"`          // an earlier keeper's device that this one does not take over
	UsedBy    []string  `json:"used_by,omitempty"`
}

// StateRequest asks for that.
type StateRequest struct {
	Users bool `json:"users"`
}

// State is what a keeper says of itself.
type State struct {
	Protocol int        `json:"protocol"`
	Program  string     `json:"program"` // its version
	PID      int        `json:"pid"`
	Devices  []Attached `json:"devices"`
	Unsteady []string   `json:"unsteady,omitempty"` // what it may not do, in words
}

// Client asks a keeper.
type Client struct{ http *http.Client }

// ErrNone is returned by Dial when no keeper is there.
var ErrNone = errors.New("there is no keeper")

// Dial finds the keeper of a home.
func Dial(home string) (*Client, error) {
	path := Socket(home)
	c, err := net.DialTimeout("unix", path, 5*time.Second)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNone, err)
	}
	_ = c.Close()
	return &Client{&http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", path)
	}}}}, nil
}

// refusal is an error as it is carried over.
type refusal struct {
	What string   `json:"what"`
	Held []string `json:"held,omitempty"`
	Kind string   `json:"kind,omitempty"`
}

// Refused is an error of the keeper.
type Refused struct {
	What  string
	InUse bool // it is used by Held
	Held  []string
}

func (r *Refused) Error() string { return r.What }

// How long a client waits for an answer: to a question, so that a keeper that hangs does not hang the client; and to a request that takes its time.
const (
	AnswerTime = 5 * time.Second // a busy host may take seconds to find the users of a device
	WorkTime   = 3 * time.Minute
)

func ask[R any](c *Client, most time.Duration, name string, q any) (R, error) {
	var result R
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	body, err := json.Marshal(q)
	if err != nil {
		return result, err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, fmt.Sprintf("http://keeper/v%d/%s", Version, name), bytes.NewReader(body))
	if err != nil {
		return result, err
	}
	reply, err := c.http.Do(request)
	if errors.Is(err, context.DeadlineExceeded) {
		return result, fmt.Errorf("the keeper does not answer for %s", most)
	}
	if err != nil {
		return result, fmt.Errorf("the keeper does not answer: %w", err)
	}
	defer reply.Body.Close()
	buf, err := io.ReadAll(io.LimitReader(reply.Body, 4<<20))
	if err != nil {
		return result, fmt.Errorf("the keeper does not answer: %w", err)
	}
	switch reply.StatusCode {
	case http.StatusOK:
		return result, json.Unmarshal(buf, &result)
	case http.StatusUnprocessableEntity:
		var r refusal
		if err := json.Unmarshal(buf, &r); err != nil {
			return result, err
		}
		return result, &Refused{What: r.What, InUse: r.Kind == "held", Held: r.Held}
	}
	return result, &Refused{What: fmt.Sprintf("the keeper is of another version (%s: %s)", reply.Status, strings.TrimSpace(string(buf[:min(len(buf), 200)])))}
}

// State asks how the keeper and its devices are; with users, also the users of devices, for which it looks through the processes.
func (c *Client) State(users bool, most time.Duration) (State, error) {
	return ask[State](c, most, "state", StateRequest{users})
}

// Attach makes a device. Who does not wait any longer than most may find it made later.
func (c *Client) Attach(q AttachRequest, most time.Duration) (Attached, error) {
	return ask[Attached](c, most, "attach", q)
}

// Refresh tells a device how large its array is by now.
func (c *Client) Refresh(q RefreshRequest) error {
	_, err := ask[struct{}](c, AnswerTime, "refresh", q)
	return err
}

// Detach ends one.
func (c *Client) Detach(q DetachRequest) error {
	_, err := ask[struct{}](c, WorkTime, "detach", q)
	return err
}
