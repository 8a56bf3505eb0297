//go:build !linux

package disk

import (
	"errors"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

func preadv(fd int, bufs [][]byte, off int64) (int, error)  { return unix.Pread(fd, bufs[0], off) }
func pwritev(fd int, bufs [][]byte, off int64) (int, error) { return unix.Pwrite(fd, bufs[0], off) }

func directFlag(bool) int                               { return 0 }
func punch(syscall.RawConn, int64, int64) error         { return errors.ErrUnsupported }
func discardDevice(syscall.RawConn, int64, int64) error { return errors.ErrUnsupported }
func rereadPartitions(syscall.RawConn) error            { return nil }
func deviceNumber(syscall.RawConn) string               { return "" }

func datasync(f *os.File, _ syscall.RawConn) error { return f.Sync() }

func room(syscall.RawConn) int64                        { return 1 << 62 }
func allocate(syscall.RawConn, int64, int64) error      { return nil }
func inMemory(syscall.RawConn) bool                     { return false }
func readCached(syscall.RawConn, [][]byte, int64) int   { return 0 }
func refresh(syscall.RawConn, int64, int64)             {}
func present(f *os.File, _ syscall.RawConn) (err error) { _, err = f.Stat(); return err }

func deviceReadv(fd int, bufs [][]byte, off int64) (int, error)  { return preadv(fd, bufs, off) }
func deviceWritev(fd int, bufs [][]byte, off int64) (int, error) { return pwritev(fd, bufs, off) }
