// Package rough treats a server as careless and hostile callers do: it connects and resets, closes one direction, stops in the middle of
// what is valid, sends what is not, or says nothing.
package rough

import (
	"crypto/tls"
	"math/rand/v2"
	"net"
	"sync"
	"time"
)

// Way is one way to treat a connection.
type Way byte

// The ways, as far as a connection knows them.
const (
	Reset    Way = iota // at once
	Partial             // a part of what is valid, then a reset
	HalfOpen            // a part of what is valid, then the end of this direction
	Garbage             // octets that mean nothing
	Silence             // nothing, for a while
	Whole               // what is valid, and a reset in place of reading the answer
	ways
)

// Treat treats one connection in a way; at says where valid is cut, of 256.
func Treat(c net.Conn, w Way, at byte, valid []byte) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(2 * time.Second))
	part := valid[:len(valid)*int(at)/256]
	switch w % ways {
	case Reset:
		abort(c)
	case Partial:
		_, _ = c.Write(part)
		abort(c)
	case HalfOpen:
		_, _ = c.Write(part)
		if half, ok := c.(interface{ CloseWrite() error }); ok {
			_ = half.CloseWrite()
		}
		_ = c.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		_, _ = c.Read(make([]byte, 512))
	case Garbage:
		b := make([]byte, 1+2*int(at))
		for i := range b {
			b[i] = byte(rand.Uint32())
		}
		_, _ = c.Write(b)
		_ = c.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		_, _ = c.Read(make([]byte, 512))
	case Silence:
		time.Sleep(time.Duration(at) * time.Millisecond / 4)
	case Whole:
		_, _ = c.Write(valid)
		abort(c)
	}
}

// abort has the connection reset when it is closed, where it is the system's.
func abort(c net.Conn) {
	if t, ok := c.(*tls.Conn); ok {
		c = t.NetConn()
	}
	if t, ok := c.(*net.TCPConn); ok {
		_ = t.SetLinger(0)
	}
	_ = c.Close()
}

// Callers lets many callers treat a server in every way, a few at a time.
func Callers(dial func() (net.Conn, error), valid []byte, many int) {
	turn := make(chan struct{}, 16)
	var all sync.WaitGroup
	for n := range many {
		turn <- struct{}{}
		all.Go(func() {
			defer func() { <-turn }()
			if c, err := dial(); err == nil {
				Treat(c, Way(n), byte(rand.Uint32()), valid)
			}
		})
	}
	all.Wait()
}
