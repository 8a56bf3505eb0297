//go:build linux

// Package vm runs a Linux guest with real device drivers for the tests: disks on SCSI, NVMe, virtio and AHCI that can be pulled, put
// back and blanked, and a power that can be cut. The facts it rests on, found by trying, are stated where they are used.
package vm

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Bus is what a disk hangs on.
type Bus string

// The buses.
const (
	SCSI   Bus = "scsi"
	NVMe   Bus = "nvme"
	Virtio Bus = "virtio"
	AHCI   Bus = "ahci"
)

// Disk is a disk of a guest. Its contents are in a file, which stays when the machine goes.
type Disk struct {
	Name     string // of the file, and in the machine
	Bus      Bus
	Model    string // where the bus has one
	Serial   string
	Size     int64 // bytes
	Sector   int   // bytes; 0: 512
	ReadOnly bool
	Volatile bool // with a write cache of its own: what was not flushed is lost when it is pulled or the power is cut
	WWN      uint64
	Shared   string // the name of another disk whose file it is: another path to that, or with a serial of its own a copy
}

// file is the name of what holds a disk's contents.
func (d Disk) file() string { return cmp.Or(d.Shared, d.Name) + ".img" }

// Machine is a guest that runs.
type Machine struct {
	folder string
	images Images
	disks  []Disk // that are plugged in
	qemu   *exec.Cmd
	log    *os.File
	qmp    *monitor
	agent  net.Conn
	mu     sync.Mutex
	waits  map[int]chan Answer
	last   int
	caches map[string]*exec.Cmd // of disks with a write cache
	places map[string]string    // slots of buses, and the disk in each
	up     chan struct{}
	ended  chan struct{}
}

// Slots for disks on the buses where each has its own.
const (
	pciSlots  = 16
	ahciPorts = 6
)

// Answer is what became of a command in the guest.
type Answer struct {
	Output string
	Status int
}

// bootFor is how long a boot may take on a busy host, and bootTries how often one that dies is begun again.
const (
	bootFor   = 3 * time.Minute
	bootTries = 3
)

// Start boots a guest with some disks. payload is programs that it finds in its path. What it writes to its system disk stays in
// folder, for the next start of a machine there.
func Start(folder string, images Images, payload map[string]string, disks []Disk) (m *Machine, err error) {
	for range bootTries {
		if m, err = boot(folder, images, payload, disks); err == nil {
			return m, nil
		}
	}
	return nil, err
}

func boot(folder string, images Images, payload map[string]string, disks []Disk) (*Machine, error) {
	m := &Machine{folder: folder, images: images, disks: disks, waits: map[int]chan Answer{}, places: map[string]string{}, caches: map[string]*exec.Cmd{}, up: make(chan struct{}), ended: make(chan struct{})}
	initrd, err := m.initrd(payload)
	if err != nil {
		return nil, err
	}
	system := filepath.Join(folder, "system.qcow2")
	if _, err := os.Stat(system); err != nil {
		if out, err := exec.Command("qemu-img", "create", "-q", "-f", "qcow2", "-F", "raw", "-b", images.Root, system).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("system disk: %w: %s", err, out)
		}
	}
	for _, name := range []string{"qmp", "agent"} {
		_ = os.Remove(filepath.Join(folder, name))
	}
	args := []string{"-nodefaults", "-no-user-config", "-display", "none", "-machine", "q35", "-accel", "tcg,thread=single,tb-size=256",
		"-cpu", "max,la57=off", "-smp", "2", "-m", "1024", "-serial", "file:" + filepath.Join(folder, "console"),
		"-kernel", images.Kernel, "-initrd", initrd,
		"-append", "console=ttyS0 quiet panic=-1 mitigations=off nokaslr tsc=reliable no_timer_check rdinit=/init" + map[bool]string{true: " nidalo.systemd"}[images.Systemd],
		"-no-reboot",
		"-qmp", "unix:" + filepath.Join(folder, "qmp") + ",server=on,wait=off",
		"-chardev", "socket,id=agent,server=on,wait=off,path=" + filepath.Join(folder, "agent"),
		"-device", "virtio-serial-pci", "-device", "virtserialport,chardev=agent,name=agent",
		"-drive", "if=none,id=system,format=qcow2,file=" + system, "-device", "virtio-blk-pci,drive=system,serial=system",
		"-device", "virtio-scsi-pci,id=scsi"}
	for i := range pciSlots {
		args = append(args, "-device", fmt.Sprintf("pcie-root-port,id=port%d,chassis=%d,slot=%d", i, i+1, i+1))
	}
	for _, d := range disks {
		node, device, err := m.options(d)
		if err != nil {
			return nil, err
		}
		args = append(args, "-blockdev", node, "-device", device)
	}
	m.log, err = os.Create(filepath.Join(folder, "qemu.log"))
	if err != nil {
		return nil, err
	}
	m.qemu = exec.Command("qemu-system-x86_64", args...)
	m.qemu.Stdout, m.qemu.Stderr = m.log, m.log
	m.qemu.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := m.qemu.Start(); err != nil {
		return nil, err
	}
	go func() {
		_ = m.qemu.Wait()
		close(m.ended)
	}()
	if err := m.connect(); err != nil {
		m.PowerCut()
		return nil, fmt.Errorf("%w; the end of its console:\n%s", err, m.Console())
	}
	return m, nil
}

