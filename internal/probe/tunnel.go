package probe

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/userstack"
)

const (
	innerMTU  = 1400 // octets; what the device assumes where it is not told, for IKEv2 does not tell
	markerLen = 4
	byeTime   = 400 * time.Millisecond // for the gateway to say that it heard of the end
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
	MTU      int       // of the tunnel, inside, in octets; 0: what devices assume
	// Keepalive is how often a translation on the way is kept open.
	Keepalive time.Duration
	// IKEPort and NATTPort are 500 and 4500 in the world.
	IKEPort, NATTPort uint16
	// TCPPort is where the gateway also answers over TCP; 0: nowhere. It is used where UDP stays without an answer.
	TCPPort uint16
}

// pair is the two associations of a Child SA.
type pair struct {
	opener *esp.Opener
	sealer *esp.Sealer
	waits  bool // it is sent with once something comes by it
}

// Tunnel is a standing session.
type Tunnel struct {
	Given ike.Established
	Stack *userstack.Stack

	keys  sync.Mutex // guards pairs: what sends must not wait for the protocol machine
	pairs []pair     // of associations, the one that is sent with last

	mu     sync.Mutex // guards what follows
	ini    *ike.Initiator
	way    carrier
	natt   bool
	up     chan error
	keyLog io.Writer
	// keepalive is how often an octet is sent that keeps a translation open (RFC 3948 §4).
	keepalive time.Duration
	mtu       int // of the tunnel, inside, in octets
	ended     error
	bye       chan struct{} // once the end is told: its answer
	stop      context.CancelFunc
	closed    sync.Once
	wait      sync.WaitGroup
}

// Errors that say at which station outside of the gateway a login is lost.
var (
	ErrSilent500  = errors.New("nothing answers on UDP 500: the gateway does not run, its address is wrong, or the way to it drops UDP 500")
	errName       = errors.New("the gateway's name")
	ErrSilentTCP  = errors.New("UDP is not answered, and over TCP a connection opens on which nobody speaks IKE")
	ErrSilent4500 = errors.New("UDP 500 is answered and UDP 4500 is not: a router on the way drops it, or does not forward it to the gateway")
)

// udpPatience is how long UDP is waited for where there is TCP to fall back to (RFC 9329 §5.1 prefers UDP).
const udpPatience = 4 * time.Second

// tcpPatience is how long a TCP connection may take to open.
const tcpPatience = 5 * time.Second

