package test

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"
)

// The soak kills the service under load, again and again, while disks are pulled and put back, members replaced, retired and
// failed, spares step in, and checks run, all from a seed. Whatever was flushed must be there each time, and every block that
// was written since must read as one of the versions it may have.

// soaker is one service under soak.
type soaker struct {
	*bench
	t       *testing.T
	r       *rand.Rand
	acts    map[string]int
	tenants []*tenant
	dying   atomic.Bool
	filler  string // a file that fills the file system, when that is part of it
	guarded bool   // the array is a guarded set
	manner
	through int // writes that were there after a kill without a flush
}

// manner is what a soak is about beside kills and lost disks.
type manner struct {
	full    bool // the file system below the members is full now and then
	changes bool // the layout is changed, too
	insists bool // clients flush after each small write, of members in memory
}

// tenant is a client with a range of its own.
type tenant struct {
	versions
	export    string
	r         *rand.Rand
	flushes   int
	refused   int // requests that were answered with an error
	unflushed int // the block of a write that was answered before it was to flush no more; -1: none
}

// run writes, flushes, zeroes and reads until the service is gone.
func (c *tenant) run(s *soaker) {
	conn, err := nbd.Dial("unix", filepath.Join(s.home, "nbd.sock"), c.export)
	if err != nil {
		return
	}
	defer conn.Close()
	lost := func(err error) bool {
		if err != nil && strings.Contains(err.Error(), "answered with error") {
			c.refused++
			time.Sleep(time.Millisecond)
			return s.dying.Load()
		}
		return err != nil
	}
	flush := func() (over bool) {
		if err := conn.Flush(); err != nil {
			return lost(err)
		}
		c.flushes++
		for b, m := range c.may {
			c.may[b] = m[len(m)-1:]
		}
		return false
	}
	for s.insists {
		block := c.r.IntN(len(c.may))
		c.next++
		c.wrote(block, 1, c.next)
		if lost(conn.WriteAt(c.fill(block, c.next), c.off+int64(block)*4096)) {
			return
		}
		if s.dying.Load() {
			c.unflushed = block
			return
		}
		if flush() {
			return
		}
	}
	for !s.dying.Load() {
		block := c.r.IntN(len(c.may))
		span := min(1+c.r.IntN(1<<c.r.IntN(7)), len(c.may)-block)
		off := c.off + int64(block)*4096
		switch c.r.IntN(12) {
		case 0, 1:
			if flush() {
				return
			}
		case 2:
			c.wrote(block, span, 0)
			if lost(conn.Zero(off, span*4096)) {
				return
			}
		default:
			c.next++
			c.wrote(block, span, c.next)
			var p []byte
			for b := range span {
				p = append(p, c.fill(block+b, c.next)...)
			}
			if lost(conn.WriteAt(p, off)) {
				return
			}
		}
	}
}

func (c *tenant) wrote(block, span int, version uint64) {
	for b := block; b < block+span; b++ {
		if m := c.may[b]; m[len(m)-1] != version {
			c.may[b] = append(m, version)
		}
	}
}

// act is one thing an administrator or fate does. What is refused is no error here.
func (s *soaker) act() {
	st, ok := s.tryStatus()
	if !ok || len(st.Arrays) == 0 {
		return
	}
	a := st.Arrays[0]
	did := func(name string, args ...string) {
		if code, _, _ := s.try(args...); code == 0 {
			s.acts[name]++
		}
	}
	var active, away []string // bays; serials
	for _, m := range a.Members {
		switch m.Condition {
		case "active", "failing":
			active = append(active, m.Bay)
		case "missing", "failed":
			away = append(away, m.Serial)
		}
	}
	bays, drawer := s.bays()
	if s.r.IntN(4) == 0 {
		s.reads()
	}
	var blank, retired []string
	for bay, state := range bays {
		switch state {
		case "blank":
			blank = append(blank, bay)
		case "retired", "former":
			retired = append(retired, bay)
		}
	}
	pick := func(list []string) string { return list[s.r.IntN(len(list))] }
	if s.changes && (s.r.IntN(2) == 0 || a.Condition == "healthy" && s.r.IntN(3) > 0) {
		s.change(did, active, blank)
		return
	}
	switch k := s.r.IntN(14); {
	case k < 3 && a.Margin > 0 && len(active) > 0:
		did("pull", "lab", "pull", pick(active))
	case k < 4 && a.Margin > 1 && len(active) > 1: // two in one moment
		s.r.Shuffle(len(active), func(i, j int) { active[i], active[j] = active[j], active[i] })
		did("pull two", "lab", "pull", active[0])
		did("pull two", "lab", "pull", active[1])
	case k < 7 && len(drawer) > 0:
		for bay, state := range bays {
			if state == "empty" {
				did("put back", "lab", "insert", bay, "-disk", pick(drawer))
				break
			}
		}
	case k < 8 && a.Margin > 0 && len(active) > 0:
		did("fail", "fail", "-yes", "tides", pick(active))
	case k < 10 && len(away) > 0 && len(blank) > 0:
		did("replace", "replace", "-although-bad", "tides", pick(away), pick(blank))
	case k < 11 && len(active) > 0 && len(blank) > 0:
		did("retire", "retire", "-although-bad", "tides", pick(active), pick(blank))
	case k < 12 && len(blank) > 1:
		did("spare", "spare", "-although-bad", pick(blank))
	case k < 13 && len(retired) > 0:
		did("erase", "erase", "-yes", pick(retired))
	case s.r.IntN(2) == 0:
		did("check", "check", "tides")
	default:
		did("pace", "pace", "tides", pick([]string{"gentle", "normal", "full", "2MiB/s"}))
	}
}

