package radius

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"time"

	wire "layeh.com/radius"
)

// TLSSecret is what both sides share over TLS, where it protects nothing (RFC 6614 §2.3).
const TLSSecret = "radsec"

// Repetition (RFC 5080 §2.2.1): after the first wait, twice as long each time, a tenth more or less.
const (
	firstWait = time.Second
	longWait  = 8 * time.Second
	// mostOpen is how many connections there are to one server: many take no more than sixteen of a client.
	mostOpen  = 8
	mostTried = 64 // datagrams that are no answer and are looked at for one request
)

// Link is the way to one server. It is safe for concurrent use.
type Link struct {
	Address string      // name or address, with a port
	TLS     *tls.Config // nil: by UDP
	From    netip.Addr  // the own address; none: the system's choice
	// Dial opens connections; nil: as the system does.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)

	mu    sync.Mutex
	idle  []net.Conn
	slots chan struct{} // held by who has a connection; nil: nobody had one yet
	over  bool          // nothing is kept any more
}

// Close ends connections that are kept.
func (l *Link) Close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range l.idle {
		_ = c.Close()
	}
	l.idle, l.over = nil, true
}

// Exchange sends a request and gives its answer, which is judged. It ends with ctx, which must have a deadline.
func (l *Link) Exchange(ctx context.Context, p *Packet) (*Packet, error) {
	if l.TLS != nil {
		p.Secret = []byte(TLSSecret)
	}
	b, err := encode(p)
	if err != nil {
		return nil, err
	}
	if l.TLS != nil {
		return l.overTLS(ctx, b)
	}
	return l.byUDP(ctx, b, p.Secret)
}

func (l *Link) dial(ctx context.Context, network string) (net.Conn, error) {
	if l.Dial != nil {
		return l.Dial(ctx, network, l.Address)
	}
	d := &net.Dialer{}
	switch at := netip.AddrPortFrom(l.From, 0); {
	case !l.From.IsValid():
	case network == "udp":
		d.LocalAddr = net.UDPAddrFromAddrPort(at)
	default:
		d.LocalAddr = net.TCPAddrFromAddrPort(at)
	}
	return d.DialContext(ctx, network, l.Address)
}

// byUDP sends a request from a socket of its own, so that no number of one is another's, and repeats it until there is an answer.
func (l *Link) byUDP(ctx context.Context, request, secret []byte) (*Packet, error) {
	c, err := l.dial(ctx, "udp")
	if err != nil {
		return nil, err
	}
	defer c.Close()
	wait, tried := firstWait, 0
	var odd error // what the last datagram was that was no answer
	buf := make([]byte, wire.MaxPacketLength)
	for ctx.Err() == nil {
		if _, err := c.Write(request); err != nil && !refused(err) {
			return nil, err
		}
		until := time.Now().Add(wait*9/10 + rand.N(wait/5))
		if end, ok := ctx.Deadline(); ok && end.Before(until) {
			until = end
		}
		for ctx.Err() == nil && tried < mostTried {
			_ = c.SetReadDeadline(until)
			n, err := c.Read(buf)
			var no net.Error
			switch {
			case errors.As(err, &no) && no.Timeout():
			case err != nil && refused(err): // the host says that nobody listens: it may yet
				odd = errors.New("nobody listens there")
				select {
				case <-ctx.Done():
				case <-time.After(time.Until(until)):
				}
			case err != nil:
				return nil, err
			default:
				p, err := Decode(buf[:n], request, secret, false)
				if err == nil {
					return p, nil
				}
				odd = err
				tried++
				continue
			}
			break
		}
		wait = min(2*wait, longWait)
	}
	return nil, silent(odd)
}

// silent is that there was no answer, with what there was.
func silent(odd error) error {
	if errors.Is(odd, ErrForged) {
		return odd
	}
	if odd != nil {
		return fmt.Errorf("no answer counts: %w", odd)
	}
	return errors.New("it does not answer; servers also keep silent where they do not know who asks, or share another secret with them")
}

// overTLS sends a request by a connection that nobody else uses meanwhile. One that was kept and turns out to be dead is opened anew, once.
func (l *Link) overTLS(ctx context.Context, request []byte) (*Packet, error) {
	free, err := l.slot(ctx)
	if err != nil {
		return nil, err
	}
	defer free()
	for {
		c, kept, err := l.connected(ctx)
		if err != nil {
			return nil, err
		}
		stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
		p, err := talk(c, request)
		if stop() && err == nil {
			l.keep(c)
			return p, nil
		}
		_ = c.Close()
		if err == nil {
			return p, nil
		}
		if !kept && (errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET)) {
			return nil, errors.New("it closes the connection without a word, as servers do that do not take the certificate of who asks")
		}
		if !kept || ctx.Err() != nil {
			return nil, err
		}
	}
}

// slot waits until a connection may be had; free gives it back.
func (l *Link) slot(ctx context.Context) (free func(), err error) {
	l.mu.Lock()
	if l.slots == nil {
		l.slots = make(chan struct{}, mostOpen)
	}
	slots := l.slots
	l.mu.Unlock()
	select {
	case slots <- struct{}{}:
		return func() { <-slots }, nil
	case <-ctx.Done():
		return nil, errors.New("all connections to it are taken, and none becomes free")
	}
}

func (l *Link) connected(ctx context.Context) (c net.Conn, kept bool, err error) {
	l.mu.Lock()
	if n := len(l.idle); n > 0 {
		c, l.idle = l.idle[n-1], l.idle[:n-1]
	}
	l.mu.Unlock()
	if c != nil {
		return c, true, nil
	}
	raw, err := l.dial(ctx, "tcp")
	if err != nil {
		return nil, false, err
	}
	t := tls.Client(raw, l.TLS)
	if err := t.HandshakeContext(ctx); err != nil {
		_ = raw.Close()
		return nil, false, err
	}
	return t, false, nil
}

// Connect opens a connection over TLS and keeps it, and tells what the server showed.
func (l *Link) Connect(ctx context.Context) (tls.ConnectionState, error) {
	free, err := l.slot(ctx)
	if err != nil {
		return tls.ConnectionState{}, err
	}
	defer free()
	c, _, err := l.connected(ctx)
	if err != nil {
		return tls.ConnectionState{}, err
	}
	l.keep(c)
	return c.(*tls.Conn).ConnectionState(), nil
}

func (l *Link) keep(c net.Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over {
		_ = c.Close()
		return
	}
	l.idle = append(l.idle, c)
}

func talk(c net.Conn, request []byte) (*Packet, error) {
	if _, err := c.Write(request); err != nil {
		return nil, err
	}
	b, err := ReadPacket(c)
	if err != nil {
		return nil, err
	}
	return Decode(b, request, []byte(TLSSecret), true)
}

// ReadPacket reads one from a stream.
func ReadPacket(r io.Reader) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	n := int(binary.BigEndian.Uint16(head[2:]))
	if n < 20 || n > wire.MaxPacketLength {
		return nil, fmt.Errorf("a packet that claims to have %d octets", n)
	}
	b := append(head, make([]byte, n-4)...)
	_, err := io.ReadFull(r, b[4:])
	return b, err
}

// refused tells whether a host said that nobody listens.
func refused(err error) bool { return errors.Is(err, syscall.ECONNREFUSED) }
