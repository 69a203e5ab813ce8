// Package tun is a TUN device: packets as the kernel routes them, in and out of this process. Addresses, routes and what is made of the
// packets is left to others.
package tun

import (
	"errors"
	"fmt"
	"os"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/inside"
)

const (
	batchMost = 64   // packets that are read at once
	packetMax = 9216 // octets: no link that we know carries more without joining packets
)

// Device is a device by which packets get to the kernel and come from it.
type Device struct {
	file *os.File
	raw  syscall.RawConn
	name string
}

// Open makes a device of a name that no link has; it goes away with the process, and its routes with it.
func Open(name string) (*Device, error) {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("/dev/net/tun cannot be opened: %w", err)
	}
	var req struct {
		name  [unix.IFNAMSIZ]byte
		flags uint16
		_     [22]byte
	}
	copy(req.name[:unix.IFNAMSIZ-1], name)
	req.flags = unix.IFF_TUN | unix.IFF_NO_PI | unix.IFF_TUN_EXCL
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), unix.TUNSETIFF, uintptr(unsafe.Pointer(&req))); errno != 0 {
		_ = unix.Close(fd)
		return nil, fmt.Errorf("device %s: %w", name, errno)
	}
	t := &Device{file: os.NewFile(uintptr(fd), name), name: name}
	if t.raw, err = t.file.SyscallConn(); err != nil {
		_ = t.file.Close()
		return nil, err
	}
	return t, nil
}

// Batch is buffers for as many packets as are read at once, with room around each.
func Batch() []inside.Packet {
	batch := make([]inside.Packet, batchMost)
	for i := range batch {
		batch[i] = inside.Packet{Buf: make([]byte, inside.Headroom+packetMax+inside.Tailroom)}
	}
	return batch
}

// Name is the device's name.
func (t *Device) Name() string { return t.name }

// Close takes the device away. A second call does nothing.
func (t *Device) Close() { _ = t.file.Close() }

// Read waits for packets and gives how many came into a batch.
func (t *Device) Read(into []inside.Packet) (n int, err error) {
	var failed error
	err = t.raw.Read(func(fd uintptr) bool {
		for n < len(into) {
			p := &into[n]
			got, err := unix.Read(int(fd), p.Buf[inside.Headroom:len(p.Buf)-inside.Tailroom])
			switch {
			case errors.Is(err, unix.EAGAIN):
				return n > 0
			case errors.Is(err, unix.EINTR):
				continue
			case err != nil:
				failed = err
				return true
			}
			p.Off, p.Len = inside.Headroom, got
			n++
		}
		return true
	})
	if n > 0 {
		return n, nil
	}
	return 0, errors.Join(err, failed)
}

// Poll gives how many packets came into a batch, without waiting for any.
func (t *Device) Poll(into []inside.Packet) (n int) {
	_ = t.raw.Control(func(fd uintptr) {
		for n < len(into) {
			p := &into[n]
			got, err := unix.Read(int(fd), p.Buf[inside.Headroom:len(p.Buf)-inside.Tailroom])
			if err != nil {
				return
			}
			p.Off, p.Len = inside.Headroom, got
			n++
		}
	})
	return n
}

// Write hands a packet to the kernel.
func (t *Device) Write(b []byte) error {
	_, err := t.file.Write(b)
	return err
}
