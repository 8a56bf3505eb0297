package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
)

// attach makes a device of a server of a plain file, by a keeper of its own and in user space, and returns its path and what ends both.
func attach(dir, name string, s *server) (device string, end func()) {
	home := filepath.Join(dir, "k"+name)
	if err := os.MkdirAll(home, 0o700); err != nil {
		log.Fatal(err)
	}
	c := exec.Command(*program, "keeper", "-home", home, "-user-space")
	if f, err := os.Create(filepath.Join(home, "log")); err == nil {
		c.Stderr = f
	}
	if err := begin(c); err != nil {
		log.Fatal(err)
	}
	socket := filepath.Join(home, "keeper.sock")
	waitSocket(socket)
	client := http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", socket)
	}}}
	ask := func(call string, q map[string]any) string {
		body, _ := json.Marshal(q)
		reply, err := client.Post("http://keeper/v1/"+call, "application/json", bytes.NewReader(body))
		if err != nil {
			log.Fatal(err)
		}
		defer reply.Body.Close()
		out, _ := io.ReadAll(reply.Body)
		if reply.StatusCode != http.StatusOK {
			log.Fatalf("%s: %s", call, out)
		}
		return string(out)
	}
	id := fmt.Sprintf("00000000-0000-4000-8000-%012x", os.Getpid()*16+len(name))
	var a struct{ Device string }
	at := strings.SplitN(s.uri, "socket=", 2)[1]
	if err := json.Unmarshal([]byte(ask("attach", map[string]any{"array": id, "name": "bench-" + name, "socket": at, "export": ""})), &a); err != nil {
		log.Fatal(err)
	}
	return a.Device, func() {
		ask("detach", map[string]any{"array": id, "force": false})
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
	}
}

// attached compares an attached array with a plain file that is attached in the same way, in user space.
func attached(place string) {
	loads := []load{
		{name: "attached in user space: sequential write into fresh space, level 5 of 4", args: []string{"--rw=write", "--bs=1M", "--iodepth=4", "--end_fsync=1"}, target: 0.7, limit: "4/3 of the bytes go to members", fresh: true},
		{name: "attached in user space: sequential overwrite, level 5 of 4", args: []string{"--rw=write", "--bs=1M", "--iodepth=4", "--end_fsync=1"}, target: 0.5, limit: "5/3 of the bytes go to members: parity goes to the journals first"},
		{name: "attached in user space: sequential read, level 5 of 4", args: []string{"--rw=read", "--bs=1M", "--iodepth=4"}, target: 1, limit: "the way through the kernel; the file's bytes pass a socket as well, the array's do not"},
		{name: "attached in user space: 4 KiB write + flush each, level 5 of 4", args: []string{"--rw=randwrite", "--bs=4k", "--iodepth=1", "--fsync=1", "--time_based", "--runtime=4"}, iops: true, target: 0.5, limit: "the way through the kernel and the keeper, which is the same for both"},
		{name: "attached in user space: 4 KiB random read, depth 32, level 5 of 4", args: []string{"--rw=randread", "--bs=4k", "--iodepth=32", "--time_based", "--runtime=4"}, iops: true, target: 1, limit: "the way through the kernel, which is the same for both"},
	}
	any := false
	for _, l := range loads {
		any = any || wanted(l.name)
	}
	if _, err := os.Stat("/dev/fuse"); !any || err != nil || os.Geteuid() != 0 {
		return
	}
	dir, err := folder(place, "nb")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	_ = os.Setenv("NIDALO_KEEPER_USER_SPACE", "yes") // for the keeper that the service starts
	ours := array(dir, "5", 4, "1GiB")
	defer ours.stop()
	var a struct{ Device string }
	if err := json.Unmarshal([]byte(nidalo(ours.dir, "attach", "-json", "t")), &a); err != nil {
		log.Fatal(err)
	}
	mine := a.Device
	defer nidalo(ours.dir, "detach", "t")
	devices := []string{mine}
	if *without == "" {
		theirs := plain(dir, "nbdkit", 3<<30)
		defer theirs.stop()
		file, end := attach(dir, "file", theirs)
		defer end()
		devices = append(devices, file)
	}
	for _, l := range loads {
		figures := calmest(l.name, *rounds, func(int) (out []float64) {
			for _, device := range devices {
				if l.fresh {
					if out, err := exec.Command("blkdiscard", "-f", device).CombinedOutput(); err != nil {
						log.Fatalf("blkdiscard: %v: %s", err, out)
					}
				}
				args := append([]string{"--name=x", "--ioengine=libaio", "--direct=1", "--filename=" + device, fmt.Sprintf("--size=%dM", min(*size, 1200)), "--output-format=json"}, l.args...)
				bw, iops := job(args)
				if l.iops {
					bw = iops
				}
				out = append(out, bw)
			}
			return out
		})
		unit := "MB/s"
		scale := 1e-6
		if l.iops {
			unit, scale = "1/s", 1
		}
		var theirs []float64
		if *without == "" {
			theirs = scaled(figures[1], scale)
		}
		add(row{Place: place, Name: l.name, Unit: unit, Peer: "plain file, attached", Target: l.target, Limit: l.limit}.of(scaled(figures[0], scale), theirs))
	}
}

func scaled(v []float64, by float64) (out []float64) {
	for _, x := range v {
		out = append(out, x*by)
	}
	return out
}
