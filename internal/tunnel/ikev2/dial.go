package ikev2

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/eaptls"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/underlay"
)

const byeTime = 400 * time.Millisecond // for the gateway to say that it heard of the end

// Names of the ports that a Login may have others in place of.
const (
	PortIKE  = "ike"  // UDP 500
	PortNATT = "natt" // UDP 4500
)

// Dialer is the device's side.
type Dialer struct{}

// held is the two associations of a Child SA.
type held struct {
	pair
	waits bool // it is sent with once something comes by it
}

// older is an association that was deleted, and until when it is received with: what left before the deletion may come after it.
type older struct {
	opener *esp.Opener
	until  time.Time
}

// device is a standing session, or one that comes about.
type device struct {
	given   ike.Established
	at      netip.Addr // the gateway's
	receive func([][]byte)
	plain   bool // without what the kernel offers for joined datagrams

	order sync.Mutex // held from the taking of sequence numbers until what has them is sent

	keys  sync.Mutex // guards pairs: what sends must not wait for the protocol machine
	pairs []held     // of associations, the one that is sent with last
	older []older    // of which something may still come

	mu     sync.Mutex // guards what follows
	ini    *ike.Initiator
	way    atomic.Pointer[carrier]
	gw     netip.Addr
	ports  []uint16      // by which it is dialled
	here   chan struct{} // once the gateway has heard where this device is
	natt   bool
	stands bool
	up     chan error
	keyLog io.Writer
	// keepalive is how often an octet is sent that keeps a translation open (RFC 3948 §4).
	keepalive time.Duration
	inside    func() // ends what a login left going on
	ended     error
	bye       chan struct{} // once the end is told: its answer
	largest   int           // UDP payload that the tunnel is for, in octets; 0: the way is not measured
	carries   atomic.Int32  // what was measured, inside
	stop      context.CancelFunc
	closed    sync.Once
	wait      guard.Group
}

// What keeps a device out before the gateway's word.
var (
	errSilent500  = errors.New("nothing answers on UDP 500: the gateway does not run, its address is wrong, or the way to it drops UDP 500")
	errSilentOne  = errors.New("nothing answers on UDP 4500: the gateway does not run, its address is wrong, or the way to it drops UDP 4500")
	errSilentTCP  = errors.New("UDP is not answered, and over TCP a connection opens on which nobody speaks IKE")
	errStopped    = errors.New("the gateway answered, and then said nothing more of the login: what judges it there does not answer (a directory, RADIUS, a full disk), or the way broke off; the gateway's journal says which")
	errLater      = errors.New("the gateway answered, and nobody can judge the login there at the moment: a directory or RADIUS server cannot be asked, its disk is full, or its service is not running; the gateway's journal says which")
	errStalled    = errors.New("the gateway answers over TCP, and what follows does not arrive: packets of full size are lost on the way and nobody says so (path MTU), or what judges logins there does not answer")
	errSilent4500 = errors.New("UDP 500 is answered and UDP 4500 is not: a router on the way drops it, or does not forward it to the gateway")
)

// udpPatience is how long UDP may be silent where there is TCP to fall back to (RFC 9329 §5.1 prefers UDP). Once the gateway has spoken by
// the way that the login takes, UDP is not silent, however long whoever judges the login needs: a second login beside one that is under way
// would be counted as another session.
const udpPatience = 4 * time.Second

// A login that the gateway leaves to be tried again is begun anew for laterTime, with pauses that double: whoever judges it restarts, or
// does not answer.
const (
	laterFirst = 500 * time.Millisecond
	laterTime  = 16 * time.Second
)

// tcpPatience is how long a TCP connection may take to open.
const tcpPatience = 5 * time.Second

// Dial logs in by UDP, and over TCP where UDP is not answered and the gateway offers it.
func (Dialer) Dial(ctx context.Context, u underlay.Underlay, l dial.Login, receive func([][]byte)) (dial.Session, error) {
	d, err := insisting(ctx, u, l, "", receive)
	var on ike.RedirectedError
	for range mostSentOn {
		if !errors.As(err, &on) {
			break
		}
		by := l.Dial
		l.Dial, l.Back = on.To, nil
		if _, literal := netip.ParseAddr(on.To); literal != nil { // an address has no certificate of its own
			l.Identity = on.To
		}
		d, err = insisting(ctx, u, l, by, receive)
	}
	if err != nil {
		var fault *dial.Fault
		if !errors.As(err, &fault) {
			err = &dial.Fault{Code: faultOf(err), Err: err}
		}
		return nil, err
	}
	return d, nil
}