// spoiled is what no sentence has: a word that is missing, or a format that did not fit.
var spoiled = regexp.MustCompile(`%!|<nil>|\(\)|""|(^|[^.])[:.] *[,;:.]|\n,`)

// reads wants whole sentences of the commands that tell how things are, in whatever state they are.
func (s *soaker) reads() {
	for _, args := range [][]string{{"next"}, {"status"}, {"disks"}, {"spare"}, {"history", "-n", "5"}, {"may-pull", "A1"}, {"report"}} {
		code, out, e := s.try(args...)
		require.Contains(s.t, []int{0, 1, 3}, code, "%v\n%s", args, e)
		require.NotRegexp(s.t, spoiled, out+e, "%v", args)
		require.NotContains(s.t, out+e, "goroutine", "%v", args)
	}
}

// change is a change of the layout, or of whether the array is in service.
func (s *soaker) change(did func(name string, args ...string), active, blank []string) {
	pick := func(list ...string) string { return list[s.r.IntN(len(list))] }
	some := func(args []string, from []string) []string { // with one or two more
		for range min(len(from), 1+s.r.IntN(2)) {
			at := s.r.IntN(len(from))
			args, from = append(args, from[at]), slices.Delete(slices.Clone(from), at, at+1)
		}
		return args
	}
	switch k := s.r.IntN(12); {
	case s.guarded && k < 2 && len(blank) > 2:
		did("grow", "grow", "-although-bad", "-yes", "tides", fmt.Sprintf("v%d=%s", s.r.IntN(1000), pick(blank...)))
	case s.guarded && k < 3 && len(blank) > 2:
		did("grow parity", "grow", "-although-bad", "-yes", "-parity", "tides", pick(blank...))
	case s.guarded && len(active) > 0:
		did("free", "shrink", "-yes", "-free", pick(active...), "tides")
	case k < 3:
		did("convert with more", some([]string{"convert", "-although-bad", "-yes", "-level", pick("1", "5", "6", "triple", "10"), "tides"}, blank)...)
	case k < 5:
		did("convert", "convert", "-yes", "-level", pick("5", "6"), "-strip", pick("16KiB", "32KiB", "64KiB"), "tides")
	case k < 6 && len(blank) > 0:
		did("grow", some([]string{"grow", "-although-bad", "-yes", "tides"}, blank)...)
	case k < 8 && len(active) > 0:
		did("free", "shrink", "-yes", "-free", pick(active...), "tides")
	case k < 9:
		did("shrink", "shrink", "-yes", "-to", pick("24MiB", "40MiB", "60MiB"), "tides")
	case k < 10:
		did("grow again", "grow", "-yes", "tides")
	case k < 11:
		did("go back", "cancel", "tides", "conversion")
	default:
		did("stop", "stop", "tides")
		did("start", "start", "tides")
	}
}

// fill takes all the room there is below the member files for a moment, and gives it back.
func (s *soaker) fill() {
	f, err := os.Create(s.filler)
	require.NoError(s.t, err)
	buf := make([]byte, 1<<20)
	for err == nil {
		_, err = f.Write(buf)
	}
	time.Sleep(time.Duration(50+s.r.IntN(300)) * time.Millisecond)
	_ = f.Close()
	require.NoError(s.t, os.Remove(s.filler))
	s.acts["full"]++
}

