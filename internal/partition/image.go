package partition

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"

	"nidalo/internal/disk"
)

// image is the head and the tail of a disk in memory, as a file for the library that knows the tables. Nothing reaches the disk
// before store.
type image struct {
	head, tail []byte
	was        [2][]byte
	size, at   int64
	scratch    uint32
}

func load(d disk.Disk) (*image, error) {
	if d.Size() < 4*edge {
		return nil, fmt.Errorf("%s: %d bytes is too small for a partition table", d.Identity(), d.Size())
	}
	im := &image{head: make([]byte, edge), tail: make([]byte, edge), size: d.Size()}
	if err := d.ReadAt(im.head, 0); err != nil {
		return nil, err
	}
	if err := d.ReadAt(im.tail, im.size-edge); err != nil {
		return nil, err
	}
	im.was = [2][]byte{bytes.Clone(im.head), bytes.Clone(im.tail)}
	return im, nil
}

// store writes what changed: the tail, then the head.
func (im *image) store(d disk.Disk) error {
	for _, side := range []struct {
		now, was []byte
		at       int64
	}{{im.tail, im.was[1], im.size - edge}, {im.head, im.was[0], 0}} {
		const piece = 64 << 10
		for i := 0; i < edge; i += piece {
			if bytes.Equal(side.now[i:i+piece], side.was[i:i+piece]) {
				continue
			}
			if err := d.WriteAt(side.now[i:i+piece], side.at+int64(i)); err != nil {
				return err
			}
		}
		if err := d.Sync(); err != nil {
			return err
		}
	}
	return nil
}

// part is where a stretch of the disk is in memory.
func (im *image) part(n int, off int64) ([]byte, error) {
	switch {
	case off >= 0 && off+int64(n) <= edge:
		return im.head[off:][:n], nil
	case off >= im.size-edge && off+int64(n) <= im.size:
		return im.tail[off-(im.size-edge):][:n], nil
	}
	return nil, fmt.Errorf("%d bytes at %d: a table that reaches into the middle of the disk", n, off)
}

func (im *image) ReadAt(p []byte, off int64) (int, error) {
	from, err := im.part(len(p), off)
	if err != nil {
		return 0, err
	}
	return copy(p, from), nil
}

func (im *image) WriteAt(p []byte, off int64) (int, error) {
	to, err := im.part(len(p), off)
	if err != nil {
		return 0, err
	}
	return copy(to, p), nil
}

func (im *image) Read(p []byte) (int, error) {
	n := int(min(int64(len(p)), im.size-im.at))
	if n <= 0 {
		return 0, io.EOF
	}
	n, err := im.ReadAt(p[:n], im.at)
	im.at += int64(n)
	return n, err
}

func (im *image) Seek(off int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		off += im.at
	case io.SeekEnd:
		off += im.size
	}
	if off < 0 {
		return 0, os.ErrInvalid
	}
	im.at = off
	return off, nil
}

func (im *image) Close() error               { return nil }
func (im *image) Stat() (fs.FileInfo, error) { return info{im.size}, nil }

// info is what a file of the size of the disk says of itself.
type info struct{ size int64 }

func (i info) Name() string       { return "disk" }
func (i info) Size() int64        { return i.size }
func (i info) Mode() fs.FileMode  { return 0o600 }
func (i info) ModTime() time.Time { return time.Time{} }
func (i info) IsDir() bool        { return false }
func (i info) Sys() any           { return nil }
