package test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"
)

func (b *bench) pace(text string) {
	b.configure(text)
	require.NoError(b.t, b.serve.Process.Signal(syscall.SIGHUP))
}

// TestAKillLosesAHundredthOfATaskAtMost kills the service twice in every kind of task. The pace is set so low before the
// next start that what is shown then is what was saved.
func TestAKillLosesAHundredthOfATaskAtMost(t *testing.T) {
	const fast, slow = "pace = '16MiB/s'\n", "pace = '64KiB/s'\n" // of a task of less than half a minute a second may be repeated
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "7", "-size", "640MiB")
	b.configure(fast)
	b.nidalo("create", "-name", "tides", "-level", "1", "A1", "A2")
	b.start()
	b.nidalo("spare", "A4")
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, 560*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))

	type task struct {
		Kind, State string
		Percent     float64
	}
	newest := func(kind string) (last task) {
		for _, x := range b.status().Arrays[0].Tasks {
			if x.Kind == kind {
				last = task{x.Kind, x.State, x.Percent}
			}
		}
		return last
	}
	vet := func(string) (last task) {
		var p struct{ Vets []task }
		_, text, _ := b.try("vet", "-json")
		require.NoError(t, json.Unmarshal([]byte(text), &p))
		return p.Vets[len(p.Vets)-1]
	}
	// killed ends the service twice in a task that was just begun, and lets it go on to its end.
	killed := func(kind string, look func(string) task) {
		t.Helper()
		for _, at := range []float64{12, 30} {
			var before task
			b.eventually(kind+" begins", func() bool { before = look(kind); return before.Percent > at })
			require.Equal(t, "running", before.State, "%s: %+v", kind, before)
			b.stop(syscall.SIGKILL)
			b.configure(slow)
			b.start()
			var after task
			b.eventually(kind+" goes on", func() bool { after = look(kind); return after.State == "running" })
			t.Logf("%s: %.2f%% before, %.2f%% after", kind, before.Percent, after.Percent)
			require.Greater(t, after.Percent, before.Percent-1, kind)
			require.Less(t, after.Percent, before.Percent+20, kind)
			b.pace(fast)
		}
		b.pace("")
		if kind != "vet" {
			b.eventually(kind+" ends", func() bool { return look(kind).State == "done" })
		}
		b.pace(fast)
	}

	b.nidalo("lab", "pull", "A1")
	killed("rebuild", newest) // the spare takes over
	require.Equal(t, "A4", b.status().Arrays[0].Members[0].Bay)
	b.nidalo("fail", "-yes", "tides", "A2")
	b.nidalo("replace", "tides", "A2", "A5")
	killed("rebuild", newest)
	b.nidalo("retire", "tides", "A5", "A6")
	killed("retire", newest)
	serial := b.status().Arrays[0].Members[0].Serial
	b.nidalo("lab", "pull", "A4")
	b.eventually("missing", func() bool { return b.condition() == "exposed" })
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	b.nidalo("lab", "insert", "A4", "-disk", serial)
	killed("catch-up", newest)
	b.healthy()
	b.nidalo("lab", "damage", "A4", "-change", "40MiB:4KiB") // before the first kill
	b.nidalo("check", "tides")
	killed("check", newest)
	require.Contains(t, b.nidalo("status"), "1 mismatch, 0 repaired", "what was found before the kills counts")
	require.Contains(t, b.nidalo("status"), "nidalo check -repair tides")
	b.nidalo("lab", "damage", "A7", "-rate", "120MiB/s")
	b.nidalo("vet", "A7")
	killed("vet", vet)
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 560*mib)
}

// versions is a client that knows what each of its blocks may read as: what it flushed last, or anything written since.
type versions struct {
	off  int64
	next uint64
	may  [][]uint64 // by block
}

func (v *versions) fill(block int, version uint64) []byte {
	p := make([]byte, 4096)
	for i := 0; i < len(p) && version > 0; i += 16 {
		binary.LittleEndian.PutUint64(p[i:], version)
		binary.LittleEndian.PutUint64(p[i+8:], uint64(block))
	}
	return p
}

// write goes on until the service is gone, flushing now and then; at the n-th write it has the service killed, which ends in its own time.
func (v *versions) write(c *nbd.Client, r *rand.Rand, n int, kill func() error) {
	for i := 0; ; i++ {
		if i == n {
			go func() { _ = kill() }()
		}
		block := r.IntN(len(v.may))
		v.next++
		v.may[block] = append(v.may[block], v.next)
		if c.WriteAt(v.fill(block, v.next), v.off+int64(block)*4096) != nil {
			return
		}
		if r.IntN(10) == 0 {
			if c.Flush() != nil {
				return
			}
			for b, m := range v.may {
				v.may[b] = m[len(m)-1:]
			}
		}
	}
}

func (v *versions) verify(t *testing.T, c *nbd.Client) {
	for block, may := range v.may {
		p := make([]byte, 4096)
		require.NoError(t, c.ReadAt(p, v.off+int64(block)*4096))
		got := binary.LittleEndian.Uint64(p)
		require.Contains(t, may, got, "block %d", block)
		require.True(t, bytes.Equal(v.fill(block, got), p), "block %d is a mixture", block)
		v.may[block] = []uint64{got}
	}
}

// TestWhatWasFlushedIsThereAfterEveryKill kills the service in the middle of writes, again and again: what fio wrote and
// flushed before verifies, and a client that counts versions finds of each block the one it flushed or a later one.
func TestWhatWasFlushedIsThereAfterEveryKill(t *testing.T) {
	cycles := 4
	if n, err := strconv.Atoi(os.Getenv("NIDALO_CYCLES")); err == nil {
		cycles = n
	}
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "5", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "5", "-strip", "16KiB", "A1", "A2", "A3", "A4")
	b.start()
	v := &versions{off: 64 * mib, may: make([][]uint64, 500)}
	for i := range v.may {
		v.may[i] = []uint64{0}
	}
	r := rand.New(rand.NewPCG(1, 2))
	for cycle := range cycles {
		if cycle == 2 {
			b.nidalo("fail", "-yes", "tides", "A2") // from here on without any redundancy
		}
		fio := func(args ...string) *exec.Cmd {
			c := exec.Command("fio", append([]string{"--name=x", "--ioengine=nbd", "--uri=" + b.uri("tides"), "--bs=4k", "--iodepth=16",
				"--rw=randwrite", "--verify=crc32c", "--randseed=" + strconv.Itoa(cycle)}, args...)...)
			c.Dir = b.home
			return c
		}
		first := []string{"--size=16M", "--end_fsync=1", "--do_verify=0"}
		out, err := fio(first...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		load := fio("--offset=32M", "--size=24M", "--do_verify=0", "--time_based", "--runtime=30", "--thread") // a process of its own would outlive it
		require.NoError(t, load.Start())
		c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
		require.NoError(t, err)
		v.write(c, r, 150+111*(cycle%7), b.serve.Process.Kill)
		_ = load.Process.Kill()
		_ = load.Wait()
		b.stop(syscall.SIGKILL)
		b.start()
		out, err = fio(append(first, "--verify_only=1", "--verify_fatal=1")...).CombinedOutput()
		require.NoError(t, err, "cycle %d: %s", cycle, out)
		c, err = nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
		require.NoError(t, err)
		v.verify(t, c)
		require.NoError(t, c.Close())
		require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
	}
}
