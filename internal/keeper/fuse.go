//go:build linux

package keeper

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"

	"nidalo/internal/nbd"
	"nidalo/internal/passage"
)

// Where the kernel has no client of the block protocol: a file system in user space with one file, and a loop device on that.
// Such a device lives as long as the keeper: it survives a restart of the service, not one of the keeper.
//
// The keeper does not hold the loop device open. The last close of a device waits until the host has written what it has cached, which
// needs the keeper: a keeper that is killed would wait for itself in the kernel, where nothing can end it.

// fuseFront is such a device.
type fuseFront struct {
	folder string
	server *fuse.Server
	file   *arrayFile
	path   string // of the loop device
}

// fileName is the one file.
const fileName = "array"

// arrayFile is an array as a file.
type arrayFile struct {
	fs.Inode
	port port
}

var (
	_ fs.NodeOpener    = (*arrayFile)(nil)
	_ fs.NodeGetattrer = (*arrayFile)(nil)
	_ fs.NodeReader    = (*arrayFile)(nil)
	_ fs.NodeWriter    = (*arrayFile)(nil)
	_ fs.NodeFsyncer   = (*arrayFile)(nil)
	_ fs.NodeAllocater = (*arrayFile)(nil)
	_ fs.NodeSetattrer = (*arrayFile)(nil)
)

func (f *arrayFile) Open(context.Context, uint32) (fs.FileHandle, uint32, syscall.Errno) {
	return nil, fuse.FOPEN_DIRECT_IO | fuse.FOPEN_PARALLEL_DIRECT_WRITES, 0
}

func (f *arrayFile) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	out.Mode, out.Size, out.Blksize = syscall.S_IFREG|0o600, uint64(f.port.Size()), BlockSize
	out.Blocks = out.Size / 512
	return 0
}

// Setattr accepts what does not matter; the size is the array's.
func (f *arrayFile) Setattr(ctx context.Context, h fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	if size, ok := in.GetSize(); ok && int64(size) != f.port.Size() {
		return syscall.EPERM
	}
	return f.Getattr(ctx, h, out)
}

func (f *arrayFile) Read(_ context.Context, _ fs.FileHandle, p []byte, off int64) (fuse.ReadResult, syscall.Errno) {
	if rest := f.port.Size() - off; rest < int64(len(p)) {
		p = p[:max(rest, 0)]
	}
	data, place, err := f.port.look(p, off)
	if err != nil {
		return nil, errno(err)
	}
	if place == nil {
		return fuse.ReadResultData(data), 0
	}
	return &placed{place}, 0
}

// placed is data in shared memory, which goes to the kernel from there.
type placed struct{ place *passage.Place }

func (r *placed) Size() int                          { return len(r.place.Data) }
func (r *placed) Slices() ([][]byte, fuse.Status)    { return [][]byte{r.place.Data}, fuse.OK }
func (r *placed) Bytes([]byte) ([]byte, fuse.Status) { return r.place.Data, fuse.OK }
func (r *placed) Done()                              { r.place.GiveBack() }

func (f *arrayFile) Write(_ context.Context, _ fs.FileHandle, p []byte, off int64) (uint32, syscall.Errno) {
	if off < 0 || off+int64(len(p)) > f.port.Size() {
		return 0, syscall.ENOSPC
	}
	if err := f.port.Write(p, off); err != nil {
		return 0, errno(err)
	}
	return uint32(len(p)), 0
}

func (f *arrayFile) Fsync(context.Context, fs.FileHandle, uint32) syscall.Errno {
	return errno(f.port.Flush())
}

func (f *arrayFile) Allocate(_ context.Context, _ fs.FileHandle, off, size uint64, mode uint32) syscall.Errno {
	if mode&(unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_ZERO_RANGE) == 0 {
		return syscall.EOPNOTSUPP
	}
	if off+size < off || off+size > uint64(f.port.Size()) {
		return syscall.ENOSPC
	}
	return errno(f.port.Zero(int64(off), int64(size)))
}

func errno(err error) syscall.Errno {
	switch {
	case err == nil:
		return 0
	case errors.Is(err, nbd.ErrNoSpace):
		return syscall.ENOSPC
	}
	return syscall.EIO
}

type arrayFolder struct {
	fs.Inode
	file *arrayFile
}

func (d *arrayFolder) OnAdd(ctx context.Context) {
	d.AddChild(fileName, d.NewPersistentInode(ctx, d.file, fs.StableAttr{Mode: syscall.S_IFREG, Ino: 2}), false)
}

