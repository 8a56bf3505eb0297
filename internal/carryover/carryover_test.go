//go:build linux

package carryover

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

type change struct {
	off, length int64
	data        []byte
}

func contents(t require.TestingT, r *Ring) (out []change) {
	require.NoError(t, r.Again(func(off, length int64, data []byte) error {
		out = append(out, change{off, length, bytes.Clone(data)})
		return nil
	}))
	return out
}

// Whatever is added, passed on, dropped and flushed, and whenever the process ends: what is found again is exactly what is whole and not
// let go of, in order.
func TestWhatIsNotFlushedIsFoundAgain(t *testing.T) {
	folder := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		path, id := filepath.Join(folder, "ring"), uuid.New()
		r, err := Create(path, MinSize, id)
		require.NoError(t, err)
		defer func() { _ = r.release() }()
		type entry struct {
			*Entry
			change
			whole, passed, doubted bool
		}
		session := uint64(0)
		var live []*entry // that the ring has to have, if whole
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			switch rapid.SampledFrom([]string{"add", "add", "add", "pass", "drop", "doubt", "begin", "flush", "die"}).Draw(t, "what") {
			case "add":
				c := change{off: rapid.Int64Range(0, 1<<40).Draw(t, "off")}
				zeros := rapid.Bool().Draw(t, "zeros")
				if c.length = rapid.Int64Range(1, MaxData).Draw(t, "length"); zeros {
					c.length <<= 10
				}
				e, err := r.Add(c.off, c.length, zeros)
				if err != nil {
					require.ErrorIs(t, err, ErrFull)
					used, size := r.Used()
					require.Greater(t, used, size-3*MaxData, "full while there is room")
					continue
				}
				x := &entry{Entry: e, change: c, whole: rapid.Bool().Draw(t, "whole")}
				if !zeros {
					for i := range e.Data {
						e.Data[i] = byte(i) ^ byte(c.off)
					}
					x.data = bytes.Clone(e.Data)
				}
				if x.whole {
					e.Whole()
				}
				live = append(live, x)
			case "pass":
				if i := rapid.IntRange(0, max(len(live)-1, 0)).Draw(t, "which"); i < len(live) && live[i].whole && !live[i].doubted {
					live[i].Passed()
					live[i].passed = true
				}
			case "drop":
				if i := rapid.IntRange(0, max(len(live)-1, 0)).Draw(t, "which"); i < len(live) && !live[i].passed && !live[i].doubted {
					live[i].Drop()
					live = append(live[:i:i], live[i+1:]...)
				}
			case "doubt":
				if i := rapid.IntRange(0, max(len(live)-1, 0)).Draw(t, "which"); i < len(live) && !live[i].passed && !live[i].doubted {
					if late := session > 0 && rapid.Bool().Draw(t, "late"); late { // the next session has begun: nothing reads it any more
						live[i].Doubt(session - 1)
						live = append(live[:i:i], live[i+1:]...)
					} else {
						live[i].Doubt(session)
						live[i].doubted = true
					}
				}
			case "begin":
				session = r.Begin()
				live = slices.DeleteFunc(live, func(x *entry) bool { return x.doubted })
			case "flush":
				r.Flushed(r.Mark())
				for len(live) > 0 && live[0].passed {
					live = live[1:]
				}
			case "die":
				require.NoError(t, r.release())
				session = 0
				r, err = Open(path)
				require.NoError(t, err)
				require.Equal(t, id, r.Array())
				for i := 0; i < len(live); i++ {
					if !live[i].whole { // it was never acknowledged
						live = append(live[:i:i], live[i+1:]...)
						i--
					} else {
						live[i].r, live[i].passed, live[i].doubted = r, true, false
					}
				}
			}
			var want []change
			for _, x := range live {
				if x.whole {
					want = append(want, x.change)
				}
			}
			require.Equal(t, want, contents(t, r))
		}
	})
}

func TestAFlushCoversOnlyWhatWasPassedOnBefore(t *testing.T) {
	r, err := Create(filepath.Join(t.TempDir(), "ring"), MinSize, uuid.New())
	require.NoError(t, err)
	defer r.Close()
	add := func(off int64) *Entry {
		e, err := r.Add(off, 4096, false)
		require.NoError(t, err)
		e.Whole()
		return e
	}
	add(0).Passed()
	late := add(4096)
	add(8192).Passed()
	mark := r.Mark()
	late.Passed()
	r.Flushed(mark)
	require.Len(t, contents(t, r), 2, "the flush began before the second was passed on")
	r.Flushed(r.Mark())
	require.Empty(t, contents(t, r))
}

