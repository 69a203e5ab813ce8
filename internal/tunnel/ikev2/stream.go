package ikev2

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/guard"
)

// IKE and ESP over TCP (RFC 9329), for networks that drop UDP: the caller begins with streamPrefix, and every message has its
// length in front, of two octets that count themselves.
const (
	streamPrefix = "IKETCP"
	lengthLen    = 2
	mostMessage  = 1<<16 - 1 - lengthLen // octets of one message: what its length can say
	arenaSize    = 2 * mostMessage

	maxStreams   = 4096             // open at once
	maxStrangers = maxStreams / 2   // of them without a session
	strangeShare = 64               // of those from one source: nobody takes the room of all
	prefixTime   = 10 * time.Second // for the prefix to come
	strangerTime = 60 * time.Second // for a session to stand
	streamIdle   = 10 * time.Minute
	streamQueue  = 512 // messages that wait for the caller to take them; more are lost, as on any link
)

// streams are the TCP ports and connections of a gateway.
type streams struct {
	mu        sync.Mutex
	listeners map[uint16]net.Listener
	conns     map[netip.AddrPort]*stream
	strangers crowd.Count // connections without a session
	wait      guard.Group
	over      bool
}

type stream struct {
	conn net.Conn
	peer ike.Peer
	port uint16
	out  chan []byte
	gone chan struct{}
	live atomic.Bool // a session came this way
	from netip.Addr  // where the caller really is
}

// open opens what is not open yet. Nothing is open that was not before if one fails.
func (s *server) openStreams(ports []uint16) (map[uint16]net.Listener, error) {
	fresh := map[uint16]net.Listener{}
	s.streams.mu.Lock()
	defer s.streams.mu.Unlock()
	for _, port := range ports {
		if s.streams.listeners[port] != nil {
			continue
		}
		err := errors.New("this service was started without a way to listen on TCP")
		var ln net.Listener
		if s.ListenTCP != nil {
			ln, err = s.ListenTCP(port)
		}
		if err != nil {
			for _, opened := range fresh {
				_ = opened.Close()
			}
			return nil, fmt.Errorf("tunnels over TCP: cannot listen on port %d: %w; choose another tcp-port", port, err)
		}
		fresh[port] = ln
	}
	return fresh, nil
}

// useStreams takes new listeners into use, and closes those that are not wanted any more with all that came by them.
func (s *server) useStreams(ports []uint16, fresh map[uint16]net.Listener) {
	st := &s.streams
	st.mu.Lock()
	defer st.mu.Unlock()
	for port, ln := range st.listeners {
		if !slices.Contains(ports, port) {
			_ = ln.Close()
			delete(st.listeners, port)
			for _, c := range st.conns {
				if c.port == port {
					_ = c.conn.Close()
				}
			}
		}
	}
	for port, ln := range fresh {
		st.listeners[port] = ln
		st.wait.Keep("ikev2.accept", func() { s.accept(ln, port) })
	}
}

func (s *server) closeStreams() {
	s.streams.mu.Lock()
	s.streams.over = true
	for _, ln := range s.streams.listeners {
		_ = ln.Close()
	}
	for _, c := range s.streams.conns {
		_ = c.conn.SetReadDeadline(time.Now()) // what is queued, such as the end of a session, still goes out
	}
	s.streams.mu.Unlock()
	s.streams.wait.Wait()
}

func (s *server) accept(ln net.Listener, port uint16) {
	for {
		conn, err := ln.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(50 * time.Millisecond) // out of descriptors, say
			continue
		}
		from, _ := netip.ParseAddrPort(conn.RemoteAddr().String())
		c := &stream{
			conn: conn, port: port, peer: ike.Peer{Addr: fold.AddrPort(from), NATT: true, TCP: true},
			out: make(chan []byte, streamQueue), gone: make(chan struct{}),
			from: s.host.SeenAt(fold.AddrPort(from)).Addr(),
		}
		if !s.streams.add(c) {
			_ = conn.Close()
			continue
		}
		s.streams.wait.Go("ikev2.streamWriter", func() { c.write() })
		s.streams.wait.PacketPath("ikev2.streamReader", func() {
			s.read(c)
			s.streams.remove(c)
		})
	}
}

func (s *streams) add(c *stream) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over || len(s.conns) >= maxStreams || s.strangers.All() >= maxStrangers || s.strangers.Of(c.from) >= strangeShare {
		return false
	}
	s.conns[c.peer.Addr] = c
	s.strangers.Add(c.from)
	return true
}