// startFuse makes the device. announce is called with its name before it appears.
func startFuse(folder string, p port, announce func(device string) error) (*fuseFront, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	f := &fuseFront{folder: folder, file: &arrayFile{port: p}}
	none := time.Duration(0)
	var err error
	f.server, err = fs.Mount(folder, &arrayFolder{file: f.file}, &fs.Options{AttrTimeout: &none, EntryTimeout: &none, MountOptions: fuse.MountOptions{
		DirectMount: true, FsName: "nidalo", Name: "nidalo", MaxWrite: 1 << 20, MaxBackground: 128, DisableXAttrs: true,
		// Without this the loop device has one request under way at a time.
		ExtraCapabilities: fuse.CAP_ASYNC_DIO, DisableSplice: true}})
	if err != nil {
		_ = os.Remove(folder)
		return nil, fmt.Errorf("a file system in user space: %w", err)
	}
	if err := f.attachLoop(announce); err != nil {
		_ = f.server.Unmount()
		_ = os.Remove(folder)
		return nil, fmt.Errorf("a loop device: %w", err)
	}
	return f, nil
}

// attachLoop puts a loop device onto the file.
func (f *fuseFront) attachLoop(announce func(string) error) error {
	control, err := os.OpenFile("/dev/loop-control", os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer control.Close()
	backing, err := os.OpenFile(filepath.Join(f.folder, fileName), os.O_RDWR|unix.O_DIRECT, 0)
	if err != nil {
		return err
	}
	defer backing.Close()
	for try := 0; ; try++ {
		index, err := unix.IoctlRetInt(int(control.Fd()), unix.LOOP_CTL_GET_FREE)
		if err != nil {
			return err
		}
		f.path = fmt.Sprintf("/dev/loop%d", index)
		loop, err := os.OpenFile(f.path, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		if err = announce(f.path); err == nil {
			config := unix.LoopConfig{Fd: uint32(backing.Fd()), Size: BlockSize, Info: unix.LoopInfo64{Flags: unix.LO_FLAGS_DIRECT_IO}}
			copy(config.Info.File_name[:], backing.Name())
			err = unix.IoctlLoopConfigure(int(loop.Fd()), &config)
		}
		_ = loop.Close()
		if !errors.Is(err, unix.EBUSY) || try > 20 { // another was faster
			return err
		}
	}
}

// freeLoop ends the loop device on a file. While it is in use the kernel defers that until its last close.
func freeLoop(path, file string) error {
	if !isOn(path, file) {
		return nil
	}
	loop, err := os.OpenFile(path, os.O_RDONLY, 0)
	if err != nil {
		return err
	}
	return errors.Join(unix.IoctlSetInt(int(loop.Fd()), unix.LOOP_CLR_FD, 0), loop.Close())
}

// there says whether the loop device is still on the file: any process may end one that is not in use.
func (f *fuseFront) there() bool { return isOn(f.path, filepath.Join(f.folder, fileName)) }

// ended says whether the loop device surely is on nothing, or on another file. A look that fails shows nothing, and a file system that was
// unmounted while the device is in use has another path.
func (f *fuseFront) ended() bool {
	backing, err := os.ReadFile("/sys/block/" + filepath.Base(f.path) + "/loop/backing_file")
	return errors.Is(err, os.ErrNotExist) || err == nil && !strings.HasSuffix(strings.TrimSpace(string(backing)), "/"+fileName)
}

// isOn says whether a loop device is on a file. The kernel is asked by sysfs: the device itself cannot tell once its keeper is dead.
func isOn(loop, file string) bool {
	backing, err := os.ReadFile("/sys/block/" + filepath.Base(loop) + "/loop/backing_file")
	return err == nil && strings.TrimSpace(string(backing)) == file
}

func (f *fuseFront) resize(int64) error {
	if !f.there() {
		return errGone
	}
	loop, err := os.OpenFile(f.path, os.O_RDONLY, 0)
	if err != nil {
		return err
	}
	err = unix.IoctlSetInt(int(loop.Fd()), unix.LOOP_SET_CAPACITY, 0)
	go loop.Close() // it may wait for writes, which wait for the caller
	return err
}

// stop ends the device. When force is set, what hangs in it fails.
func (f *fuseFront) stop(force bool) error {
	if force {
		abort(f.folder) // its remaining users get errors
	}
	err := freeLoop(f.path, filepath.Join(f.folder, fileName))
	if force {
		_ = unix.Unmount(f.folder, unix.MNT_DETACH)
		_ = os.Remove(f.folder)
		return nil
	}
	for range 50 { // the loop device lets go of the file when the last one has closed it
		if e := f.server.Unmount(); e == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	_ = unix.Unmount(f.folder, unix.MNT_DETACH)
	_ = os.Remove(f.folder)
	return err
}

// abort ends the connection of a file system in user space with the kernel: every request that waits fails. It asks nothing of the file
// system, which may not answer. What still uses it stays.
func abort(folder string) { _ = unix.Unmount(folder, unix.MNT_FORCE) }

// haveFuse says what is missing for such a device.
func haveFuse() error {
	var missing []string
	for path, module := range map[string]string{"/dev/fuse": "fuse", "/dev/loop-control": "loop"} {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			missing = append(missing, fmt.Sprintf("%s (module %s): %v", path, module, errors.Unwrap(err)))
			continue
		}
		_ = f.Close()
	}
	if len(missing) > 0 {
		return errors.New(strings.Join(missing, "; "))
	}
	return nil
}
