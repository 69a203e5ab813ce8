package probe

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/userstack"
)

const (
	innerMTU  = 1400 // octets; what the device assumes, for IKEv2 does not tell
	markerLen = 4
)

// Login is what a person needs to connect.
type Login struct {
	Dial     string // the name or address that leads to the gateway
	Identity string // what the gateway calls itself, by which a tunnel is asked for
	User     string
	Password string
	Roots    *x509.CertPool
	Suites   []ike.Suite
	KeyLog   io.Writer // nil: keys are not logged
	// Keepalive is how often a translation on the way is kept open.
	Keepalive time.Duration
	// IKEPort and NATTPort are 500 and 4500 in the world.
	IKEPort, NATTPort uint16
}

// Tunnel is a standing session.
type Tunnel struct {
	Given ike.Established
	Stack *userstack.Stack

	mu     sync.Mutex
	ini    *ike.Initiator
	opener *esp.Opener
	sealer *esp.Sealer
	conns  [2]net.Conn // UDP 500, UDP 4500
	natt   bool
	up     chan error
	keyLog io.Writer
	// keepalive is how often an octet is sent that keeps a translation open (RFC 3948 §4).
	keepalive time.Duration
	ended     error
	stop      context.CancelFunc
	wait      sync.WaitGroup
}

// Errors that say at which station outside of the gateway a login is lost.
var (
	ErrSilent500  = errors.New("nothing answers on UDP 500: the gateway does not run, its address is wrong, or the way to it drops UDP 500")
	ErrSilent4500 = errors.New("UDP 500 is answered and UDP 4500 is not: a router on the way drops it, or does not forward it to the gateway")
)

// Connect logs in. The context bounds the login.
func Connect(ctx context.Context, u Underlay, l Login) (*Tunnel, error) {
	addrs, err := dialAddresses(ctx, u, l.Dial)
	if err != nil {
		return nil, fmt.Errorf("the gateway's name %s: %w", l.Dial, err)
	}
	var gw netip.Addr
	for _, a := range addrs {
		if u.Address(a).IsValid() {
			gw = a
			break
		}
	}
	if !gw.IsValid() {
		return nil, fmt.Errorf("the gateway %s has no address of a family that this network has", l.Dial)
	}
	t := &Tunnel{up: make(chan error, 1), keyLog: l.KeyLog, keepalive: l.Keepalive}
	for i, port := range []uint16{l.IKEPort, l.NATTPort} {
		if t.conns[i], err = u.DialUDP(netip.AddrPortFrom(gw, port)); err != nil {
			t.closeConns()
			return nil, err
		}
	}
	local := addrPort(t.conns[0].LocalAddr())
	t.ini, err = ike.NewInitiator(ike.Caller{Name: l.Identity, User: l.User, Password: l.Password, Roots: l.Roots, Suites: l.Suites, Rand: rand.Reader,
		Local: local, Remote: netip.AddrPortFrom(gw, l.IKEPort), Now: time.Now, LogKeys: l.KeyLog != nil})
	if err != nil {
		t.closeConns()
		return nil, err
	}
	run, stop := context.WithCancel(context.Background())
	t.stop = stop
	for i := range t.conns {
		t.wait.Go(func() { t.read(i) })
	}
	t.wait.Go(func() { t.tick(run) })
	t.mu.Lock()
	t.perform(t.ini.Start(time.Now()))
	t.mu.Unlock()
	select {
	case err = <-t.up:
	case <-ctx.Done():
		err = ctx.Err()
	}
	if err != nil {
		silent := errors.Is(err, ike.ErrNoAnswer) || errors.Is(err, context.DeadlineExceeded)
		t.mu.Lock()
		answered := t.natt
		t.mu.Unlock()
		t.Close()
		switch {
		case silent && answered:
			err = ErrSilent4500
		case silent:
			err = ErrSilent500
		}
		return nil, err
	}
	return t, nil
}

func dialAddresses(ctx context.Context, u Underlay, name string) ([]netip.Addr, error) {
	if a, err := netip.ParseAddr(name); err == nil {
		return []netip.Addr{a}, nil
	}
	return u.Resolve(ctx, name)
}

