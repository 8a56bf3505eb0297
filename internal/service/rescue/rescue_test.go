package rescue_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/lab"
	"nidalo/internal/service/rescue"
)

func TestListsOfBadPlacesAreReadWithCare(t *testing.T) {
	file := filepath.Join(t.TempDir(), "bad")
	for text, want := range map[string][]disk.Range{
		"":                               nil,
		"# a comment\n\n4096 8192\n":     {{Offset: 4096, Length: 8192}},
		"0 4096 # behind it\n8192 4096":  {{Length: 4096}, {Offset: 8192, Length: 4096}},
		"4096":                           nil,
		"4096 0":                         nil,
		"-1 4096":                        nil,
		"9223372036854775807 4096":       nil,
		"4096 8192 1":                    nil,
		"root:x:0:0:root:/root:/bin/sh":  nil,
		"99999999999999999999999999 512": nil,
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		got, err := rescue.ReadRanges(file)
		if want == nil && text != "" {
			require.Error(t, err, text)
			require.NotContains(t, err.Error(), "root", "nothing of the file is shown")
			continue
		}
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
	}
	_, err := rescue.ReadRanges(t.TempDir())
	require.Error(t, err)
	_, err = rescue.ReadRanges("/dev/zero")
	require.Error(t, err, "it would never end")
}

// bench is a desk, and what is left of an array of three disks with one parity after two of them failed: one fully, one in a place.
type bench struct {
	*rescue.Desk
	t    *testing.T
	lab  *lab.Lab
	ends chan struct{}
	runs sync.WaitGroup
	told []event.Event
	data []byte
}

func newBench(t *testing.T) *bench {
	b := &bench{t: t, lab: lab.At(t.TempDir()), ends: make(chan struct{})}
	require.NoError(t, b.lab.New(3, 32<<20))
	var disks []disk.Disk
	for _, bay := range []string{"A1", "A2", "A3"} {
		d, err := b.lab.Open(bay)
		require.NoError(t, err)
		disks = append(disks, d)
	}
	a, err := array.Create(array.Plan{Name: "tides", Level: layout.Parity1, Strip: layout.MinStrip, Disks: disks}, array.Config{})
	require.NoError(t, err)
	b.data = bytes.Repeat([]byte("low water 0412, high water 1038\n"), 1<<20/32)
	require.NoError(t, a.WriteAt(b.data, 0))
	require.NoError(t, a.Close())
	b.Desk = rescue.New(rescue.Host{Now: time.Now, Ends: b.ends, Spawn: b.runs.Go, Tell: func(e event.Event) { b.told = append(b.told, e) },
		Config: func() array.Config { return array.Config{} }, Address: func(name string) string { return "nbd:" + name }})
	t.Cleanup(b.runs.Wait)
	return b
}

// found opens what is left.
func (b *bench) found(bays ...string) (out []roster.Candidate) {
	for _, bay := range bays {
		d, err := b.lab.OpenReadOnly(bay)
		require.NoError(b.t, err)
		r, err := disk.ReadRecord(d)
		require.NoError(b.t, err)
		out = append(out, roster.Candidate{Disk: d, Record: r})
	}
	return out
}

// copied copies what is left to a file, to the end.
func (b *bench) copied(out string, bays ...string) *control.RescueReply {
	run, err := b.Prepare(control.RescueRequest{Array: "tides", Copy: out}, b.found(bays...), nil)
	require.NoError(b.t, err)
	_, err = b.Begin(run)
	require.NoError(b.t, err)
	b.runs.Wait()
	reply, err := b.Watch(control.RescueRequest{Array: "tides"})
	require.NoError(b.t, err)
	require.Equal(b.t, control.RescueDone, reply.Stage)
	return reply
}

func TestWithoutOneDiskEverythingIsCopied(t *testing.T) {
	b := newBench(t)
	out := filepath.Join(t.TempDir(), "tides.img")
	reply := b.copied(out, "A1", "A3")
	require.Zero(t, reply.Lost)
	got, err := os.ReadFile(out)
	require.NoError(t, err)
	require.True(t, bytes.Equal(b.data, got[:len(b.data)]))
	require.NoError(t, b.Busy("tides"), "it is over")

	again, err := b.Prepare(control.RescueRequest{Array: "tides", Copy: out}, b.found("A1", "A3"), nil)
	require.NoError(t, err)
	_, err = b.Begin(again)
	require.ErrorContains(t, err, "not overwritten")
}

func TestWhatIsLostIsListedAndZerosInTheCopy(t *testing.T) {
	b := newBench(t)
	out := filepath.Join(t.TempDir(), "tides.img")
	reply := b.copied(out, "A2")
	require.NotZero(t, reply.Lost)
	lost, err := rescue.ReadRanges(out + ".lost")
	require.NoError(t, err)
	got, err := os.ReadFile(out)
	require.NoError(t, err)
	want, sum := bytes.Clone(b.data), int64(0)
	for _, r := range lost {
		sum += r.Length
		clear(want[min(r.Offset, int64(len(want))):min(r.Offset+r.Length, int64(len(want)))])
	}
	require.Equal(t, reply.Copy.Lost, sum)
	require.True(t, bytes.Equal(want, got[:len(want)]), "every byte is right, or listed")
	require.Equal(t, event.Warning, b.told[len(b.told)-1].Severity)
}

func TestAServedRescueEndsWhenItIsAskedTo(t *testing.T) {
	b := newBench(t)
	run, err := b.Prepare(control.RescueRequest{Array: "tides", Serve: true}, b.found("A1", "A2"), nil)
	require.NoError(t, err)
	reply, err := b.Begin(run)
	require.NoError(t, err)
	require.Equal(t, "nbd:rescue/tides", reply.Export)
	require.Equal(t, []string{"rescue/tides"}, b.Served())
	require.ErrorContains(t, b.Busy("tides"), "served")
	client, leave := b.Join("tides")
	require.NotNil(t, client)
	got := make([]byte, 4096)
	require.NoError(t, client.While(func() error { return client.Array().ReadAt(got, 0) }))
	require.Equal(t, b.data[:4096], got)
	reply, err = b.Watch(control.RescueRequest{Array: "tides", Stop: true})
	require.NoError(t, err)
	require.Equal(t, control.RescueDone, reply.Stage, fmt.Sprint(reply.Error))
	require.ErrorIs(t, client.While(func() error { return nil }), rescue.ErrOver)
	leave()
	require.Empty(t, b.Served())
}