// soak runs cycles on one level.
func soak(t *testing.T, level string, members, cycles int, seed uint64, how manner) {
	b := newBenchAlone(t)
	s := &soaker{bench: b, t: t, r: rand.New(rand.NewPCG(seed, 7)), acts: map[string]int{}, manner: how, guarded: level == guarded}
	if how.full || how.insists {
		if os.Geteuid() != 0 {
			t.Skip("mounting needs root")
		}
		room := 30*members + 40
		if how.insists {
			room = 50 * (members + 5)
		}
		b.tool("mount", "-t", "tmpfs", "-o", fmt.Sprintf("size=%dM", room), "tmpfs", b.home)
		t.Cleanup(func() {
			b.stop(syscall.SIGKILL)
			_ = exec.Command("umount", "-l", b.home).Run()
		})
		s.filler = filepath.Join(b.home, "filler")
	}
	b.nidalo("lab", "new", "-bays", strconv.Itoa(members+4), "-size", "48MiB")
	args := []string{"create", "-name", "tides", "-level", level, "-strip", "16KiB"}
	for i := range members {
		args = append(args, fmt.Sprintf("A%d", i+1))
	}
	if level == guarded {
		args = []string{"create", "-yes", "-name", "tides", "-level", guarded, "-parity", "A4,A5", "a=A1", "b=A2", "c=A3"}
	}
	b.nidalo(args...)
	for i := range 3 {
		c := &tenant{versions: versions{off: int64(i) * 8 * mib, may: make([][]uint64, 1200)}, export: "tides", r: rand.New(rand.NewPCG(seed, uint64(100+i))), unflushed: -1}
		if level == guarded {
			c.export += "/" + string(rune('a'+i))
		}
		for j := range c.may {
			c.may[j] = []uint64{0}
		}
		s.tenants = append(s.tenants, c)
	}
	for cycle := range cycles {
		s.cycle(cycle)
	}
	s.start()
	s.verify(cycles)
	flushes, refused := 0, 0
	for _, c := range s.tenants {
		flushes, refused = flushes+c.flushes, refused+c.refused
	}
	t.Logf("level %s, seed %d: %d cycles, %d flushes, %d requests refused, %d writes there without a flush, acts %v", level, seed, cycles, flushes, refused, s.through, s.acts)
	require.NotZero(t, flushes)
	if how.insists { // they were not flushed, and the service died with all that it had in memory
		require.NotZero(t, s.through, "no write went through")
	}
}

func (s *soaker) cycle(cycle int) {
	s.start()
	s.verify(cycle)
	s.dying.Store(false)
	var clients, hands sync.WaitGroup
	tenants, lone := s.tenants, s.insists && cycle%2 == 0
	if lone {
		tenants = tenants[:1]
	}
	for _, c := range s.tenants {
		c.unflushed = -1
	}
	for _, c := range tenants {
		clients.Go(func() { c.run(s) })
	}
	life := time.Duration(150+s.r.IntN(900)) * time.Millisecond
	hands.Go(func() {
		for end := time.Now().Add(life); time.Now().Before(end); {
			if s.full && s.r.IntN(3) == 0 {
				s.fill()
			}
			s.act()
		}
	})
	hands.Wait()
	s.dying.Store(true)
	if lone {
		clients.Wait()
	}
	s.stop(syscall.SIGKILL)
	clients.Wait()
	if !lone { // what another one flushed is there in any case
		for _, c := range tenants {
			c.unflushed = -1
		}
	}
}

// verify holds every block against what it may be, with the array started if it had to stop for want of room.
func (s *soaker) verify(cycle int) {
	s.t.Helper()
	if st, ok := s.tryStatus(); ok && (len(st.Arrays) == 0 || st.Arrays[0].Condition == "failed") {
		s.nidalo("start", "tides")
	}
	for i, c := range s.tenants {
		conn, err := nbd.Dial("unix", filepath.Join(s.home, "nbd.sock"), c.export)
		require.NoError(s.t, err, "cycle %d\n%s", cycle, s.log)
		p := make([]byte, len(c.may)*4096)
		for at := 0; at < len(p); at += mib {
			n := min(mib, len(p)-at)
			require.NoError(s.t, conn.ReadAt(p[at:at+n], c.off+int64(at)), "cycle %d\n%s", cycle, s.log)
		}
		for block, may := range c.may {
			got := p[block*4096:][:4096]
			version := binary.LittleEndian.Uint64(got)
			require.Contains(s.t, may, version, "cycle %d, client %d, block %d: acts %v\n%s", cycle, i, block, s.acts, s.log)
			require.Equal(s.t, c.fill(block, version), got, "cycle %d, client %d, block %d is a mixture\n%s", cycle, i, block, s.log)
			c.may[block] = []uint64{version}
			if block == c.unflushed && version == c.next {
				s.through++
			}
		}
		require.NoError(s.t, conn.Close())
	}
	if cycle%7 == 6 {
		s.nidalo("pace", "all", "full")
		require.Contains(s.t, s.nidalo("check", "-wait", "tides"), "no mismatches", "cycle %d\n%s", cycle, s.log)
	}
}