func (s *streams) remove(c *stream) {
	s.mu.Lock()
	delete(s.conns, c.peer.Addr)
	if !c.live.Load() {
		s.strangers.Remove(c.from)
	}
	s.mu.Unlock()
	close(c.gone)
}

// send queues a message for the connection from an address; without one, or where the caller does not take what waits, it is lost.
func (s *streams) send(to netip.AddrPort, parts ...[]byte) {
	s.mu.Lock()
	c := s.conns[to]
	s.mu.Unlock()
	if c == nil {
		return
	}
	size := lengthLen
	for _, p := range parts {
		size += len(p)
	}
	b := binary.BigEndian.AppendUint16(make([]byte, 0, size), uint16(size))
	for _, p := range parts {
		b = append(b, p...)
	}
	select {
	case c.out <- b:
	default:
	}
}

// alive notes that a session comes by a connection.
func (s *streams) alive(p ike.Peer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.conns[p.Addr]; p.TCP && c != nil && !c.live.Swap(true) {
		s.strangers.Remove(c.from)
	}
}

func (c *stream) write() {
	defer c.conn.Close()
	w := bufio.NewWriterSize(c.conn, 64<<10)
	for {
		select {
		case b := <-c.out:
			_ = c.conn.SetWriteDeadline(time.Now().Add(prefixTime))
			if _, err := w.Write(b); err != nil {
				return
			}
			if len(c.out) == 0 && w.Flush() != nil {
				return
			}
		case <-c.gone:
			for len(c.out) > 0 {
				_, _ = w.Write(<-c.out)
			}
			_ = c.conn.SetWriteDeadline(time.Now().Add(time.Second))
			_ = w.Flush()
			return
		}
	}
}

// read takes what a caller sends, in batches of what has come already.
func (s *server) read(c *stream) {
	begun := time.Now()
	_ = c.conn.SetReadDeadline(begun.Add(prefixTime))
	r := bufio.NewReaderSize(c.conn, 16<<10)
	prefix := make([]byte, len(streamPrefix))
	if _, err := io.ReadFull(r, prefix); err != nil || string(prefix) != streamPrefix {
		return
	}
	for {
		limit := begun.Add(strangerTime)
		if c.live.Load() {
			limit = time.Now().Add(streamIdle)
		}
		if c.conn.SetReadDeadline(limit) != nil || s.streams.ends() { // in this order: whoever ends it sets a deadline after saying so
			return
		}
		// Whoever sends slowly holds no arena, unless the message is a large one.
		head, err := r.Peek(lengthLen)
		if err == nil {
			_, err = r.Peek(min(int(binary.BigEndian.Uint16(head)), r.Size()))
		}
		if err != nil {
			return
		}
		if err := s.readBatch(c, r); err != nil {
			return
		}
	}
}

// arenas hold the messages of one batch. A connection has one only while it reads: thousands may be open.
var arenas = sync.Pool{New: func() any { return new([arenaSize]byte) }}

// readBatch takes the messages that have come already, of which there is one at least.
func (s *server) readBatch(c *stream, r *bufio.Reader) error {
	arena := arenas.Get().(*[arenaSize]byte)
	defer arenas.Put(arena)
	batch, used := make([]datagram, 0, batchSize), 0
	var err error
	for used+mostMessage <= len(arena) {
		var n int
		if n, err = readMessage(r, arena[used:used+mostMessage]); err != nil {
			break
		}
		batch = append(batch, datagram{from: c.peer.Addr, tcp: true, data: arena[used : used+n : used+n]})
		if used += n; !wholeWaits(r) { // what came is not to wait for what did not
			break
		}
	}
	if s.handleNATT(batch) && !c.live.Load() {
		s.streams.alive(c.peer)
	}
	return err
}

// wholeWaits tells whether the next message has come whole.
func wholeWaits(r *bufio.Reader) bool {
	if r.Buffered() < lengthLen {
		return false
	}
	head, err := r.Peek(lengthLen)
	return err == nil && r.Buffered() >= int(binary.BigEndian.Uint16(head))
}

func (s *streams) ends() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.over
}

var errMessage = errors.New("a message of this length cannot be")

func readMessage(r io.Reader, into []byte) (int, error) {
	var head [lengthLen]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, err
	}
	n := int(binary.BigEndian.Uint16(head[:])) - lengthLen
	if n <= 0 || n > len(into) {
		return 0, errMessage
	}
	return io.ReadFull(r, into[:n])
}
