package main

import (
	"crypto/subtle"
	"fmt"
	"hash/crc32"
	"log"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"

	"nidalo/core/record"
	"nidalo/internal/nbd"
)

// bareFolder is the variable of the environment that makes this program a bare service of the members in a folder, and bareLevel the one that says of
// which level.
const bareFolder, bareLevel = "NIDALO_BENCH_BARE", "NIDALO_BENCH_BARE_LEVEL"

// bareArray is a level 5 of four files of which the engine has been left out. Behind the protocol's front that Nidalo has, each read sums what it has read,
// each write does the system calls that the scheme must do, and each flush syncs the members that were written. There is no cache, no tables and no order
// between clients, and nothing could be recovered.
type bareArray struct {
	files [4]*os.File
	rows  [1024]sync.Mutex // by row of blocks: a parity is read and written by one at a time
	next  atomic.Int64     // the place in the journals
}

const (
	bareBlock   = 4096
	bareMember  = 1 << 30  // of data on each member; the journal is before it
	bareJournal = 64 << 20 // bytes
	bareStrip   = 64 << 10 // bytes
)

var entryHead [bareBlock]byte

// bareClient is one connection.
type bareClient struct {
	a       *bareArray
	touched [4]atomic.Bool // members that were written since the last flush
}

func (a *bareArray) Names() []string { return []string{""} }

func (a *bareArray) Open(string, string) (nbd.Export, func(), error) {
	c := &bareClient{a: a}
	return c, func() {}, nil
}

func (c *bareClient) Size() int64 { return 3 * bareMember }

// blockPlace is where a block of data is: its member, that of its parity, and the offset in both.
func blockPlace(at int64) (data, parity int, off int64) {
	strip := at / bareStrip
	row := strip / 3
	parity = int(3 - row%4)
	data = (parity + 1 + int(strip%3)) % 4
	return data, parity, bareJournal + row*bareStrip + at%bareStrip
}

// Waits says that all its reads are of the system's memory, which Nidalo finds out.
func (c *bareClient) Waits() int64 { return 0 }

func (c *bareClient) Read(p []byte, at int64) ([]nbd.Hole, error) {
	for len(p) > 0 {
		n := min(int64(len(p)), bareStrip-at%bareStrip)
		d, _, off := blockPlace(at)
		if _, err := c.a.files[d].ReadAt(p[:n], off); err != nil {
			return nil, err
		}
		_ = record.SumsOf(p[:n])
		p, at = p[n:], at+n
	}
	return nil, nil
}

func (c *bareClient) Write(p []byte, at int64) error {
	for n := 0; n < len(p); n += bareBlock {
		if err := c.update(p[n:n+bareBlock], at+int64(n)); err != nil {
			return err
		}
	}
	return nil
}

func (c *bareClient) Flush() error {
	for m := range c.touched {
		if c.touched[m].Swap(false) {
			if err := c.a.files[m].Sync(); err != nil {
				return err
			}
		}
	}
	return nil
}

// update is what level 5 must do for a block.
func (c *bareClient) update(block []byte, at int64) error {
	d, p, off := blockPlace(at)
	data, parity := c.a.files[d], c.a.files[p]
	row := &c.a.rows[off/bareBlock%int64(len(c.a.rows))]
	row.Lock()
	defer row.Unlock()
	var both [2 * bareBlock]byte
	old, sums := both[:bareBlock], both[bareBlock:]
	if _, err := data.ReadAt(old, off); err != nil {
		return err
	}
	if _, err := parity.ReadAt(sums, off); err != nil {
		return err
	}
	seen := crc32.Checksum(old, table) ^ crc32.Checksum(sums, table)
	subtle.XORBytes(sums, sums, old)
	subtle.XORBytes(sums, sums, block)
	seen ^= crc32.Checksum(sums, table) ^ crc32.Checksum(block, table)
	if seen == 1 { // so that the sums are computed
		log.Print("a rare sum")
	}
	// An entry has its head before it, a block as on disks, to say what it is and whether it is whole.
	entry := c.a.next.Add(2*bareBlock) % bareJournal
	if _, err := unix.Pwritev(int(data.Fd()), [][]byte{entryHead[:], block}, entry); err != nil {
		return err
	}
	if _, err := unix.Pwritev(int(parity.Fd()), [][]byte{entryHead[:], sums}, entry); err != nil {
		return err
	}
	c.touched[d].Store(true)
	c.touched[p].Store(true)
	if _, err := data.WriteAt(block, off); err != nil {
		return err
	}
	_, err := parity.WriteAt(sums, off)
	return err
}

func (c *bareClient) FlushRange(int64, int64) error { return c.Flush() }

func (c *bareClient) Zero(int64, int64) error { return nil }

func (c *bareClient) Extents(_, length int64, _ int) ([]nbd.Extent, error) {
	return []nbd.Extent{{Length: length, Written: true}}, nil
}

func newBareArray(dir string) *bareArray {
	a := &bareArray{}
	bareMembers(dir, a.files[:], bareMember)
	return a
}

// bareMembers makes the files of members that have so many bytes behind their journals.
func bareMembers(dir string, files []*os.File, size int64) {
	for i := range files {
		f, err := os.Create(filepath.Join(dir, fmt.Sprintf("bare%d-%d", len(files), i)))
		if err == nil {
			err = f.Truncate(bareJournal + size)
		}
		if err != nil {
			log.Fatal(err)
		}
		files[i] = f
	}
}

// serveBare is this program as a bare service of a level. It does not return.
func serveBare(dir, level string) {
	var a nbd.Exports
	if level == "6" {
		a = newBareStripes(dir)
	} else {
		a = newBareArray(dir)
	}
	l, err := net.Listen("unix", filepath.Join(dir, "bare.sock"))
	if err != nil {
		log.Fatal(err)
	}
	log.Fatal(nbd.NewServer(a, slog.New(slog.DiscardHandler)).Serve(l, nbd.DefaultBudget))
}

// bareService starts a bare service of new members in a folder.
func bareService(dir, level string) *server {
	self, err := os.Executable()
	if err != nil {
		log.Fatal(err)
	}
	c := exec.Command(self)
	c.Env = append(os.Environ(), bareFolder+"="+dir, bareLevel+"="+level)
	c.Stderr = os.Stderr
	socket := filepath.Join(dir, "bare.sock")
	_ = os.Remove(socket)
	if err := begin(c); err != nil {
		log.Fatal(err)
	}
	waitSocket(socket)
	return &server{name: "bare service", uri: "nbd+unix:///?socket=" + socket, cmd: c, dir: dir}
}