func addrPort(a net.Addr) netip.AddrPort {
	ap, _ := netip.ParseAddrPort(a.String())
	return netip.AddrPortFrom(ap.Addr().Unmap(), ap.Port())
}

// perform does what the protocol machine wants done; t.mu is held.
func (t *Tunnel) perform(outs []ike.Output) {
	for _, o := range outs {
		switch o := o.(type) {
		case ike.Send:
			if o.To.NATT {
				_, _ = t.conns[1].Write(append(make([]byte, markerLen, markerLen+len(o.Data)), o.Data...))
			} else {
				_, _ = t.conns[0].Write(o.Data)
			}
		case ike.Float:
			t.natt = true
		case ike.KeyRow:
			fmt.Fprintf(t.keyLog, "%s:%s\n", o.Table, o.Row)
		case ike.Established:
			t.tell(t.install(o))
		case ike.Failed:
			t.ended = o.Err
			t.tell(o.Err)
		}
	}
}

func (t *Tunnel) tell(err error) {
	select {
	case t.up <- err:
	default:
	}
}

func (t *Tunnel) install(e ike.Established) error {
	var err error
	t.Given = e
	if t.opener, err = esp.NewOpener(e.Child.In, e.Child.Algorithm, e.Child.InKey); err != nil {
		return err
	}
	if t.sealer, err = esp.NewSealer(e.Child.Out, e.Child.Algorithm, e.Child.OutKey); err != nil {
		return err
	}
	t.Stack, err = userstack.New(e.Addresses, innerMTU, t.Send)
	return err
}

// Send puts a packet into the tunnel, whatever the routes say.
func (t *Tunnel) Send(b []byte) {
	buf := make([]byte, esp.Headroom+len(b)+esp.Tailroom)
	copy(buf[esp.Headroom:], b)
	if out, err := t.sealer.Seal(buf, esp.Headroom, len(b)); err == nil {
		_, _ = t.conns[1].Write(out)
	}
}

func (t *Tunnel) read(i int) {
	buf := make([]byte, 4096)
	for {
		n, err := t.conns[i].Read(buf)
		if err != nil {
			t.mu.Lock()
			over := t.ended != nil
			t.mu.Unlock()
			if over || errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) {
				return
			}
			time.Sleep(20 * time.Millisecond) // the port may be unreachable for a while
			continue
		}
		b := buf[:n]
		if i == 1 {
			if n < markerLen || binary.BigEndian.Uint32(b) != 0 {
				t.handleESP(b)
				continue
			}
			b = b[markerLen:]
		}
		t.mu.Lock()
		t.perform(t.ini.Handle(time.Now(), append([]byte(nil), b...)))
		t.mu.Unlock()
	}
}

func (t *Tunnel) handleESP(b []byte) {
	t.mu.Lock()
	opener, stack := t.opener, t.Stack
	t.mu.Unlock()
	if opener == nil || stack == nil {
		return
	}
	if inner, err := opener.Open(b); err == nil {
		stack.Inject(inner)
	}
}

// tick drives retransmission, and keeps the home router's translation alive (RFC 3948 §2.3).
func (t *Tunnel) tick(ctx context.Context) {
	ticker := time.NewTicker(100 * time.Millisecond)
	defer ticker.Stop()
	kept := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-ticker.C:
			t.mu.Lock()
			t.perform(t.ini.Tick(now))
			if t.Stack != nil && now.Sub(kept) >= t.keepalive {
				kept = now
				_, _ = t.conns[1].Write([]byte{0xff})
			}
			t.mu.Unlock()
		}
	}
}

// Ended tells why the session is over, nil while it stands.
func (t *Tunnel) Ended() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.ended
}

func (t *Tunnel) closeConns() {
	for _, c := range t.conns {
		if c != nil {
			_ = c.Close()
		}
	}
}

// Close tells the gateway that the session is over, and ends.
func (t *Tunnel) Close() {
	t.mu.Lock()
	t.perform(t.ini.End(time.Now()))
	if t.ended == nil {
		t.ended = net.ErrClosed
	}
	t.mu.Unlock()
	t.stop()
	t.closeConns()
	t.wait.Wait()
	if t.Stack != nil {
		t.Stack.Close()
	}
}