// mostSentOn is how often a device goes on to where it is sent (RFC 5685 §9).
const mostSentOn = 5

// insisting dials one gateway, and again where it leaves the login to be tried again.
func insisting(ctx context.Context, u underlay.Underlay, l dial.Login, sentBy string, receive func([][]byte)) (*device, error) {
	d, err := dialed(ctx, u, l, sentBy, receive)
	for begun, pause := time.Now(), laterFirst; errors.Is(err, ike.ErrLater); pause *= 2 {
		if time.Since(begun)+pause >= laterTime {
			return nil, errLater
		}
		select {
		case <-ctx.Done():
			return nil, errLater
		case <-time.After(pause):
		}
		if d, err = dialed(ctx, u, l, sentBy, receive); err != nil && ctx.Err() != nil {
			return nil, errLater // what was under way then says nothing
		}
	}
	return d, err
}

// dialed dials one gateway; sentBy is the one that sent the device there.
func dialed(ctx context.Context, u underlay.Underlay, l dial.Login, sentBy string, receive func([][]byte)) (*device, error) {
	addrs, err := dial.Addresses(ctx, u, l.Dial)
	if err != nil {
		return nil, &dial.Fault{Code: reason.FaultName, Err: fmt.Errorf("the gateway's name %s: %w", l.Dial, err)}
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
	port500 := cmp.Or(l.Ports[PortIKE], 500)
	ports := []uint16{port500, cmp.Or(l.Ports[PortNATT], 4500)}
	way, err := openDatagrams(u, l.Plain, gw, ports...)
	if err != nil {
		return nil, err
	}
	var silence <-chan time.Time
	if l.TCPPort > 0 {
		silence = time.After(udpPatience)
	}
	first := port500
	if onePort(l) {
		first = ports[1]
	}
	d, err := connect(ctx, silence, way, netip.AddrPortFrom(gw, first), l, sentBy, receive)
	if err == nil {
		d.gw, d.ports, d.plain = gw, ports, l.Plain
		d.measure(l)
	}
	if l.TCPPort == 0 || !errors.Is(err, errSilent500) && !errors.Is(err, errSilent4500) && !errors.Is(err, errSilentOne) ||
		ctx.Err() != nil {
		return d, err
	}
	opens, stop := context.WithTimeout(ctx, tcpPatience)
	remote := netip.AddrPortFrom(gw, l.TCPPort)
	stream, errTCP := openConnection(opens, u, remote)
	stop()
	if errTCP != nil {
		return nil, fmt.Errorf("%w; TCP %d does not answer either", err, l.TCPPort)
	}
	return connect(ctx, nil, stream, remote, l, sentBy, receive)
}

// faultOf names what kept the device out.
func faultOf(err error) reason.Code {
	var refused ike.RefusedError
	switch {
	case errors.Is(err, errStopped), errors.Is(err, errStalled), errors.Is(err, errLater):
		return reason.FaultStopped
	case errors.Is(err, errSilent4500), errors.Is(err, errSilentOne):
		return reason.FaultSilent4500
	case errors.Is(err, errSilent500):
		return reason.FaultSilent500
	case errors.Is(err, errSilentTCP):
		return reason.FaultSilentTCP
	case errors.Is(err, ike.ErrCertificate):
		return reason.FaultCertificate
	case errors.As(err, &refused):
		return reason.FaultRefused
	}
	return reason.FaultOther
}

// onePort tells whether a login begins on UDP 4500, so that one port is enough: by keys of any kind it does.
func onePort(l dial.Login) bool { return l.Key != nil || l.SharedKey != nil }

// connect logs in by one way, which it closes if that fails. A gateway that has said nothing of the login by the end of silence is given
// up.
func connect(ctx context.Context, silence <-chan time.Time, way carrier, gateway netip.AddrPort, l dial.Login, sentBy string,
	receive func([][]byte),
) (*device, error) {
	t := &device{
		at: gateway.Addr(), receive: receive, up: make(chan error, 1), keyLog: l.KeyLog, keepalive: l.Keepalive, here: make(chan struct{}, 1),
	}
	t.way.Store(&way)
	tcp := way.Name() == session.OverTCP
	offer, err := ike.PolicyOf(l.Algorithms)
	if l.KeyLog != nil {
		offer = offer.Legible()
	}
	if err != nil {
		way.Close()
		return nil, err
	}
	ticket, _ := l.Back.(*ike.Ticket)
	if ticket != nil && !time.Now().Before(ticket.Until) {
		ticket = nil
	}
	var mixedIn *ike.MixedIn
	if m := l.MixedIn; m != nil {
		mixedIn = &ike.MixedIn{Identity: m.ID, Secret: m.Secret, Demand: m.Demand}
	}
	inside := eaptls.NewPeer(l.Identity, l.Roots, l.User, l.Password)
	inside.Next = l.NextPassword
	key := l.Key
	if l.InEAP && key != nil {
		inside, key = eaptls.NewKeyPeer(l.Identity, l.Roots, tls.Certificate{Certificate: l.Chain, PrivateKey: key}), nil
	}
	t.inside = inside.Close
	t.ini, err = ike.NewInitiator(ike.Caller{
		Methods: []eap.PeerMethod{inside},
		Name:    l.Identity, User: l.User, Password: l.Password, NextPassword: l.NextPassword, Device: l.Device, Roots: l.Roots, Algorithms: offer, Rand: rand.Reader,
		Local: way.Local(), Remote: gateway, Now: time.Now, LogKeys: l.KeyLog != nil, TCP: tcp, Liveness: l.Liveness,
		Patience: l.Patience, Ticket: ticket, SentBy: sentBy, Key: key, Chain: l.Chain, SharedKey: l.SharedKey, MixedIn: mixedIn, Both: l.Both,
		Floated: onePort(l) && !tcp, Addresses: l.Addresses,
	})
	if err != nil {
		way.Close()
		return nil, err
	}
	run, stop := context.WithCancel(context.Background())
	t.stop = stop
	t.wait.PacketPath("ikev2.device", func() { way.Read(t.handleIKE, t.handleESP) })
	t.wait.Keep("ikev2.deviceTick", func() { t.tick(run) })
	t.mu.Lock()
	t.perform(t.ini.Start(time.Now()))
	t.mu.Unlock()
	err = t.standing(ctx, silence)
	t.inside()
	if err != nil {
		silent := errors.Is(err, ike.ErrNoAnswer) || errors.Is(err, context.DeadlineExceeded)
		t.mu.Lock()
		answered := t.natt
		judging := t.ini.Heard() || answered && onePort(l) // then it answers by the way that the login takes
		t.mu.Unlock()
		if errors.Is(err, ike.ErrCertificate) {
			t.linger() // the gateway is told of it, so that its administrator learns of it
		}
		t.Close()
		switch {
		case silent && judging:
			err = errStopped
		case silent && tcp && answered:
			err = errStalled
		case silent && tcp:
			err = errSilentTCP
		case silent && onePort(l):
			err = errSilentOne
		case silent && answered:
			err = errSilent4500
		case silent:
			err = errSilent500
		}
		return nil, err
	}
	return t, nil
}

// standing waits until the session stands, or cannot come about.
func (t *device) standing(ctx context.Context, silence <-chan time.Time) error {
	for {
		select {
		case err := <-t.up:
			return err
		case <-ctx.Done():
			return ctx.Err()
		case <-silence:
			t.mu.Lock()
			heard := t.ini.Heard()
			t.mu.Unlock()
			if !heard {
				return ike.ErrNoAnswer
			}
		}
	}
}

// on is what carries the session now.
func (t *device) on() carrier { return *t.way.Load() }

var errStays = errors.New("the gateway does not follow a session like this one to another network")

// Move implements dial.Mover: the session goes on from the network that the device is on now, with new ports (RFC 4555). The older ones are
// closed, whatever comes of it.
func (t *device) Move(ctx context.Context, u underlay.Underlay) error {
	if !t.gw.IsValid() || !u.Address(t.gw).IsValid() {
		return errStays
	}
	next, err := openDatagrams(u, t.plain, t.gw, t.ports...)
	if err != nil {
		return err
	}
	t.mu.Lock()
	old := t.on()
	way := carrier(next)
	t.way.Store(&way)
	select {
	case <-t.here: // the answer to an earlier move, which came too late
	default:
	}
	outs, ok := t.ini.Move(time.Now(), addrPort(next.conns[1].LocalAddr()))
	t.wait.PacketPath("ikev2.device", func() { next.Read(t.handleIKE, t.handleESP) })
	t.perform(outs)
	t.mu.Unlock()
	old.Close()
	if !ok {
		return errStays
	}
	select {
	case <-t.here:
		t.search()
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// measure begins to search for the size of what the way carries, where a login wants that.
func (t *device) measure(l dial.Login) {
	if !l.Measure {
		return
	}
	t.largest = t.given.Child.Algorithm.Sealed(cmp.Or(l.MTU, plan.DefaultMTU))
	t.search()
}

// search searches for the size of what the way carries now.
func (t *device) search() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.largest > 0 {
		t.perform(t.ini.Measure(time.Now(), t.largest))
	}
}

// measured notes what was found; t.mu is held.
func (t *device) measured(octets int) { t.carries.Store(int32(t.given.Child.Algorithm.Inner(octets))) }

// Carries implements dial.Measurer.
func (t *device) Carries() int { return int(t.carries.Load()) }

func addrPort(a net.Addr) netip.AddrPort {
	ap, _ := netip.ParseAddrPort(a.String())
	return fold.AddrPort(ap)
}

// perform does what the protocol machine wants done; t.mu is held.
func (t *device) perform(outs []ike.Output) {
	for _, o := range outs {
		switch o := o.(type) {
		case ike.Send:
			t.on().SendIKE(o.To.NATT, o.Data)
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
		case ike.Arrived:
			select {
			case t.here <- struct{}{}:
			default:
			}
		case ike.Dropped:
			t.retire(o.In)
		case ike.Measured:
			t.measured(o.Octets)
		case ike.Failed:
			t.ended = o.Err
			t.tell(o.Err)
		}
	}
}

func (t *device) tell(err error) {
	select {
	case t.up <- err:
	default:
	}
}

func (t *device) install(e ike.Established) error {
	t.given = e
	err := t.add(e.Child, true)
	t.stands = err == nil
	return err
}

// Given is what the gateway gave.
func (t *device) Given() dial.Given {
	g := t.given
	return dial.Given{
		Configuration: tunnel.Configuration{Addresses: g.Addresses, Prefixes: g.Prefixes, DNS: g.DNS, Domains: g.Domains, Routes: g.Routes, Full: g.Full},
		Algorithms:    g.Suite, Over: t.on().Name(), Behind: g.Behind, Back: g.Back, Gateway: t.at, Changed: g.Changed,
	}
}

// Back implements dial.Returner.
func (t *device) Back() any {
	if t.given.Ticket == nil {
		return nil
	}
	return t.given.Ticket
}

// add takes a Child SA into use. It is sent with from now on where the gateway is ready for it, and else once something comes by it.
func (t *device) add(c ike.Child, ready bool) error {
	opener, err := esp.NewOpener(c.In, c.Algorithm, c.InKey)
	if err != nil {
		return err
	}
	sealer, err := esp.NewSealer(c.Out, c.Algorithm, c.OutKey)
	if err == nil {
		t.keys.Lock()
		defer t.keys.Unlock()
		waits := !ready && len(t.pairs) > 0
		t.pairs = append(t.pairs, held{pair{opener, sealer, c.Most}, waits})
		if n := len(t.pairs); waits {
			t.pairs[n-1], t.pairs[n-2] = t.pairs[n-2], t.pairs[n-1]
		}
	}
	return err
}

// retire sends no more by a Child SA, and receives by it for a moment.
func (t *device) retire(in uint32) {
	t.keys.Lock()
	defer t.keys.Unlock()
	now := time.Now()
	t.older = slices.DeleteFunc(t.older, func(o older) bool { return now.After(o.until) })
	for _, p := range t.pairs {
		if p.opener.SPI == in {
			t.older = append(t.older, older{p.opener, now.Add(retiredTime)})
		}
	}
	t.pairs = slices.DeleteFunc(t.pairs, func(p held) bool { return p.opener.SPI == in })
}

// last makes a Child SA the one that is sent with.
func (t *device) last(in uint32) {
	t.keys.Lock()
	defer t.keys.Unlock()
	if i := slices.IndexFunc(t.pairs, func(p held) bool { return p.opener.SPI == in }); i >= 0 {
		p := t.pairs[i]
		t.pairs = append(slices.Delete(t.pairs, i, i+1), p)
	}
}

// Send puts a packet into the tunnel, whatever the routes say.
func (t *device) Send(b []byte) { t.SendAll([]inside.Packet{inside.Bare(b)}) }

// SendAll puts packets into the tunnel, whatever the routes say.
func (t *device) SendAll(ps []inside.Packet) {
	t.keys.Lock()
	var sealer *esp.Sealer
	if n := len(t.pairs); n > 0 {
		sealer = t.pairs[n-1].sealer
	}
	t.keys.Unlock()
	if sealer == nil {
		return
	}
	t.order.Lock()
	defer t.order.Unlock()
	on := t.on()
	_ = sealAll(on, ike.Peer{}, sealer, ps, on.atOnce())
}

func (t *device) handleIKE(b []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.perform(t.ini.Handle(time.Now(), append([]byte(nil), b...)))
	if t.bye != nil && !t.ini.Waiting() { // the gateway has heard that it is over
		select {
		case t.bye <- struct{}{}:
		default:
		}
	}
}

// handleESP opens what came, what came by one association one after the other together.
func (t *device) handleESP(batch []datagram) {
	in := inboxes.Get().(*inbox)
	for len(batch) > 0 {
		spi, ok := esp.SPIOf(batch[0].data)
		n := 1
		for ok && n < len(batch) && batch[n].sameWay(&batch[n-1]) {
			if next, _ := esp.SPIOf(batch[n].data); next != spi {
				break
			}
			n++
		}
		if ok {
			t.open(in, batch[:n], spi)
		}
		batch = batch[n:]
	}
	for i := range in.packets {
		in.plain = append(in.plain, in.packets[i].Bytes())
	}
	if len(in.plain) > 0 {
		t.receive(in.plain)
	}
	in.done()
}

// open opens what came by one association.
func (t *device) open(in *inbox, batch []datagram, spi uint32) {
	opener, waits := t.opener(spi)
	if opener == nil {
		return
	}
	if packets, _, _ := in.open(opener, batch); len(packets) > 0 && waits {
		t.last(spi)
	}
}

// opener finds the association that something came by; waits tells whether it is to be sent with from then on.
func (t *device) opener(spi uint32) (opener *esp.Opener, waits bool) {
	t.keys.Lock()
	defer t.keys.Unlock()
	for i, p := range t.pairs {
		if p.opener.SPI == spi {
			t.pairs[i].waits = false
			return p.opener, p.waits
		}
	}
	for _, o := range t.older {
		if o.opener.SPI == spi && time.Now().Before(o.until) {
			return o.opener, false
		}
	}
	return nil, false
}

// tick drives retransmission, and keeps the home router's translation alive (RFC 3948 §2.3).
func (t *device) tick(ctx context.Context) {
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
			t.renewWorn()
			if t.stands && now.Sub(kept) >= t.keepalive {
				kept = now
				t.on().Keepalive()
			}
			t.mu.Unlock()
		}
	}
}

// renewWorn says how far the keys in use are used up by what they protected.
func (t *device) renewWorn() {
	t.keys.Lock()
	defer t.keys.Unlock()
	if n := len(t.pairs); n > 0 {
		t.ini.Worn(t.pairs[n-1].opener.SPI, t.pairs[n-1].wear())
	}
}

// Ended tells why the session is over, nil while it stands.
func (t *device) Ended() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.ended
}

// linger waits for the gateway's answer to the last thing that it was told.
func (t *device) linger() {
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
func (t *device) Close() { t.closed.Do(t.close) }

func (t *device) close() {
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
	t.on().Close()
	t.wait.Wait()
}