// initrd is that of the images with the payload behind it; the kernel unpacks both.
func (m *Machine) initrd(payload map[string]string) (string, error) {
	root := filepath.Join(m.folder, "payload")
	if err := errors.Join(os.RemoveAll(root), os.MkdirAll(filepath.Join(root, "payload"), 0o755)); err != nil {
		return "", err
	}
	for name, from := range payload {
		raw, err := os.ReadFile(from)
		if err != nil {
			return "", err
		}
		if err := os.WriteFile(filepath.Join(root, "payload", name), raw, 0o755); err != nil {
			return "", err
		}
	}
	path := filepath.Join(m.folder, "initrd")
	pack := exec.Command("sh", "-c", `{ cat "$1"; cd "$2" && find payload | cpio -o -H newc --quiet; } >"$3"`, "sh", m.images.Initrd, root, path)
	if out, err := pack.CombinedOutput(); err != nil {
		return "", fmt.Errorf("initrd: %w: %s", err, out)
	}
	return path, nil
}

// options are how a disk is described to QEMU. Its file is made when there is none.
func (m *Machine) options(d Disk) (node, device string, err error) {
	path := filepath.Join(m.folder, d.file())
	if _, err := os.Stat(path); err != nil {
		f, err := os.Create(path)
		if err != nil {
			return "", "", err
		}
		if err := errors.Join(f.Truncate(d.Size), f.Close()); err != nil {
			return "", "", err
		}
	}
	below := map[string]any{"driver": "file", "filename": path, "locking": "off", "discard": "unmap"}
	if d.Volatile {
		socket, err := m.cache(d, path)
		if err != nil {
			return "", "", err
		}
		below = map[string]any{"driver": "nbd", "server": map[string]any{"type": "unix", "path": socket}}
	}
	raw, _ := json.Marshal(map[string]any{"driver": "raw", "node-name": "node-" + d.Name, "read-only": d.ReadOnly, "discard": "unmap", "file": below})
	raw2, _ := json.Marshal(m.device(d))
	return string(raw), string(raw2), nil
}

