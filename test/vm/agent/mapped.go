//go:build linux

package main

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"runtime"
	"strings"
	"syscall"
	"unsafe"
)

// mapped makes and removes devices that the kernel maps onto others, by its own interface (linux/dm-ioctl.h):
//
//	agent map NAME UUID SECTORS TYPE PARAMETERS   makes one, and /dev/mapper/NAME
//	agent unmap NAME
func mapped(args []string) error {
	name := args[1]
	if args[0] == "unmap" {
		_ = os.Remove("/dev/mapper/" + name)
		_, err := control(deviceRemove, name, "", 0, nil)
		return err
	}
	if _, err := control(deviceCreate, name, args[2], 0, nil); err != nil {
		return err
	}
	var sectors uint64
	if _, err := fmt.Sscan(args[3], &sectors); err != nil {
		return err
	}
	target := make([]byte, 40, 512)
	binary.LittleEndian.PutUint64(target[8:], sectors)
	copy(target[24:40], args[4])
	target = append(target, args[5]+"\x00"...)
	for len(target)%8 != 0 {
		target = append(target, 0)
	}
	if _, err := control(tableLoad, name, "", 1, target); err != nil {
		return err
	}
	number, err := control(deviceSuspend, name, "", 0, nil) // without the flag to suspend it resumes
	if err != nil {
		return err
	}
	_ = os.MkdirAll("/dev/mapper", 0o755)
	return os.Symlink(fmt.Sprintf("../dm-%d", number&0xff|number>>12&^0xff), "/dev/mapper/"+name)
}

const (
	deviceCreate  = 0xc138fd03 // DM_DEV_CREATE and so on
	deviceRemove  = 0xc138fd04
	deviceSuspend = 0xc138fd06
	tableLoad     = 0xc138fd09
	headSize      = 312 // struct dm_ioctl
)

func control(request uintptr, name, uuid string, targets uint32, data []byte) (number uint64, err error) {
	f, err := os.OpenFile("/dev/mapper/control", os.O_RDWR, 0)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	buf := bytes.Repeat([]byte{0}, headSize+len(data)+1024)
	for i, v := range []uint32{4, 0, 0, uint32(len(buf)), headSize, targets} {
		binary.LittleEndian.PutUint32(buf[4*i:], v)
	}
	copy(buf[48:], name)
	copy(buf[176:], uuid)
	copy(buf[headSize:], data)
	_, _, code := syscall.Syscall(syscall.SYS_IOCTL, f.Fd(), request, uintptr(unsafe.Pointer(&buf[0])))
	runtime.KeepAlive(buf)
	if code != 0 {
		return 0, fmt.Errorf("%s: %w", strings.TrimSpace(name), code)
	}
	return binary.LittleEndian.Uint64(buf[40:]), nil
}
