package control

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"reflect"
	"time"

	"nidalo/core/state"
)

// Dial finds the service of a home. It fails with os.ErrNotExist or a refused connection when none is there.
func Dial(home string) (*Control, error) {
	path := Socket(home)
	nc, err := net.DialTimeout("unix", path, 5*time.Second)
	if errors.Is(err, os.ErrPermission) {
		path = LookingSocket(home)
		nc, err = net.DialTimeout("unix", path, 5*time.Second)
	}
	if err != nil {
		return nil, err
	}
	_ = nc.Close()
	client := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", path)
	}}}
	c := &Control{Close: func() error { client.CloseIdleConnections(); return nil }}
	for _, one := range calls(c) {
		one.f.Set(reflect.MakeFunc(one.f.Type(), one.ask(service{context.Background(), client, "http://nidalo", false})))
	}
	return c, nil
}

// Reach is the service of another host, at an address such as https://heron:10812. It answers calls that look; the others it refuses. What it says is bounded, and
// what cannot be printed is replaced.
func Reach(ctx context.Context, client *http.Client, base string) *Control {
	c := &Control{Close: func() error { return nil }}
	for _, one := range calls(c) {
		one.f.Set(reflect.MakeFunc(one.f.Type(), one.ask(service{ctx, client, base, true})))
	}
	return c
}

// service is one that can be asked.
type service struct {
	ctx    context.Context
	client *http.Client
	base   string
	far    bool // on another host
}

// ask has a call done by a service.
func (c call) ask(by service) func([]reflect.Value) []reflect.Value {
	kind := c.f.Type()
	return func(in []reflect.Value) []reflect.Value {
		var q any = struct{}{}
		if len(in) == 1 {
			q = in[0].Interface()
		}
		result := reflect.New(reflect.TypeFor[struct{}]())
		if kind.NumOut() == 2 {
			result = reflect.New(kind.Out(0))
		}
		failed := reflect.New(reflect.TypeFor[error]()).Elem()
		if err := by.post(c.name, q, result.Interface()); err != nil {
			failed.Set(reflect.ValueOf(err))
		}
		return append([]reflect.Value{result.Elem()}[:kind.NumOut()-1], failed)
	}
}

// mostReply is how much is read of a reply, bytes; mostFar of one from another host, of which many may be asked at a time.
const mostReply, mostFar = 64 << 20, 8 << 20

// post sends a request and decodes the reply into result.
func (s service) post(name string, q, result any) error {
	body, err := json.Marshal(q)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(s.ctx, http.MethodPost, s.base+"/v1/"+name, bytes.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	reply, err := s.client.Do(request)
	if err != nil {
		return fmt.Errorf("the service does not answer: %w", err)
	}
	defer reply.Body.Close()
	most := int64(mostReply)
	if s.far {
		most = mostFar
	}
	buf, err := io.ReadAll(io.LimitReader(reply.Body, most))
	if err != nil {
		return fmt.Errorf("the service does not answer: %w", err)
	}
	if s.far {
		if buf, err = printable(buf); err != nil {
			return fmt.Errorf("the service answered something that is no reply: %w", err)
		}
	}
	switch reply.StatusCode {
	case http.StatusOK:
		return json.Unmarshal(buf, result)
	case http.StatusUnprocessableEntity:
		told := &Error{}
		if err := json.Unmarshal(buf, told); err != nil {
			return err
		}
		return told
	}
	return fmt.Errorf("the service answered %s: %s; is it of another version?", reply.Status, bytes.TrimSpace(buf))
}

// printable is a reply in JSON in which what cannot be printed is replaced.
func printable(raw []byte) ([]byte, error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	var all any
	if err := d.Decode(&all); err != nil {
		return nil, err
	}
	return json.Marshal(withPrintable(all))
}

func withPrintable(x any) any {
	switch x := x.(type) {
	case string:
		return state.Printable(x)
	case []any:
		for i := range x {
			x[i] = withPrintable(x[i])
		}
	case map[string]any:
		out := make(map[string]any, len(x))
		for key, v := range x {
			out[state.Printable(key)] = withPrintable(v)
		}
		return out
	}
	return x
}
