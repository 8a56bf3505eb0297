//go:build linux

// The agent is what runs in a guest of the tests besides the system itself: it is the first process, starts udev, and does what the
// host asks for over a serial port, a line of JSON for each command and each answer.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"
)

type request struct {
	ID      int
	Command string // of bash, or
	Call    string // of the service's socket, with
	Body    string
}

type answer struct {
	ID     int
	Output string
	Status int
}

func main() {
	if len(os.Args) > 1 {
		do := mapped
		if os.Args[1] == "exercise" {
			do = exercise
		}
		if err := do(os.Args[1:]); err != nil {
			os.Stderr.WriteString(err.Error() + "\n")
			os.Exit(1)
		}
		return
	}
	if os.Getpid() != 1 { // a service of systemd
		open()
		return
	}
	must(syscall.Mount("proc", "/proc", "proc", 0, ""))
	must(syscall.Mount("sys", "/sys", "sysfs", 0, ""))
	must(syscall.Mount("run", "/run", "tmpfs", 0, ""))
	must(syscall.Mount("tmp", "/tmp", "tmpfs", 0, ""))
	os.Setenv("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin")
	os.Setenv("HOME", "/root")
	for _, c := range []string{"mkdir -p /dev/shm /dev/pts && mount -t tmpfs shm /dev/shm", "ip link set lo up 2>/dev/null || busybox ip link set lo up",
		"/lib/systemd/systemd-udevd --daemon && udevadm trigger --type=subsystems && udevadm trigger && udevadm settle"} {
		if out, err := exec.Command("bash", "-c", c).CombinedOutput(); err != nil {
			os.Stderr.Write(append(out, (err.Error() + "\n")...))
		}
	}
	open()
	syscall.Sync()
	must(syscall.Reboot(syscall.LINUX_REBOOT_CMD_POWER_OFF))
}

// open serves the host for as long as there is one.
func open() {
	var port *os.File
	for range 1200 { // udev makes the link
		var err error
		if port, err = os.OpenFile("/dev/virtio-ports/agent", os.O_RDWR, 0); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if port != nil {
		serve(port)
	}
}

func serve(port *os.File) {
	var mu sync.Mutex
	send := func(a answer) {
		line, _ := json.Marshal(a)
		mu.Lock()
		defer mu.Unlock()
		_, _ = port.Write(append(line, '\n'))
	}
	send(answer{ID: 0, Output: "up"})
	in := bufio.NewReader(port)
	for {
		line, err := in.ReadBytes('\n')
		var r request
		switch {
		case err != nil:
			time.Sleep(50 * time.Millisecond) // the host does not listen at the moment
			continue
		case json.Unmarshal(line, &r) != nil:
			continue
		}
		go func() {
			if r.Call != "" {
				send(call(r))
				return
			}
			out, err := exec.Command("bash", "-c", r.Command).CombinedOutput()
			a := answer{ID: r.ID, Output: string(out)}
			if exit, ok := err.(*exec.ExitError); ok {
				a.Status = exit.ExitCode()
			} else if err != nil {
				a.Output, a.Status = err.Error(), 127
			}
			send(a)
		}()
	}
}

// call asks the service, at less cost than a command would.
func call(r request) answer {
	client := http.Client{Timeout: time.Minute, Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", "/var/lib/nidalo/control.sock")
	}}}
	reply, err := client.Post("http://service/v1/"+r.Call, "application/json", strings.NewReader(r.Body))
	if err != nil {
		return answer{ID: r.ID, Output: err.Error(), Status: 1}
	}
	defer reply.Body.Close()
	out, _ := io.ReadAll(reply.Body)
	return answer{ID: r.ID, Output: string(out), Status: reply.StatusCode - http.StatusOK}
}

func must(err error) {
	if err != nil {
		os.Stderr.WriteString(err.Error() + "\n")
	}
}
