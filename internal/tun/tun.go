// Package tun is a TUN device: packets as the kernel routes them, in and out of this process, joined where the kernel knows how (package
// segment). Addresses, routes and what is made of the packets is left to others.
package tun

import (
	"fmt"
	"os"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/segment"
)

const (
	batchMost  = 32      // packets that are read at once
	joinedMost = 12      // the same where each may be many
	wholeMost  = 1 << 16 // octets of one
)

// joins is what a device does with packets joined.
type joins struct{ TCP, UDP bool }

// How is how a device is opened.
type How struct {
	Plain  bool // without joined packets, as with a kernel that knows none
	Queues int  // by which packets come and go side by side, all of one flow by one; 0: one
}

// Device is a device by which packets get to the kernel and come from it.
type Device struct {
	queues []queue
	name   string
	joins  joins
}

// queue is one of its descriptors.
type queue struct {
	file *os.File
	raw  syscall.RawConn
}

// Open makes a device of a name that no link has; it goes away with the process, and its routes with it.
func Open(name string, how How) (*Device, error) {
	if !how.Plain {
		if t, err := open(name, unix.IFF_VNET_HDR, how.Queues); err == nil {
			if t.join() {
				return t, nil
			}
			t.Close()
		}
	}
	return open(name, 0, how.Queues)
}

func open(name string, more uint16, queues int) (*Device, error) {
	t := &Device{name: name}
	if queues > 1 {
		more |= unix.IFF_MULTI_QUEUE
	}
	first := uint16(unix.IFF_TUN_EXCL)
	for range max(queues, 1) {
		q, err := attach(name, more|first)
		if err != nil {
			t.Close()
			return nil, err
		}
		t.queues = append(t.queues, q)
		first = 0
	}
	return t, nil
}

// attach makes a device, or one more queue of it.
func attach(name string, more uint16) (q queue, err error) {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err != nil {
		return q, fmt.Errorf("/dev/net/tun cannot be opened: %w", err)
	}
	var req struct {
		name  [unix.IFNAMSIZ]byte
		flags uint16
		_     [22]byte
	}
	copy(req.name[:unix.IFNAMSIZ-1], name)
	req.flags = unix.IFF_TUN | unix.IFF_NO_PI | more
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), unix.TUNSETIFF, uintptr(unsafe.Pointer(&req))); errno != 0 {
		_ = unix.Close(fd)
		return q, fmt.Errorf("device %s: %w", name, errno)
	}
	q.file = os.NewFile(uintptr(fd), name)
	if q.raw, err = q.file.SyscallConn(); err != nil {
		_ = q.file.Close()
	}
	return q, err
}

// What a kernel may hand over (linux/if_tun.h): checksums that are not worked out, and joined TCP and UDP.
const (
	offloadChecksum = 0x01
	offloadTCP      = 0x02 | 0x04 | 0x08 // by IPv4, by IPv6, with ECN
	offloadUDP      = 0x20 | 0x40        // since Linux 6.2
)

// join has the kernel hand over packets joined, and says whether it does.
func (t *Device) join() bool {
	for _, offer := range []struct {
		flags uintptr
		joins joins
	}{{offloadChecksum | offloadTCP | offloadUDP, joins{true, true}}, {offloadChecksum | offloadTCP, joins{TCP: true}}} {
		all := true
		for _, q := range t.queues {
			var failed syscall.Errno
			err := q.raw.Control(func(fd uintptr) { _, _, failed = unix.Syscall(unix.SYS_IOCTL, fd, unix.TUNSETOFFLOAD, offer.flags) })
			all = all && err == nil && failed == 0
		}
		if all {
			t.joins = offer.joins
			return true
		}
	}
	return false
}

// Techniques is that in the words of `yl status`.
func (t *Device) Techniques() (out []string) {
	if t.joins.TCP {
		out = append(out, "TCP joined with the kernel")
	}
	if t.joins.UDP {
		out = append(out, "UDP joined with the kernel")
	}
	if n := len(t.queues); n > 1 {
		out = append(out, fmt.Sprintf("%d queues of the device", n))
	}
	return out
}

// headLen is how many octets stand before each packet.
func (t *Device) headLen() int {
	if t.joins.TCP {
		return segment.HeaderLen
	}
	return 0
}

// Name is the device's name.
func (t *Device) Name() string { return t.name }

// Close takes the device away. A second call does nothing.
func (t *Device) Close() {
	for _, q := range t.queues {
		_ = q.file.Close()
	}
}
