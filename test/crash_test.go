package test

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"
)

func TestARebuildGoesOnAfterBeingKilled(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "6", "-size", "160MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4", "A5")
	b.start()
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, 300*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	b.nidalo("lab", "pull", "A1")
	b.nidalo("lab", "damage", "A6", "-rate", "12MiB/s") // so that there is a middle to kill it in
	b.nidalo("replace", "tides", "A1", "A6")
	var before float64
	require.Eventually(t, func() bool {
		s := b.status().Arrays[0]
		require.NotEqual(t, "healthy", s.Condition)
		before = s.Tasks[0].Percent
		return before > 40
	}, 60*time.Second, 20*time.Millisecond)
	b.stop(syscall.SIGKILL)
	b.start()
	s := b.status().Arrays[0]
	require.Equal(t, "degraded", s.Condition)
	require.Equal(t, "rebuilding", s.Members[0].Condition)
	require.Less(t, s.Tasks[0].Total, int64(85*mib), "it does not begin again from the start: %+v", s.Tasks)
	b.nidalo("lab", "damage", "A6", "-mend")
	require.Eventually(t, func() bool { return b.condition() == "healthy" }, 60*time.Second, 50*time.Millisecond)
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 300*mib)
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
}

func TestACheckGoesOnAfterBeingKilled(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "3", "-size", "128MiB")
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	b.start()
	in := filepath.Join(b.home, "in")
	pattern(t, in, 160*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	b.nidalo("lab", "damage", "A2", "-change", "6MiB:4KiB") // the very beginning of its data
	b.nidalo("lab", "damage", "A1", "-rate", "15MiB/s")
	b.nidalo("check", "tides")
	require.Eventually(t, func() bool { return b.status().Arrays[0].Tasks[0].Percent > 55 }, 60*time.Second, 20*time.Millisecond)
	b.stop(syscall.SIGKILL)
	b.start()
	task := b.status().Arrays[0].Tasks[0]
	require.Equal(t, "check", task.Kind)
	require.Equal(t, "running", task.State)
	require.Greater(t, task.Percent, 20.0, "it goes on near where it was")
	b.nidalo("lab", "damage", "A1", "-mend")
	require.Eventually(t, func() bool { return b.status().Arrays[0].Tasks[0].State == "done" }, 60*time.Second, 50*time.Millisecond)
	require.Contains(t, b.nidalo("status"), "1 mismatch, 0 repaired", "what was found before the kill counts")
	require.Contains(t, b.nidalo("status"), "nidalo check -repair tides")
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

// write goes on until the service is gone, flushing now and then.
func (v *versions) write(c *nbd.Client, r *rand.Rand) {
	for {
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
			b.nidalo("fail", "tides", "A2") // from here on without any redundancy
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
		load := fio("--offset=32M", "--size=24M", "--do_verify=0", "--time_based", "--runtime=30")
		require.NoError(t, load.Start())
		c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
		require.NoError(t, err)
		go func(p *os.Process) {
			time.Sleep(time.Duration(200+137*(cycle%7)) * time.Millisecond)
			_ = p.Kill()
		}(b.serve.Process)
		v.write(c, r)
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
