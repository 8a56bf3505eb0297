package view

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"unicode"
	"unicode/utf8"
)

// guard keeps what a terminal would obey out of what is printed: names come from disks, files and peers. Our own colours pass.
type guard struct{ to io.Writer }

var colour = regexp.MustCompile(`^\x1b\[[0-9;]*m`)

func (g guard) Write(p []byte) (int, error) {
	out := make([]byte, 0, len(p))
	for rest := p; len(rest) > 0; {
		r, n := utf8.DecodeRune(rest)
		switch {
		case r == '\n' || r == '\t' || unicode.IsPrint(r) && (r != utf8.RuneError || n > 1):
			out = append(out, rest[:n]...)
		case r == '\x1b' && colour.Match(rest):
			n = len(colour.Find(rest))
			out = append(out, rest[:n]...)
		default:
			out = utf8.AppendRune(out, utf8.RuneError)
		}
		rest = rest[n:]
	}
	if _, err := g.to.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// plainJSON writes JSON with everything that is not printable in its strings as an escape, which means the same.
type plainJSON struct{ to io.Writer }

func (w plainJSON) Write(p []byte) (int, error) {
	var out bytes.Buffer
	for _, r := range string(p) {
		switch {
		case r == '\n' || unicode.IsPrint(r):
			out.WriteRune(r)
		case r > 0xffff:
			r -= 0x10000
			fmt.Fprintf(&out, "\\u%04x\\u%04x", 0xd800+r>>10, 0xdc00+r&0x3ff)
		default:
			fmt.Fprintf(&out, "\\u%04x", r)
		}
	}
	_, err := w.to.Write(out.Bytes())
	return len(p), err
}
