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
		one.f.Set(reflect.MakeFunc(one.f.Type(), one.ask(client)))
	}
	return c, nil
}

// ask has a call done by the service behind a client.
func (c call) ask(client *http.Client) func([]reflect.Value) []reflect.Value {
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
		if err := post(client, c.name, q, result.Interface()); err != nil {
			failed.Set(reflect.ValueOf(err))
		}
		return append([]reflect.Value{result.Elem()}[:kind.NumOut()-1], failed)
	}
}

// post sends a request and decodes the reply into result.
func post(client *http.Client, name string, q, result any) error {
	body, err := json.Marshal(q)
	if err != nil {
		return err
	}
	reply, err := client.Post("http://nidalo/v1/"+name, "application/json", bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("the service does not answer: %w", err)
	}
	defer reply.Body.Close()
	buf, err := io.ReadAll(reply.Body)
	if err != nil {
		return fmt.Errorf("the service does not answer: %w", err)
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
