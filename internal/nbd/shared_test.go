package nbd

import (
	"bytes"
	"encoding/binary"
	"io"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/require"
)

// common is memory that an export shares with its client.
type common struct {
	*memory
	tray []byte
}

func (s common) Memory() Memory { return s }

func (s common) Into(place, n int64) []byte {
	if place < 0 || n > int64(len(s.tray)) || place > int64(len(s.tray))-n {
		return nil
	}
	return s.tray[place : place+n]
}

func (s common) From(p []byte, place int64) error {
	at := s.Into(place, int64(len(p)))
	if at == nil {
		return io.ErrUnexpectedEOF
	}
	copy(p, at)
	return nil
}

type sharing struct{ common }

func (s sharing) Names() []string                             { return []string{"tides"} }
func (s sharing) Open(string, string) (Export, func(), error) { return s.common, func() {}, nil }

func shareOver(t *testing.T, network string) (common, string) {
	s := common{newMemory(256), make([]byte, 1<<20)}
	server := NewServer(sharing{s}, slog.New(slog.DiscardHandler))
	t.Cleanup(server.Close)
	return s, serveOver(t, server, network)
}

func TestMemoryIsSharedWithThoseWhoAskForIt(t *testing.T) {
	s, path := shareOver(t, "unix")
	c, err := Dialer{Network: "unix", Address: path, Share: true}.Dial("tides")
	require.NoError(t, err)
	defer c.Close()
	require.True(t, c.Shares())
	for _, n := range []int{0, 1, 4096, receiveFrom, piece / 4} {
		want := bytes.Repeat([]byte{byte(n), 9}, n)[:n]
		copy(s.tray[100:], want)
		require.NoError(t, c.WriteShared(100, 5000, n, n == 4096))
		clear(s.tray)
		got := make([]byte, n)
		require.NoError(t, c.ReadAt(got, 5000), "the connection has what others see")
		require.Equal(t, want, got)
		require.NoError(t, c.ReadShared(7, 5000, n))
		require.Equal(t, want, s.tray[7:7+n])
	}
	require.Positive(t, s.flushes, "a durable write is")
	require.NoError(t, c.WriteAt([]byte("as ever"), 0))
	require.ErrorIs(t, c.ReadShared(1<<20-4095, 0, 4096), ErrIO, "beyond the tray")
	require.ErrorIs(t, c.ReadShared(-1, 0, 4096), ErrIO)
	require.ErrorIs(t, c.ReadShared(0, s.Size(), 1), ErrIO, "beyond the export")
	require.NoError(t, c.ReadShared(0, 0, 4096), "and it goes on")

	for _, place := range []int64{-1, 1 << 20, 1<<63 - 1} {
		bad, err := Dialer{Network: "unix", Address: path, Share: true}.Dial("tides")
		require.NoError(t, err)
		require.ErrorIs(t, bad.WriteShared(place, 0, 4096, false), ErrBroken, "data that is not there ends the connection")
		require.ErrorIs(t, bad.WriteShared(0, 0, 4096, false), ErrBroken)
	}
	got := make([]byte, 7)
	require.NoError(t, c.ReadAt(got, 0))
	require.Equal(t, "as ever", string(got), "and changes nothing")
}

func TestMemoryIsSharedWithNoOneElse(t *testing.T) {
	s, path := shareOver(t, "unix")
	_, address := shareOver(t, "tcp")
	_, plain, _ := serve(t)
	for name, d := range map[string]Dialer{
		"that did not ask": {Network: "unix", Address: path}, "on another host": {Network: "tcp", Address: address, Share: true},
		"of an export that has none": {Network: "unix", Address: plain, Share: true}} {
		c, err := d.Dial("tides")
		require.NoError(t, err, name)
		require.False(t, c.Shares(), name)
		require.NoError(t, c.Close())
	}
	// A request that claims it all the same is refused: 8 bytes more are no request.
	nc := raw(t, path)
	defer nc.Close()
	_, err := nc.Write(bytes.Join([][]byte{clientFlags, goTides, tx(cmdRead, cmdFlagShared, 0, 4096), make([]byte, 8), tx(cmdFlush, 0, 0, 0)}, nil))
	require.NoError(t, err)
	all, _ := io.ReadAll(nc) // the other end may be reset
	reply := bytes.Index(all, binary.BigEndian.AppendUint32(nil, magicSimple))
	require.GreaterOrEqual(t, reply, 0)
	require.EqualValues(t, errInvalid, binary.BigEndian.Uint32(all[reply+4:]))
	require.Len(t, all[reply:], 16, "and then the connection is closed")
	require.Zero(t, s.flushes)
}

// A request of which the place has not come yet keeps none of those before it waiting, however quick they are.
func TestHalfARequestKeepsNoOtherWaiting(t *testing.T) {
	_, path := shareOver(t, "unix")
	nc := raw(t, path)
	defer nc.Close()
	_, err := nc.Write(bytes.Join([][]byte{clientFlags, option(optGo, 0, 0, 0, 5, 't', 'i', 'd', 'e', 's', 0, 1, 0x6e, 0x64)}, nil))
	require.NoError(t, err)
	for kind := uint32(0); kind != repAck; {
		head := make([]byte, 20)
		_, err := io.ReadFull(nc, head)
		require.NoError(t, err)
		_, err = io.ReadFull(nc, make([]byte, binary.BigEndian.Uint32(head[16:])))
		require.NoError(t, err)
		kind = binary.BigEndian.Uint32(head[12:])
	}
	replies := func(n int) {
		_, err := io.ReadFull(nc, make([]byte, simpleHead*n))
		require.NoError(t, err)
	}
	place := make([]byte, placeLength)
	for _, kind := range []uint16{cmdRead, cmdWrite} {
		one := append(tx(kind, cmdFlagShared, 0, 4096), place...)
		for range 4 * quickScore { // until requests are taken to be quick
			_, err := nc.Write(one)
			require.NoError(t, err)
			replies(1)
		}
		_, err := nc.Write(append(bytes.Repeat(one, 3), one[:requestHead]...))
		require.NoError(t, err)
		replies(3)
		_, err = nc.Write(place)
		require.NoError(t, err)
		replies(1)
	}
}
