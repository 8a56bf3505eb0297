package record

import (
	"bytes"
	"encoding/binary"
	"strings"
	"unicode"
	"unicode/utf8"
)

// putText writes as many whole characters as fit, padded with zeros, which are there.
func putText(b []byte, s string) {
	s = Printable(s)
	for len(s) > len(b) {
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	copy(b, s)
}

func getText(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return Printable(string(b))
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

// writer and reader walk a buffer that was made large enough by the caller.
type writer struct {
	buf []byte
	at  int
}

func (w *writer) u32(v uint32) { binary.LittleEndian.PutUint32(w.buf[w.at:], v); w.at += 4 }
func (w *writer) u64(v uint64) { binary.LittleEndian.PutUint64(w.buf[w.at:], v); w.at += 8 }

type reader struct {
	buf []byte
	at  int
}

func (r *reader) u32() uint32 { r.at += 4; return binary.LittleEndian.Uint32(r.buf[r.at-4:]) }
func (r *reader) u64() uint64 { r.at += 8; return binary.LittleEndian.Uint64(r.buf[r.at-8:]) }
