package control

import (
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"reflect"
	"slices"
	"strings"
)

// maxBody bounds a request.
const maxBody = 1 << 20

// call is one field of a Control that is a call.
type call struct {
	name  string
	looks bool
	f     reflect.Value
}

// calls lists the calls of a control.
func calls(c *Control) (out []call) {
	v := reflect.ValueOf(c).Elem()
	for i := range v.NumField() {
		if tag := v.Type().Field(i).Tag.Get("call"); tag != "" {
			name, rest, _ := strings.Cut(tag, ",")
			out = append(out, call{name, rest == "looks", v.Field(i)})
		}
	}
	return out
}

// Handler serves all calls of a control.
func Handler(c *Control, log *slog.Logger) http.Handler { return handler(c, log, false) }

// Looking serves the calls that only look, and refuses the others to users that may only look.
func Looking(c *Control, log *slog.Logger) http.Handler { return handler(c, log, true) }

// Watched lets those whose certificate has one of these names look, and nobody else; without by everybody.
func Watched(by []string, c *Control, log *slog.Logger) http.Handler {
	looking := Looking(c, log)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if by != nil && (r.TLS == nil || len(r.TLS.PeerCertificates) == 0 || !slices.ContainsFunc(r.TLS.PeerCertificates[0].DNSNames, func(name string) bool { return slices.Contains(by, name) })) {
			refuse(w, &Error{What: "your certificate names nobody who may look here", Hints: []string{"fleet.watchers in nidalo.toml of the host that is asked says who may"}})
			return
		}
		looking.ServeHTTP(w, r)
	})
}

func handler(c *Control, log *slog.Logger, looking bool) http.Handler {
	mux := http.NewServeMux()
	for _, one := range calls(c) {
		if one.looks || !looking {
			mux.HandleFunc("POST /v1/"+one.name, one.serve(log))
		}
	}
	if looking {
		mux.HandleFunc("POST /v1/", func(w http.ResponseWriter, r *http.Request) {
			refuse(w, &Error{What: "you may look here, and change nothing", Hints: []string{"the group in nidalo.toml, and root, may do everything"}})
		})
	}
	return mux
}

// serve answers requests with a call.
func (c call) serve(log *slog.Logger) http.HandlerFunc {
	in := reflect.TypeFor[struct{}]()
	if c.f.Type().NumIn() == 1 {
		in = c.f.Type().In(0)
	}
	return func(w http.ResponseWriter, r *http.Request) {
		q := reflect.New(in)
		d := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody))
		d.DisallowUnknownFields()
		if err := d.Decode(q.Interface()); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		out := c.f.Call([]reflect.Value{q.Elem()}[:c.f.Type().NumIn()])
		if err, failed := out[len(out)-1].Interface().(error); failed {
			log.Debug("call refused", "call", c.name, "reason", err)
			refuse(w, err)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(out[0].Interface())
	}
}

func refuse(w http.ResponseWriter, err error) {
	var told *Error
	if !errors.As(err, &told) {
		told = &Error{What: err.Error()}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusUnprocessableEntity)
	_ = json.NewEncoder(w).Encode(told)
}
