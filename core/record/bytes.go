package record

import (
	"bytes"
	"encoding/binary"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// writer and reader walk a fixed-size buffer that was made large enough by the caller.
type writer struct {
	buf []byte
	at  int
}

func (w *writer) u8(v uint8)     { w.buf[w.at] = v; w.at++ }
func (w *writer) u32(v uint32)   { binary.LittleEndian.PutUint32(w.buf[w.at:], v); w.at += 4 }
func (w *writer) u64(v uint64)   { binary.LittleEndian.PutUint64(w.buf[w.at:], v); w.at += 8 }
func (w *writer) bytes(b []byte) { w.at += copy(w.buf[w.at:], b) }

func (w *writer) bool(v bool) {
	if v {
		w.buf[w.at] = 1
	}
	w.at++
}

// text writes as many whole characters as fit into room bytes, and pads with zeros.
func (w *writer) text(s string, room int) {
	s = Printable(s)
	for len(s) > room {
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	copy(w.buf[w.at:w.at+room], s)
	w.at += room
}

// Printable is a text from outside as it may be shown: what is not UTF-8, or not printable, is replaced by U+FFFD. It is
// applied where such a text comes in, so that nothing behind has to ask where it is from.
func Printable(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return utf8.RuneError
	}, s)
}

// time is nanoseconds since 1970, 0 for the zero time.
func (w *writer) time(t time.Time) {
	if t.IsZero() {
		w.u64(0)
		return
	}
	w.u64(uint64(t.UnixNano()))
}

type reader struct {
	buf []byte
	at  int
}

func (r *reader) u8() uint8      { r.at++; return r.buf[r.at-1] }
func (r *reader) u32() uint32    { r.at += 4; return binary.LittleEndian.Uint32(r.buf[r.at-4:]) }
func (r *reader) u64() uint64    { r.at += 8; return binary.LittleEndian.Uint64(r.buf[r.at-8:]) }
func (r *reader) bytes(b []byte) { r.at += copy(b, r.buf[r.at:]) }
func (r *reader) bool() bool     { return r.u8() != 0 }

func (r *reader) text(room int) string {
	b := r.buf[r.at : r.at+room]
	r.at += room
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return Printable(string(b))
}

func (r *reader) time() time.Time {
	if n := int64(r.u64()); n != 0 {
		return time.Unix(0, n).UTC()
	}
	return time.Time{}
}