// Connect logs in. The context bounds the login.
func Connect(ctx context.Context, u Underlay, l Login) (*Tunnel, error) {
	addrs, err := dialAddresses(ctx, u, l.Dial)
	if err != nil {
		return nil, fmt.Errorf("%w %s: %w", errName, l.Dial, err)
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
	way, err := openDatagrams(u, gw, l.IKEPort, l.NATTPort)
	if err != nil {
		return nil, err
	}
	patience := ctx
	if l.TCPPort > 0 {
		var stop context.CancelFunc
		patience, stop = context.WithTimeout(ctx, udpPatience)
		defer stop()
	}
	t, err := connect(patience, way, gw, l)
	if l.TCPPort == 0 || !errors.Is(err, ErrSilent500) && !errors.Is(err, ErrSilent4500) || ctx.Err() != nil {
		return t, err
	}
	dial, stop := context.WithTimeout(ctx, tcpPatience)
	way, errTCP := openConnection(dial, u, netip.AddrPortFrom(gw, l.TCPPort))
	stop()
	if errTCP != nil {
		return nil, fmt.Errorf("%w; TCP %d does not answer either", err, l.TCPPort)
	}
	return connect(ctx, way, gw, l)
}

// connect logs in by one way, which it closes if that fails.
func connect(ctx context.Context, way carrier, gw netip.Addr, l Login) (*Tunnel, error) {
	t := &Tunnel{way: way, up: make(chan error, 1), keyLog: l.KeyLog, keepalive: l.Keepalive, mtu: cmp.Or(l.MTU, innerMTU)}
	tcp := way.Name() == "TCP"
	remote := l.IKEPort
	if tcp {
		remote = l.TCPPort
	}
	var err error
	t.ini, err = ike.NewInitiator(ike.Caller{
		Name: l.Identity, User: l.User, Password: l.Password, Roots: l.Roots, Suites: l.Suites, Rand: rand.Reader,
		Local: way.Local(), Remote: netip.AddrPortFrom(gw, remote), Now: time.Now, LogKeys: l.KeyLog != nil, TCP: tcp,
	})
	if err != nil {
		way.Close()
		return nil, err
	}
	run, stop := context.WithCancel(context.Background())
	t.stop = stop
	t.wait.Go(func() { way.Read(t.handleIKE, t.handleESP) })
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
		if errors.Is(err, ike.ErrCertificate) {
			t.linger() // the gateway is told of it, so that its administrator learns of it
		}
		t.Close()
		switch {
		case silent && tcp:
			err = ErrSilentTCP
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
			t.way.SendIKE(o.To.NATT, o.Data)
		case ike.Float:
			t.natt = true
		case ike.KeyRow:
			fmt.Fprintf(t.keyLog, "%s:%s\n", o.Table, o.Row)
		case ike.Established:
			t.tell(t.install(o))
		case ike.Renewed:
			if err := t.add(o.Child, o.Asked); err != nil {
				t.ended = err
			}
		case ike.Preferred:
			t.last(o.In)
		case ike.Dropped:
			t.keys.Lock()
			t.pairs = slices.DeleteFunc(t.pairs, func(p pair) bool { return p.opener.SPI == o.In })
			t.keys.Unlock()
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
	t.Given = e
	err := t.add(e.Child, true)
	if err != nil {
		return err
	}
	t.Stack, err = userstack.New(e.Addresses, t.mtu, t.Send)
	return err
}

// add takes a Child SA into use. It is sent with from now on where the gateway is ready for it, and else once something comes by it.
func (t *Tunnel) add(c ike.Child, ready bool) error {
	opener, err := esp.NewOpener(c.In, c.Algorithm, c.InKey)
	if err != nil {
		return err
	}
	sealer, err := esp.NewSealer(c.Out, c.Algorithm, c.OutKey)
	if err == nil {
		t.keys.Lock()
		defer t.keys.Unlock()
		waits := !ready && len(t.pairs) > 0
		t.pairs = append(t.pairs, pair{opener, sealer, waits})
		if n := len(t.pairs); waits {
			t.pairs[n-1], t.pairs[n-2] = t.pairs[n-2], t.pairs[n-1]
		}
	}
	return err
}

// last makes a Child SA the one that is sent with.
func (t *Tunnel) last(in uint32) {
	t.keys.Lock()
	defer t.keys.Unlock()
	if i := slices.IndexFunc(t.pairs, func(p pair) bool { return p.opener.SPI == in }); i >= 0 {
		p := t.pairs[i]
		t.pairs = append(slices.Delete(t.pairs, i, i+1), p)
	}
}

// Address4 is the leased IPv4 address; not valid if there is none.
func (t *Tunnel) Address4() netip.Addr {
	for _, a := range t.Given.Addresses {
		if a.Is4() {
			return a
		}
	}
	return netip.Addr{}
}

// Send puts a packet into the tunnel, whatever the routes say.
func (t *Tunnel) Send(b []byte) {
	buf := make([]byte, esp.Headroom+len(b)+esp.Tailroom)
	copy(buf[esp.Headroom:], b)
	t.keys.Lock()
	var sealer *esp.Sealer
	if n := len(t.pairs); n > 0 {
		sealer = t.pairs[n-1].sealer
	}
	t.keys.Unlock()
	if sealer == nil {
		return
	}
	if out, err := sealer.Seal(buf, esp.Headroom, len(b)); err == nil {
		t.way.SendESP(out)
	}
}

func (t *Tunnel) handleIKE(b []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.bye != nil { // the gateway has heard that it is over
		select {
		case t.bye <- struct{}{}:
		default:
		}
		return
	}
	t.perform(t.ini.Handle(time.Now(), append([]byte(nil), b...)))
}

func (t *Tunnel) handleESP(b []byte) {
	spi, ok := esp.SPIOf(b)
	var opener *esp.Opener
	waits := false
	t.keys.Lock()
	for i, p := range t.pairs {
		if ok && p.opener.SPI == spi {
			opener, waits = p.opener, p.waits
			t.pairs[i].waits = false
		}
	}
	t.keys.Unlock()
	t.mu.Lock()
	stack := t.Stack
	t.mu.Unlock()
	if opener == nil || stack == nil {
		return
	}
	if inner, _, err := opener.Open(b); err == nil {
		if waits {
			t.last(spi)
		}
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
				t.way.Keepalive()
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

// linger waits for the gateway's answer to the last thing that it was told.
func (t *Tunnel) linger() {
	bye := make(chan struct{}, 1)
	t.mu.Lock()
	t.bye = bye
	t.mu.Unlock()
	select {
	case <-bye:
	case <-time.After(byeTime):
	}
}

// Close tells the gateway that the session is over, and ends. A second call does nothing.
func (t *Tunnel) Close() { t.closed.Do(t.close) }

func (t *Tunnel) close() {
	t.mu.Lock()
	told := t.ini.End(time.Now())
	t.perform(told)
	if t.ended == nil {
		t.ended = net.ErrClosed
	}
	t.mu.Unlock()
	if len(told) > 0 {
		t.linger()
	}
	t.stop()
	t.way.Close()
	t.wait.Wait()
	if t.Stack != nil {
		t.Stack.Close()
	}
}