// cache starts a write cache before a disk's file, which loses what was not flushed when it is killed.
func (m *Machine) cache(d Disk, path string) (socket string, err error) {
	socket = filepath.Join(m.folder, d.Name+".sock")
	_ = os.Remove(socket)
	c := exec.Command("nbdkit", "-f", "-U", socket, "--filter=cache", "file", path, "cache=writeback")
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := c.Start(); err != nil {
		return "", err
	}
	m.mu.Lock()
	m.caches[d.Name] = c
	m.mu.Unlock()
	for range 200 {
		if conn, err := net.Dial("unix", socket); err == nil {
			_ = conn.Close()
			return socket, nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return "", errors.New("nbdkit did not start")
}

// loseCache ends the write caches of some disks, or of all, at once.
func (m *Machine) loseCache(names ...string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for name, c := range m.caches {
		if len(names) == 0 || slices.Contains(names, name) {
			_ = c.Process.Kill()
			_ = c.Wait()
			delete(m.caches, name)
		}
	}
}

func (m *Machine) device(d Disk) map[string]any {
	o := map[string]any{"id": d.Name, "drive": "node-" + d.Name, "serial": d.Serial}
	if d.Sector != 0 {
		o["logical_block_size"], o["physical_block_size"] = d.Sector, d.Sector
	}
	if d.Shared != "" {
		o["share-rw"] = true
	}
	if d.WWN != 0 && (d.Bus == SCSI || d.Bus == AHCI) {
		o["wwn"] = d.WWN
	}
	switch d.Bus {
	case SCSI:
		o["driver"], o["bus"], o["product"], o["vendor"] = "scsi-hd", "scsi.0", d.Model, "TIDES"
	case NVMe:
		o["driver"], o["bus"] = "nvme", m.slot("port", pciSlots, d)
	case AHCI:
		o["driver"], o["model"], o["bus"] = "ide-hd", d.Model, m.slot("ide.", ahciPorts, d)
	default:
		o["driver"], o["bus"] = "virtio-blk-pci", m.slot("port", pciSlots, d)
	}
	return o
}

// slot is one of a bus's slots for a disk, the one that it has or else the first that is free.
func (m *Machine) slot(bus string, count int, d Disk) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	free := ""
	for i := range count {
		name := fmt.Sprintf("%s%d", bus, i)
		switch m.places[name] {
		case d.Name:
			return name
		case "":
			free = cmp.Or(free, name)
		}
	}
	m.places[free] = d.Name
	return free
}

func (m *Machine) vacate(d Disk) {
	m.mu.Lock()
	defer m.mu.Unlock()
	maps.DeleteFunc(m.places, func(_, name string) bool { return name == d.Name })
}

func (m *Machine) connect() error {
	deadline := time.Now().Add(bootFor)
	dial := func(name string) (net.Conn, error) {
		for {
			c, err := net.Dial("unix", filepath.Join(m.folder, name))
			if err == nil || time.Now().After(deadline) {
				return c, err
			}
			select {
			case <-m.ended:
				return nil, errors.New("the emulator ended")
			case <-time.After(50 * time.Millisecond):
			}
		}
	}
	c, err := dial("qmp")
	if err != nil {
		return err
	}
	if m.qmp, err = newMonitor(c); err != nil {
		return err
	}
	if m.agent, err = dial("agent"); err != nil {
		return err
	}
	go m.listen()
	select {
	case <-m.up:
		return nil
	case <-m.ended:
		return errors.New("the guest ended")
	case <-time.After(time.Until(deadline)):
		return errors.New("the guest did not come up")
	}
}

func (m *Machine) listen() {
	in := bufio.NewReader(m.agent)
	for {
		line, err := in.ReadBytes('\n')
		if err != nil {
			return
		}
		var a struct {
			ID int
			Answer
		}
		if json.Unmarshal(bytes.TrimSpace(line), &a) != nil {
			continue
		}
		if a.ID == 0 {
			close(m.up)
			continue
		}
		m.mu.Lock()
		ch := m.waits[a.ID]
		delete(m.waits, a.ID)
		m.mu.Unlock()
		if ch != nil {
			ch <- a.Answer
		}
	}
}

// Begin runs a command of bash in the guest and returns where its answer will come.
func (m *Machine) Begin(command string) <-chan Answer {
	return m.begin(map[string]any{"Command": command})
}

// Call asks the service in the guest for one of its calls, with a body of JSON.
func (m *Machine) Call(name, body string) Answer {
	select {
	case a := <-m.begin(map[string]any{"Call": name, "Body": body}):
		return a
	case <-time.After(2 * time.Minute):
		return Answer{"no answer for two minutes", -1}
	}
}

func (m *Machine) begin(request map[string]any) <-chan Answer {
	ch := make(chan Answer, 1)
	m.mu.Lock()
	m.last++
	m.waits[m.last] = ch
	request["ID"] = m.last
	line, _ := json.Marshal(request)
	_, err := m.agent.Write(append(line, '\n'))
	m.mu.Unlock()
	if err != nil {
		ch <- Answer{err.Error(), -1}
	}
	return ch
}

// Run runs a command of bash in the guest.
func (m *Machine) Run(command string) Answer {
	select {
	case a := <-m.Begin(command):
		return a
	case <-m.ended:
		return Answer{"the guest ended", -1}
	case <-time.After(10 * time.Minute):
		return Answer{"no answer for ten minutes", -1}
	}
}

// Plug puts a disk in, with what it held before.
func (m *Machine) Plug(d Disk) error {
	node, _, err := m.options(d)
	if err != nil {
		return err
	}
	if err := m.qmp.do("blockdev-add", json.RawMessage(node)); err != nil {
		return err
	}
	m.disks = append(m.disks, d)
	return m.qmp.do("device_add", m.device(d))
}

// Pull takes a disk out: a SCSI disk without warning, others as their bus has it.
func (m *Machine) Pull(d Disk) error {
	if err := m.qmp.do("device_del", map[string]any{"id": d.Name}); err != nil {
		return err
	}
	for i := range m.disks {
		if m.disks[i].Name == d.Name {
			m.disks = append(m.disks[:i:i], m.disks[i+1:]...)
			break
		}
	}
	var err error
	defer m.vacate(d)
	defer m.loseCache(d.Name)
	for range 100 { // it goes when the guest has let go of it
		if err = m.qmp.do("blockdev-del", map[string]any{"node-name": "node-" + d.Name}); err == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}

// Blank makes a disk that is not plugged in empty.
func (m *Machine) Blank(d Disk) error {
	err := os.Remove(m.File(d))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// File holds the contents of a disk.
func (m *Machine) File(d Disk) string { return filepath.Join(m.folder, d.file()) }

// PowerCut ends the machine at once.
func (m *Machine) PowerCut() {
	_ = m.qemu.Process.Kill()
	m.loseCache()
	<-m.ended
	if m.agent != nil {
		_ = m.agent.Close()
	}
	if m.qmp != nil {
		_ = m.qmp.conn.Close()
	}
	_ = m.log.Close()
}

// Wait waits until the guest has ended by itself, as after a shutdown, and cleans up.
func (m *Machine) Wait(most time.Duration) error {
	select {
	case <-m.ended:
		m.PowerCut()
		return nil
	case <-time.After(most):
		return errors.New("the guest goes on")
	}
}

// Console is the end of what the guest printed.
func (m *Machine) Console() string {
	raw, _ := os.ReadFile(filepath.Join(m.folder, "console"))
	lines := strings.Split(string(raw), "\n")
	return strings.Join(lines[max(0, len(lines)-30):], "\n")
}

// monitor speaks QMP.
type monitor struct {
	conn net.Conn
	in   *bufio.Reader
	mu   sync.Mutex
}

func newMonitor(c net.Conn) (*monitor, error) {
	q := &monitor{conn: c, in: bufio.NewReader(c)}
	if _, err := q.in.ReadBytes('\n'); err != nil {
		return nil, err
	}
	return q, q.do("qmp_capabilities", nil)
}

// do runs a command; events that come before its answer are passed over.
func (q *monitor) do(command string, args any) error {
	q.mu.Lock()
	defer q.mu.Unlock()
	line, _ := json.Marshal(struct {
		Execute   string `json:"execute"`
		Arguments any    `json:"arguments,omitempty"`
	}{command, args})
	if _, err := q.conn.Write(append(line, '\n')); err != nil {
		return err
	}
	for {
		line, err := q.in.ReadBytes('\n')
		if err != nil {
			return errors.Join(err, io.ErrUnexpectedEOF)
		}
		var reply struct {
			Return *json.RawMessage `json:"return"`
			Error  *struct {
				Desc string `json:"desc"`
			} `json:"error"`
		}
		if err := json.Unmarshal(line, &reply); err != nil {
			return err
		}
		switch {
		case reply.Error != nil:
			return fmt.Errorf("%s: %s", command, reply.Error.Desc)
		case reply.Return != nil:
			return nil
		}
	}
}
