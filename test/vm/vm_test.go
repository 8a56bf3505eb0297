//go:build linux

package vm

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

// rig is a guest of one test, which lives through power cuts.
type rig struct {
	*Machine
	t       *testing.T
	folder  string
	images  Images
	payload map[string]string
}

// everything says whether everything is to be tried, as opposed to what a usual run has time for.
func everything() bool { return os.Getenv("NIDALO_VM") == "all" }

// all leaves a test to the runs that try everything.
func all(t *testing.T) {
	if !everything() {
		t.Skip("make test-vm does it")
	}
}

// guest boots a machine for a test with the program in it.
func guest(t *testing.T, disks ...Disk) *rig {
	t.Helper()
	return guestWith(t, func(*rig) {}, disks...)
}

// guestWith is guest with something done before it boots.
func guestWith(t *testing.T, prepare func(*rig), disks ...Disk) *rig {
	t.Helper()
	for _, tool := range []string{"qemu-system-x86_64", "nbdkit", "cpio"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("needs %s; make tools installs it", tool)
		}
	}
	kernel := os.Getenv("NIDALO_VM_KERNEL")
	if kernel == "" {
		kernel = "linux-image-amd64"
	}
	images, err := Build(kernel)
	require.NoError(t, err)
	r := &rig{t: t, folder: t.TempDir(), images: images, payload: map[string]string{}}
	for name, pkg := range map[string]string{"agent": "nidalo/test/vm/agent", "nidalo": "nidalo/cmd/nidalo"} {
		to := filepath.Join(r.folder, name+".program")
		cmd := exec.Command("go", "build", "-ldflags", "-s -w", "-o", to, pkg)
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		r.payload[name] = to
	}
	prepare(r)
	r.boot(disks...)
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("service:\n%s\nconsole:\n%s", r.Run("tail -40 /tmp/serve.log 2>/dev/null; tail -40 /var/lib/nidalo/keeper.log 2>/dev/null; journalctl -n 60 -u nidalo -u nidalo-keeper --no-pager 2>/dev/null; dmesg | tail -25").Output, r.Console())
		}
		r.PowerCut()
	})
	return r
}

// boot starts the machine with some disks.
func (r *rig) boot(disks ...Disk) {
	r.t.Helper()
	m, err := Start(r.folder, r.images, r.payload, disks)
	require.NoError(r.t, err)
	r.Machine = m
}

// ok runs a command in the guest that must succeed, and returns its output.
func (r *rig) ok(format string, args ...any) string {
	r.t.Helper()
	command := fmt.Sprintf(format, args...)
	a := r.Run(command)
	require.Zero(r.t, a.Status, "%s\n%s", command, a.Output)
	r.t.Logf("%s %s", time.Now().Format("15:04:05"), command[:min(60, len(command))])
	return a.Output
}

// refused runs a command in the guest that must not succeed, and returns its output.
func (r *rig) refused(format string, args ...any) string {
	r.t.Helper()
	command := fmt.Sprintf(format, args...)
	a := r.Run(command)
	require.Equal(r.t, 1, a.Status, "%s\n%s", command, a.Output)
	return a.Output
}

func (r *rig) plug(d Disk) {
	r.t.Helper()
	require.NoError(r.t, r.Plug(d))
}

func (r *rig) pull(d Disk) {
	r.t.Helper()
	require.NoError(r.t, r.Pull(d))
}

// serve runs the service in the guest until it answers.
func (r *rig) serve() {
	r.t.Helper()
	r.ok("setsid nidalo serve >>/tmp/serve.log 2>&1 &")
	for range 120 {
		if r.Call("next", "{}").Status == 0 {
			return
		}
		time.Sleep(500 * time.Millisecond)
	}
	require.Fail(r.t, "the service does not answer", r.Run("cat /tmp/serve.log").Output)
}

// array is what status says of one, as far as these tests look.
type array struct {
	Name      string
	Condition string
	Margin    int
	Reason    string
	Out       bool `json:"out_of_service"`
	Members   []struct {
		Slot      int
		Serial    string
		Path      string
		Condition string
		Errors    int
	}
	Tasks []struct {
		Kind, State, Error string
		Percent            float64
	}
}

func (r *rig) array(name string) (a array) {
	r.t.Helper()
	var out struct{ Arrays []array }
	reply := r.Call("status", `""`)
	for range 60 { // it may be restarting
		if reply.Status == 0 || !strings.Contains(reply.Output, "control.sock") {
			break
		}
		time.Sleep(time.Second)
		reply = r.Call("status", `""`)
	}
	require.Zero(r.t, reply.Status, reply.Output)
	require.NoError(r.t, json.Unmarshal([]byte(reply.Output), &out))
	for _, a := range out.Arrays {
		if a.Name == name {
			return a
		}
	}
	return a
}

// until waits until an array is as wanted.
func (r *rig) until(name, what string, wanted func(array) bool) {
	r.t.Helper()
	var last array
	for range 240 {
		if last = r.array(name); wanted(last) {
			return
		}
		time.Sleep(time.Second)
	}
	require.Fail(r.t, "never "+what, "%+v\n%s", last, r.Run("nidalo disks; tail -30 /tmp/serve.log").Output)
}

func condition(of string) func(array) bool {
	return func(a array) bool { return a.Condition == of && !a.Out }
}

// member tells whether the member with a serial is in a condition.
func member(serial, condition string) func(array) bool {
	return func(a array) bool {
		for _, m := range a.Members {
			if m.Serial == serial {
				return m.Condition == condition
			}
		}
		return false
	}
}

// disk is what disks says of one, as far as these tests look.
type disk struct {
	Path, Serial, Model, State, Bay, Health string
	Holds                                   []string
	Array, Member                           string
	Size                                    int64 `json:"size_bytes"`
	Hardware                                struct {
		Bus, Address string
		Part         int
		Sector       int      `json:"sector_bytes"`
		ReadOnly     bool     `json:"read_only"`
		Paths        []string `json:"other_paths"`
	}
}

// disks are the disks of the guest by serial.
func (r *rig) disks() map[string]disk {
	r.t.Helper()
	var out struct{ Disks []disk }
	require.NoError(r.t, json.Unmarshal([]byte(r.ok("nidalo disks -json")), &out))
	by := map[string]disk{}
	for _, d := range out.Disks {
		by[d.Serial] = d
	}
	return by
}

// fio writes to an array and reads back what it wrote, all or nothing; write false only reads what an earlier run wrote.
func fio(name string, write bool) string {
	do := "--do_verify=1"
	if !write {
		do = "--verify_only=1"
	}
	return fmt.Sprintf(`fio --name=v --ioengine=nbd --uri="nbd+unix:///%s?socket=/var/lib/nidalo/nbd.sock" --rw=randwrite --bs=16k --size=8m `+
		`--randseed=7 --verify=crc32c %s --verify_fatal=1 --verify_state_save=0 --iodepth=8 --end_fsync=1 --output=/tmp/fio.log || { cat /tmp/fio.log; false; }`, name, do)
}

// finished waits for a command that was begun, and requires that it succeeded.
func (r *rig) finished(what <-chan Answer) {
	r.t.Helper()
	select {
	case a := <-what:
		require.Zero(r.t, a.Status, a.Output)
	case <-time.After(6 * time.Minute):
		require.Fail(r.t, "it did not end")
	}
}
