//go:build linux

package main

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"nidalo/test/vm"
)

const mib = 1 << 20

func must(err error) {
	if err != nil {
		panic(err)
	}
}

func main() {
	folder := "/tmp/play"
	os.RemoveAll(folder)
	must(os.MkdirAll(folder, 0o755))
	images, err := vm.Build("linux-image-amd64")
	must(err)
	payload := map[string]string{}
	for name, pkg := range map[string]string{"agent": "nidalo/test/vm/agent", "nidalo": "nidalo/cmd/nidalo"} {
		to := filepath.Join(folder, name+".program")
		cmd := exec.Command("go", "build", "-o", to, pkg)
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		out, err := cmd.CombinedOutput()
		if err != nil {
			panic(string(out))
		}
		payload[name] = to
	}
	disks := map[string]vm.Disk{}
	var start []vm.Disk
	for i, d := range []vm.Disk{
		{Name: "s1", Bus: vm.SCSI, Model: "TK-4000", Serial: "TMK-0001", Size: 128 * mib},
		{Name: "s2", Bus: vm.SCSI, Model: "TK-4000", Serial: "TMK-0002", Size: 128 * mib},
		{Name: "s3", Bus: vm.SCSI, Model: "OR-8T", Serial: "ORR-0003", Size: 128 * mib, Sector: 4096},
		{Name: "n1", Bus: vm.NVMe, Serial: "ORR-0011", Size: 128 * mib, Sector: 4096},
		{Name: "n2", Bus: vm.NVMe, Serial: "ORR-0012", Size: 128 * mib},
		{Name: "v1", Bus: vm.Virtio, Serial: "QRN-0021", Size: 128 * mib},
		{Name: "a1", Bus: vm.AHCI, Model: "QN-12", Serial: "QRN-0031", Size: 128 * mib},
		{Name: "a2", Bus: vm.AHCI, Model: "QN-12", Serial: "QRN-0032", Size: 128 * mib},
		{Name: "r1", Bus: vm.SCSI, Model: "TK-4000", Serial: "TMK-0004", Size: 128 * mib, ReadOnly: true},
		{Name: "x1", Bus: vm.SCSI, Model: "TK-4000", Serial: "TMK-0005", Size: 128 * mib},
		{Name: "x2", Bus: vm.NVMe, Serial: "ORR-0013", Size: 128 * mib},
	} {
		disks[d.Name] = d
		if i < 9 {
			start = append(start, d)
		}
	}
	m, err := vm.Start(folder, images, payload, start)
	must(err)
	os.Remove("/tmp/vm.sock")
	l, err := net.Listen("unix", "/tmp/vm.sock")
	must(err)
	fmt.Println("up")
	for {
		c, err := l.Accept()
		must(err)
		go func() {
			defer c.Close()
			line, _ := bufio.NewReader(c).ReadString('\n')
			verb, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
			var err error
			switch verb {
			case "run":
				a := m.Run(rest)
				fmt.Fprintf(c, "%s[%d]\n", a.Output, a.Status)
			case "pull":
				err = m.Pull(disks[rest])
			case "plug":
				err = m.Plug(disks[rest])
			case "blank":
				err = m.Blank(disks[rest])
			case "cut":
				m.PowerCut()
				m, err = vm.Start(folder, images, payload, start)
			case "push":
				raw, rerr := os.ReadFile("/tmp/nidalo.vm")
				must(rerr)
				d := vm.Disk{Name: fmt.Sprintf("push%d", time.Now().UnixNano()%1000000), Bus: vm.SCSI, Serial: "push", Model: "PUSH", Size: int64(len(raw)+mib) &^ (mib - 1)}
				img := filepath.Join(folder, d.Name+".img")
				must(os.WriteFile(img, raw, 0o644))
				must(os.Truncate(img, d.Size))
				must(m.Plug(d))
				a := m.Run(fmt.Sprintf("udevadm settle; for i in 1 2 3 4 5 6 7 8 9; do D=$(ls /dev/disk/by-id/*push* 2>/dev/null| head -1); [ -n \"$D\" ] && break; sleep 0.3; done; head -c %d $D > /tmp/n && chmod 755 /tmp/n && mv /tmp/n /usr/local/bin/nidalo", len(raw)))
				fmt.Fprintf(c, "%s[%d]\n", a.Output, a.Status)
				err = m.Pull(d)
			case "quit":
				m.PowerCut()
				os.Exit(0)
			}
			if err != nil {
				fmt.Fprintln(c, "error:", err)
			}
		}()
	}
}
