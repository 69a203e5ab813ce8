package tun

import (
	"encoding/binary"
	"iter"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/segment"
)

// writer is what handing packets to a kernel needs, kept from one batch to the next.
type writer struct {
	joiner segment.Joiner
	head   [segment.HeaderLen]byte
	parts  []unix.Iovec
	device *Device
	each   func(*segment.Unit)
	call   func(fd uintptr) bool
}

var writers = sync.Pool{New: func() any {
	w := &writer{}
	w.each, w.call = w.unit, w.write
	return w
}}

// WriteAll hands packets to the kernel, those of one flow joined where it takes them so: their headers may be altered. What a link that is
// down does not take is lost.
func (t *Device) WriteAll(packets iter.Seq[[]byte]) {
	w := writers.Get().(*writer)
	w.device = t
	if t.joins.TCP {
		w.joiner.WithoutUDP = !t.joins.UDP
		w.joiner.Join(packets, w.each)
	} else {
		for b := range packets {
			if w.parts = appendPart(w.parts[:0], b); len(w.parts) > 0 {
				_ = t.queueFor(b).raw.Write(w.call)
			}
		}
	}
	clear(w.parts[:cap(w.parts)])
	w.device = nil
	writers.Put(w)
}

// Write hands one packet to the kernel.
func (t *Device) Write(b []byte) { t.WriteAll(func(yield func([]byte) bool) { yield(b) }) }

// queueFor is the queue of whoever sent a packet: the kernel answers by the one by which it came (tun_flow_update), so that all that one
// person sends and gets goes by one.
func (t *Device) queueFor(b []byte) *queue {
	n := len(t.queues)
	if n == 1 || len(b) < 20 {
		return &t.queues[0]
	}
	h := binary.BigEndian.Uint32(b[12:])
	if b[0]>>4 == 6 && len(b) >= 40 {
		h = binary.BigEndian.Uint32(b[20:])
	}
	return &t.queues[h*0x9e3779b1>>16%uint32(n)]
}

func appendPart(parts []unix.Iovec, b []byte) []unix.Iovec {
	if len(b) == 0 {
		return parts
	}
	return append(parts, unix.Iovec{Base: &b[0], Len: uint64(len(b))})
}

// unit hands over one packet, or several as one.
func (w *writer) unit(u *segment.Unit) {
	u.Header.Put(w.head[:])
	w.parts = appendPart(w.parts[:0], w.head[:])
	for _, b := range u.Parts {
		w.parts = appendPart(w.parts, b)
	}
	_ = w.device.queueFor(u.Parts[0]).raw.Write(w.call)
}

// write is the call of the kernel: it takes a packet or does not, and has no queue that would have to be waited for.
func (w *writer) write(fd uintptr) bool {
	for {
		_, _, errno := unix.Syscall(unix.SYS_WRITEV, fd, uintptr(unsafe.Pointer(&w.parts[0])), uintptr(len(w.parts)))
		if errno != unix.EINTR {
			return true
		}
	}
}
