package record

import (
	"bytes"
	"encoding/binary"
	"unicode/utf8"

	"nidalo/core/state"
)

// putText writes as many whole characters as fit, padded with zeros, which are there.
func putText(b []byte, s string) {
	s = state.Printable(s)
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
	return state.Printable(string(b))
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