func TestAWaitEndsWithRoomOrWithItsContext(t *testing.T) {
	r, err := Create(filepath.Join(t.TempDir(), "ring"), MinSize, uuid.New())
	require.NoError(t, err)
	defer r.Close()
	e, err := r.Add(0, 1, false)
	require.NoError(t, err)
	head := r.Head()
	done := make(chan error)
	go func() { done <- r.Wait(context.Background(), head) }()
	e.Whole()
	e.Passed()
	r.Flushed(r.Mark())
	require.NoError(t, <-done)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.ErrorIs(t, r.Wait(ctx, r.Head()), context.Canceled)
}

// A file of another version, or of something else, is refused and left as it is.
func TestOtherFilesAreRefusedAndKept(t *testing.T) {
	folder := t.TempDir()
	fresh := func(edit func(raw []byte)) string {
		path := filepath.Join(folder, uuid.NewString())
		r, err := Create(path, MinSize, uuid.New())
		require.NoError(t, err)
		e, err := r.Add(0, 10000, false)
		require.NoError(t, err)
		e.Whole()
		e.Passed()
		require.NoError(t, r.Close())
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		edit(raw)
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		return path
	}
	for name, c := range map[string]struct {
		edit func([]byte)
		want error
	}{
		"of the next version": {func(raw []byte) { binary.LittleEndian.PutUint32(raw[8:], version+1) }, ErrVersion},
		"of something else":   {func(raw []byte) { raw[0] ^= 1 }, ErrDamaged},
		"of another length":   {func(raw []byte) { binary.LittleEndian.PutUint64(raw[16:], MinSize+4096) }, ErrDamaged},
		"that ends early":     {func(raw []byte) { binary.LittleEndian.PutUint64(raw[56:], 1<<40) }, ErrDamaged},
		"with a long entry":   {func(raw []byte) { binary.LittleEndian.PutUint64(raw[4096+24:], 1<<60) }, ErrDamaged},
		"with no entry":       {func(raw []byte) { clear(raw[4096:][:64]) }, ErrDamaged},
	} {
		path := fresh(c.edit)
		before, err := os.ReadFile(path)
		require.NoError(t, err)
		_, err = Open(path)
		require.ErrorIs(t, err, c.want, name)
		after, err := os.ReadFile(path)
		require.NoError(t, err)
		require.True(t, bytes.Equal(before, after), name)
	}
	path := fresh(func([]byte) {})
	r, err := Open(path)
	require.NoError(t, err)
	_, err = Open(path)
	require.ErrorContains(t, err, "another process uses it")
	require.NoError(t, r.Close())
}

// Nothing in a file makes it panic.
func FuzzOpen(f *testing.F) {
	f.Add([]byte{1, 0, 0, 0}, uint16(4096), uint64(0), uint64(640))
	f.Fuzz(func(t *testing.T, bytes []byte, at uint16, head, tail uint64) {
		path := filepath.Join(t.TempDir(), "ring")
		r, err := Create(path, MinSize, uuid.New())
		require.NoError(t, err)
		for i := range 4 {
			if e, err := r.Add(int64(i)<<20, 50+int64(i)*1000, i == 2); err == nil {
				e.Whole()
			}
		}
		copy(r.all[at:], bytes)
		r.word(48).Store(head)
		r.word(56).Store(tail)
		require.NoError(t, r.release())
		if r, err = Open(path); err == nil {
			_ = r.Again(func(_, length int64, data []byte) error {
				if data != nil && int64(len(data)) != length {
					return fmt.Errorf("%d bytes of %d", len(data), length)
				}
				return nil
			})
			if e, err := r.Add(0, 100, false); err == nil {
				e.Whole()
				e.Passed()
				r.Flushed(r.Mark())
			}
			_ = r.Close()
		}
	})
}

// A caller that still has an entry keeps the memory; one that asks afterwards finds it closed.
func TestCloseWaitsForEntries(t *testing.T) {
	r, err := Create(filepath.Join(t.TempDir(), "ring"), MinSize, uuid.New())
	require.NoError(t, err)
	e, err := r.Add(0, 100, false)
	require.NoError(t, err)
	closed := make(chan error)
	go func() { closed <- r.Close() }()
	require.Eventually(t, func() bool {
		other, err := r.Add(0, 100, false)
		if err == nil {
			other.Drop()
		}
		return err != nil
	}, 5*time.Second, time.Millisecond)
	e.Data[99] = 1
	e.Whole()
	select {
	case <-closed:
		require.Fail(t, "the memory of an entry is gone")
	default:
	}
	e.Drop()
	require.NoError(t, <-closed)
	require.False(t, r.Lost())
	r.SetLost(true)
	r.Flushed(r.Mark())
	r.Used()
}