func (s *soaker) tryStatus() (st status, ok bool) {
	code, out, _ := s.try("status", "-json")
	return st, code == 0 && unmarshal(out, &st) == nil
}

// bays tells what is in each bay, and the serials of the disks in the drawer.
func (s *soaker) bays() (states map[string]string, drawer []string) {
	var d struct {
		Disks []struct {
			Bay, Serial, State string
			Array              string
			Holds              []string
		}
	}
	states = map[string]string{}
	if code, out, _ := s.try("disks", "-json"); code != 0 || unmarshal(out, &d) != nil {
		return states, nil
	}
	for _, x := range d.Disks {
		require.True(s.t, x.State == "empty" || x.Serial != "", "bay %s is %s, without a disk", x.Bay, x.State)
		states[x.Bay] = x.State
		if x.State == "in use" && x.Array == "" && strings.Contains(strings.Join(x.Holds, " "), "former or stale") {
			states[x.Bay] = "former"
		}
	}
	entries, _ := os.ReadDir(filepath.Join(s.home, "lab", "drawer"))
	for _, e := range entries {
		drawer = append(drawer, e.Name())
	}
	return states, drawer
}

// soakCycles is how many cycles a soak has: a few in make test, 200 in make soak.
func soakCycles(few int) int {
	if n, err := strconv.Atoi(os.Getenv("NIDALO_CYCLES")); err == nil {
		return n
	}
	return few
}

func soakSeed() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("NIDALO_SOAK_SEED"), 10, 64); err == nil {
		return n
	}
	return 1
}

var soakLevels = []struct {
	level   string
	members int
}{{"1", 3}, {"5", 4}, {"6", 5}, {"60", 8}}

func TestWhatWasFlushedSurvivesTheSoak(t *testing.T) {
	for i, l := range soakLevels {
		t.Run("level "+l.level, func(t *testing.T) {
			soak(t, l.level, l.members, (soakCycles(16)+3)/4, soakSeed()+uint64(i), manner{})
		})
	}
}

func TestWhatWasFlushedSurvivesAFullFileSystem(t *testing.T) {
	for i, l := range soakLevels {
		if soakCycles(0) == 0 && i%2 == 0 {
			continue // the short form has two of the levels
		}
		t.Run("level "+l.level, func(t *testing.T) {
			soak(t, l.level, l.members, (soakCycles(12)+3)/4, 1000+soakSeed()+uint64(i), manner{full: true})
		})
	}
}

// guarded is the level of guarded sets.
const guarded = "guarded"

func TestWhatWasFlushedInGuardedSetsSurvivesTheSoak(t *testing.T) {
	soak(t, guarded, 5, soakCycles(6), 3000+soakSeed(), manner{changes: true})
}

func TestWhatWasFlushedSurvivesChangesOfTheArray(t *testing.T) {
	for i, l := range soakLevels {
		if soakCycles(0) == 0 && i%2 == 0 {
			continue
		}
		t.Run("level "+l.level, func(t *testing.T) {
			soak(t, l.level, l.members, (soakCycles(12)+3)/4, 2000+soakSeed()+uint64(i), manner{changes: true})
		})
	}
}

// Where clients flush after each write, the writes go through: what was answered is there, although the service was killed before the flush.
func TestWhatWentThroughSurvivesTheSoak(t *testing.T) {
	for i, l := range soakLevels {
		if soakCycles(0) == 0 && i%2 == 0 {
			continue
		}
		t.Run("level "+l.level, func(t *testing.T) {
			soak(t, l.level, l.members, (soakCycles(32)+3)/4, 4000+soakSeed()+uint64(i), manner{insists: true})
		})
	}
}
