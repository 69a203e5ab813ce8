package tun

import (
	"errors"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/buffers"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/segment"
)

// Reader reads from a queue of a device, for one goroutine. While it waits it has no buffers.
type Reader struct {
	queue  *queue
	head   int // octets of a device's header
	shelf  buffers.Shelf
	batch  []inside.Packet
	took   int
	failed error
	call   func(fd uintptr) bool
}

// Reader reads from one of the queues.
func (t *Device) Reader(queue int) *Reader {
	most := batchMost
	if t.joins.TCP {
		most = joinedMost
	}
	r := &Reader{queue: &t.queues[queue], head: t.headLen(), shelf: buffers.NewShelf(most), batch: make([]inside.Packet, most)}
	r.call = func(fd uintptr) bool {
		r.fill(int(fd))
		return r.took > 0 || r.failed != nil
	}
	return r
}

// Read waits for packets, which are valid until the next call, with room around them.
func (r *Reader) Read() ([]inside.Packet, error) {
	err := r.queue.raw.Read(r.call)
	if r.took > 0 && err == nil {
		return r.batch[:r.took], nil
	}
	r.Rest()
	return nil, errors.Join(err, r.failed)
}

// Poll gives what has come, without waiting for any.
func (r *Reader) Poll() []inside.Packet {
	_ = r.queue.raw.Control(func(fd uintptr) { r.fill(int(fd)) })
	return r.batch[:r.took]
}

// Rest gives the buffers back: what was read into them is done with.
func (r *Reader) Rest() {
	if r.shelf.Clear() {
		clear(r.batch)
	}
}

// fill reads what is there. With nothing it holds no buffers.
func (r *Reader) fill(fd int) {
	if r.shelf.Fill() {
		for i, b := range r.shelf {
			r.batch[i].Buf = b[:]
		}
	}
	for r.took, r.failed = 0, nil; r.took < len(r.batch); {
		p := &r.batch[r.took]
		got, err := unix.Read(fd, p.Buf[inside.Headroom-r.head:inside.Headroom+wholeMost])
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case err != nil:
			if !errors.Is(err, unix.EAGAIN) {
				r.failed = err
			}
			if r.took == 0 {
				r.Rest()
			}
			return
		}
		if got < r.head {
			continue
		}
		p.Off, p.Len, p.Each = inside.Headroom, got-r.head, 0
		if r.head > 0 {
			if p.Each, err = segment.ReadHeader(p.Buf[inside.Headroom-r.head:]).Finish(p.Bytes()); err != nil {
				continue
			}
		}
		r.took++
	}
}
