// Package eaptls holds EAP methods that carry TLS (RFC 5216, RFC 5281, RFC 9427), for both sides. TLS itself is Go's; it wants a connection
// and a goroutine of its own, which is why these methods are not in the core.
package eaptls

import (
	"bytes"
	"errors"
	"net"
	"sync"
	"time"

	"yellowlantern/internal/guard"
)

// Bounds of one login.
const (
	lasts     = 2 * time.Minute // after which whoever waits is woken, and the goroutine ends
	mostIn    = 128 << 10       // octets of TLS from the other side
	fragment  = 1024            // octets of TLS in one packet of ours (RFC 5216 §2.1.5)
	mostAtOne = 64 << 10        // octets of one flight
)

var errOver = errors.New("eaptls: the login is over")

// engine runs one side of a TLS connection: what came is put in, what is to be sent comes out once the connection waits for more.
type engine struct {
	mu     sync.Mutex
	change sync.Cond
	in     bytes.Buffer
	out    bytes.Buffer
	taken  int  // octets that came in
	waits  bool // the connection wants more
	ended  bool // its goroutine is over
	closed bool
}

// start runs do with the connection, in a goroutine of its own.
func start(do func(net.Conn)) *engine {
	e := &engine{}
	e.change.L = &e.mu
	limit := guard.After(lasts, "eaptls.start", e.close)
	guard.Go("eaptls.start", func() {
		defer limit.Stop()
		defer e.end() // also after a panic: somebody waits in step
		do(wire{e})
	})
	return e
}

func (e *engine) end() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.ended = true
	e.change.Broadcast()
}

func (e *engine) close() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.closed = true
	e.change.Broadcast()
}

// step puts in what came, and gives what is to be sent; over is that nothing more follows.
func (e *engine) step(in []byte) (out []byte, over bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.taken += len(in); e.taken > mostIn {
		e.closed = true
	}
	e.in.Write(in)
	if len(in) > 0 || e.closed {
		e.waits = false
		e.change.Broadcast()
	}
	for !e.waits && !e.ended {
		e.change.Wait()
	}
	out = bytes.Clone(e.out.Bytes())
	e.out.Reset()
	return out, e.ended
}

// wire is the connection that TLS has.
type wire struct{ e *engine }

// Read implements net.Conn.
func (w wire) Read(p []byte) (int, error) {
	e := w.e
	e.mu.Lock()
	defer e.mu.Unlock()
	for e.in.Len() == 0 {
		if e.closed {
			return 0, errOver
		}
		e.waits = true
		e.change.Broadcast()
		e.change.Wait()
	}
	return e.in.Read(p)
}

// Write implements net.Conn.
func (w wire) Write(p []byte) (int, error) {
	w.e.mu.Lock()
	defer w.e.mu.Unlock()
	if w.e.closed || w.e.out.Len()+len(p) > mostAtOne {
		return 0, errOver
	}
	return w.e.out.Write(p)
}

// Close implements net.Conn.
func (w wire) Close() error { w.e.close(); return nil }

// LocalAddr implements net.Conn: there is none.
func (wire) LocalAddr() net.Addr { return &net.UnixAddr{} }

// RemoteAddr implements net.Conn: there is none.
func (wire) RemoteAddr() net.Addr { return &net.UnixAddr{} }

// SetDeadline implements net.Conn; the engine has its own.
func (wire) SetDeadline(time.Time) error { return nil }

// SetReadDeadline implements net.Conn.
func (wire) SetReadDeadline(time.Time) error { return nil }

// SetWriteDeadline implements net.Conn.
func (wire) SetWriteDeadline(time.Time) error { return nil }
